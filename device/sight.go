package device

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
)

// Sights tell what a device serves, and compare it with what stood before the first change.
type Sights interface {
	// Wire says what all addresses serve, or those of one node alone; said names for people what is served.
	Wire(ctx context.Context, node string) (word look.Word, said string, err error)
	// Told says what a look of the device's own means.
	Told(name, text string) look.Word
}

// Pauses between looks.
const (
	betweenLooks = time.Second
	firstLooks   = 300 * time.Millisecond // between the first two, of which most agree
)

// HeldError means that the way back cannot go on by itself: what is seen does not say what to undo. Nothing
// was sent.
type HeldError struct {
	What string // that was not undone
	Seen string
}

func (e *HeldError) Error() string { return fmt.Sprintf("%s: %s", e.What, e.Seen) }

// Looks asks the device by the steps of the section look and returns its words, by the names of the looks. journalled
// writes them into the journal; where it is looked again and again they are not.
func (r *Runner) Looks(ctx context.Context, scope *procedure.Scope, journalled bool) (map[string]string, error) {
	ask := func(ctx context.Context, ready procedure.Ready,
		scope *procedure.Scope) (map[string]value.Value, error) {
		return lookQuietly(ctx, r, ready, scope)
	}
	if journalled {
		ask = r.anew
	}
	out := map[string]string{}
	for _, step := range r.Procedure.Steps[procedure.Look] {
		if !step.Holds(scope) {
			continue
		}
		within, err := enteredWeb(ctx, r, step, scope)
		if err == nil {
			var ready procedure.Ready
			if ready, err = step.Expand(procedure.Look, "", within); err == nil {
				var got map[string]value.Value
				if got, err = ask(ctx, ready, within); err == nil {
					for name, v := range got {
						out[name] = v.Text
					}
				}
			}
		}
		if stops(ctx, err) {
			return out, err
		} else if err != nil {
			return out, &unread{err}
		}
	}
	if now, has := out[look.Now]; has && look.Plain(out[look.Next]) == "" &&
		slices.Contains(r.Procedure.Looks(), look.Next) {
		out[look.Next] = now // nothing is staged
	}
	return out, nil
}

// lookQuietly asks by a step that changes nothing, and leaves no trace in the journal.
func lookQuietly(ctx context.Context, r *Runner, ready procedure.Ready,
	scope *procedure.Scope) (map[string]value.Value, error) {
	if err := r.enclose(ctx, false, scope); err != nil {
		return nil, err
	}
	r.hidden = scope.Secrets()
	result, err := r.do(r.steps(ctx), ready, 0)
	if errors.Is(err, errNotSignedIn) {
		if ready, scope, err = signedInAgain(ctx, r, ready, scope); err == nil {
			result, err = r.do(r.steps(ctx), ready, 0)
		}
	}
	if err == nil {
		err = judge(ready, result, scope.Secrets())
	}
	if err != nil {
		if lost(err) {
			r.Close()
		}
		return nil, &StepError{Section: ready.Section, Step: ready.Name(), Why: show(err.Error(), scope.Secrets()),
			Repeat: true, Cause: err}
	}
	return ready.Step.Captured(result.Stdout, result.Stderr, result.Answered)
}

// unread means that the device could not be asked which certificate it has.
type unread struct{ cause error }

func (e *unread) Error() string { return e.cause.Error() }
func (e *unread) Unwrap() error { return e.cause }

// seeLooks looks once at what is named, for one node where that is not empty.
func seeLooks(ctx context.Context, r *Runner, names []string, node string,
	scope *procedure.Scope) (map[string]look.Word, string, error) {
	out, said := map[string]look.Word{}, ""
	if slices.Contains(names, look.Wire) {
		word, what, err := r.Sights.Wire(ctx, node)
		if err != nil {
			return nil, "", err
		}
		out[look.Wire], said = word, what
	}
	if len(names) == len(out) {
		return out, said, nil
	}
	told, err := r.Looks(ctx, scope, false)
	if err != nil && !errors.As(err, new(*unread)) {
		return nil, "", err
	} else if err != nil {
		said += fmt.Sprintf("; the device cannot be asked: %v", err)
	}
	for _, name := range names {
		if name != look.Wire {
			out[name] = r.Sights.Told(name, told[name])
		}
	}
	return out, said, nil
}

// settledLook looks until two looks in a row agree and what they say can be trusted: not before the limit of an end
// that nobody saw has passed, nor before a switch that was reported as done has had its time. What cannot be read is
// tried for as long as a restart may take; then the device's own word decides, then the end of the step that was seen.
func settledLook(ctx context.Context, r *Runner, guard look.Guard, fate Fate, node string,
	scope *procedure.Scope) (map[string]look.Word, string, error) {
	names, began := guard.Names(), time.Now()
	asked := slices.Clone(names)
	if node == "" && !slices.Contains(asked, look.Now) && slices.Contains(r.Procedure.Looks(), look.Now) {
		asked = append(asked, look.Now) // decides where the wire cannot be read
	}
	var last map[string]look.Word
	for n := 0; ; n++ {
		seen, said, err := seeLooks(ctx, r, names, node, scope)
		if err != nil {
			return nil, "", err
		}
		now, spent := r.now(), time.Since(began) // a clock that was set back must not keep anybody waiting
		agree := n > 0 && maps.Equal(seen, last)
		last = seen
		patient := spent < r.Procedure.Traits.RestartLimit // what cannot be read may come back
		switch verdict := guard.Decide(seen); {
		case !agree || fate.mayChange(r.Procedure.Traits, verdict, seen, now, spent):
		case verdict != look.Hold:
			return seen, said, nil
		case patient && slices.Contains(slices.Collect(maps.Values(seen)), look.Unknown):
		default:
			return seen, said, orToldBy(ctx, r, seen, asked, node, fate, scope)
		}
		pause := betweenLooks
		if n == 0 {
			pause = firstLooks
		}
		if err := sleep(ctx, pause); err != nil {
			return nil, "", err
		}
	}
}

// mayChange reports whether what is seen may still become something else by itself, after it was looked at for a time.
func (f Fate) mayChange(traits procedure.Traits, verdict look.Verdict, seen map[string]look.Word, now time.Time,
	spent time.Duration) bool {
	switch {
	case now.Before(f.Until) && spent < f.Limit: // it may still take effect
		return true
	case verdict == look.Pass && f.Done && !atOnce(seen): // it may be on its way
		return now.Before(f.Ended.Add(traits.RestartLimit)) && spent < traits.RestartLimit
	case verdict == look.Send: // it may go back by itself
		return now.Before(f.switched().Add(traits.RollsBack)) && spent < f.Limit+traits.RollsBack
	}
	return false
}

// orToldBy fills in what the wire does not show: by the device's own word, then by the end of the step that was seen.
func orToldBy(ctx context.Context, r *Runner, seen map[string]look.Word, asked []string, node string, fate Fate,
	scope *procedure.Scope) error {
	if seen[look.Wire] != look.Unknown {
		return nil
	}
	more, _, err := seeLooks(ctx, r, asked, node, scope)
	if err != nil {
		return err
	}
	switch word := more[look.Now]; {
	case word == look.Before || word == look.New:
		seen[look.Wire] = word
	case fate.Done:
		seen[look.Wire] = look.New
	case fate.Refused:
		seen[look.Wire] = look.Before
	}
	return nil
}

// atOnce reports whether the device itself says that nothing is on its way.
func atOnce(seen map[string]look.Word) bool {
	return seen[look.Next] == look.Before
}

// guardedUndo sends an undo only where what is seen asks for it, and looks again after it. It reports whether something
// was sent.
func guardedUndo(ctx context.Context, r *Runner, section procedure.Section, step procedure.Step, i int, item string,
	fate Fate, scope *procedure.Scope) (sent bool, err error) {
	undo := step.Undo.Items[i]
	node := ""
	if step.Each == "nodes" {
		node = item
	}
	what := fmt.Sprintf("“%s” was not sent", undo.Step.Name)
	if ready, err := step.UndoReady(i, item, scope); err == nil {
		// it was sent already, and nothing is on its way any more
		if own := r.Journal.Fate(section, ready.Name()); own.LastDone > fate.Last {
			fate.Done = false
		}
	}
	fate.Done = fate.Done && !r.Proven
	const tries = 2
	for n := 0; ; n++ {
		seen, said, err := settledLook(ctx, r, undo.When, fate, node, scope)
		if err != nil {
			return sent, err
		}
		switch undo.When.Decide(seen) {
		case look.Pass:
			return sent, nil
		case look.Hold:
			return sent,
				&HeldError{what, fmt.Sprintf("it is sent when %s, and it is %s (%s)", undo.When, look.Said(seen), said)}
		}
		if n == tries {
			return sent, &HeldError{fmt.Sprintf("“%s” was sent twice", undo.Step.Name),
				fmt.Sprintf("it is still %s (%s)", look.Said(seen), said)}
		}
		within, err := enteredWeb(ctx, r, undo.Step, scope)
		if err != nil {
			return sent, err
		}
		ready, err := step.UndoReady(i, item, within)
		if err != nil {
			return sent, unexpanded(section, undo.Step.Name, err)
		}
		ready.Section = section
		sent = true
		_, err = r.anew(ctx, ready, within)
		if stops(ctx, err) {
			return sent, err
		}
		fate = r.Journal.Fate(section, ready.Name())
		if err == nil { // it takes its time
			err = goneByNow(ctx, r, undo.When, node, scope)
		}
		if err != nil && ctx.Err() != nil {
			return sent, err
		}
		fate.Done = false // that the guard still holds means that it did not work
	}
}

// goneByNow waits until what an undo was sent for is not seen any more, for as long as a restart may take.
func goneByNow(ctx context.Context, r *Runner, guard look.Guard, node string, scope *procedure.Scope) error {
	for until := time.Now().Add(r.Procedure.Traits.RestartLimit); time.Now().Before(until); {
		seen, _, err := seeLooks(ctx, r, guard.Names(), node, scope)
		if err != nil {
			return err
		}
		if guard.Decide(seen) == look.Pass {
			return nil
		}
		if err := sleep(ctx, betweenLooks); err != nil {
			return err
		}
	}
	return nil
}

// Deviation looks at all that must read as before at the end of the way back: every address, what is in use and what
// the next restart would serve. It returns what does not, or the empty text.
func (r *Runner) Deviation(ctx context.Context, scope *procedure.Scope) (string, error) {
	names := []string{look.Wire}
	for _, name := range []string{look.Now, look.Next} {
		if slices.Contains(r.Procedure.Looks(), name) {
			names = append(names, name)
		}
	}
	seen, said, err := seeLooks(ctx, r, names, "", scope)
	if err != nil {
		return "", err
	}
	for _, name := range names {
		switch {
		case seen[name] == look.Before:
		case name == look.Wire:
			return said, nil
		case name == look.Now:
			return fmt.Sprintf("the device says that the certificate in use is %s", seen[name]), nil
		default:
			return fmt.Sprintf("the wire is right, and the device's next restart would serve %s",
				map[look.Word]string{look.New: "the new certificate", look.Other: "a third certificate",
					look.Unknown: "what cannot be read"}[seen[name]]), nil
		}
	}
	return "", nil
}
