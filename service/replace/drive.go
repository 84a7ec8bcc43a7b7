package replace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"strconv"
	"sync"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/https"
	"freshseal/device/ssh"
	"freshseal/service/fleet"
	"freshseal/store"
)

// Drive carries a replacement on in the background until it waits, is held or
// is over. A replacement has at most one driver.
func (s *Service) Drive(id int64, action replacement.Action) {
	if action == replacement.Nothing {
		return
	}
	if _, has := s.driven.LoadOrStore(id, struct{}{}); has {
		return // its driver looks once more before it leaves
	}
	s.drivers.start(&s.running, func() {
		if s.driveOn(id, action) {
			s.lookAgain(id)
		}
	})
}

// lookAgain drives a replacement that somebody let go on just while its driver
// was leaving.
func (s *Service) lookAgain(id int64) {
	r, err := s.store.Replacements.Get(s.stopping, id)
	if err == nil && r.State == replacement.Running {
		s.Drive(id, r.Progress().InHand())
	}
}

// driveOn carries a replacement on until it stands still, and says whether it
// stands where it should. Where the database cannot be written it tries again, so that nothing is left running
// without anybody who drives it.
func (s *Service) driveOn(id int64, action replacement.Action) bool {
	defer s.driven.Delete(id)
	for tries := 0; action != replacement.Nothing; {
		event, err := s.rescued(s.stopping, id, action)
		if s.stopping.Err() != nil {
			return false // taken up at the next start
		}
		if errors.As(err, new(*device.JournalError)) {
			s.log.Error("the journal cannot be written; trying again", "replacement", replacement.Name(id), "error",
				err)
			if !s.pause(&tries) {
				return false
			}
			continue // what became of the step is found out first
		}
		if err != nil {
			event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
		}
		for {
			next, err := s.advance(context.WithoutCancel(s.stopping), id, event)
			if err == nil {
				action = next
				break
			}
			s.log.Error("replacement stands still", "replacement", replacement.Name(id), "event", event.Kind, "error",
				err)
			if errors.As(err, new(replacement.Impossible)) || !s.pause(&tries) {
				return false
			}
		}
	}
	return true
}

// pause waits before something is tried again, longer each time; it is false once the service is being stopped.
func (s *Service) pause(tries *int) bool {
	*tries++
	select {
	case <-time.After(min(time.Duration(*tries)*time.Second, time.Minute)):
		return true
	case <-s.stopping.Done():
		return false
	}
}

// rescued performs an action; a panic in it is a failure of this replacement alone.
func (s *Service) rescued(ctx context.Context, id int64,
	action replacement.Action) (event replacement.Event, err error) {
	defer func() {
		if r := recover(); r != nil {
			s.log.Error("a replacement panicked", "replacement", replacement.Name(id), "panic", r, "stack",
				string(debug.Stack()))
			event, err = replacement.Event{}, fmt.Errorf("the service failed in this stage: %v; the log says where", r)
		}
	}()
	return s.perform(ctx, id, action)
}

// failureOf is the event that an action's failure without further facts is.
func failureOf(action replacement.Action) replacement.EventKind {
	if action == replacement.ClearAway {
		return replacement.NotClearable
	}
	return replacement.Failed
}

// advance tells the stage machine what happened.
func (s *Service) advance(ctx context.Context, id int64, e replacement.Event) (replacement.Action, error) {
	r, action, err := s.store.Replacements.Advance(ctx, id, e, s.moment())
	// another one began to touch the device at this moment
	if errors.Is(err, store.ErrTaken) && e.Kind == replacement.Done {
		r, action, err = s.store.Replacements.Advance(ctx, id,
			replacement.Event{Kind: replacement.Waits, Waiting: replacement.Device}, s.moment())
	}
	if err != nil {
		return replacement.Nothing, err
	}
	s.log.Info("replacement", "replacement", replacement.Name(id), "device", r.Device, "slot", r.Slot, "stage",
		r.Stage, "state", r.State, "event", e.Kind, "why", e.Why)
	if r.State != replacement.Running && r.State != replacement.Waiting {
		if err := s.unexpect(ctx, id); err != nil {
			s.log.Error("judging the slots of a replacement", "replacement", replacement.Name(id), "error", err)
		}
	}
	if r.State.Over() || e.Kind == replacement.AskedAgain {
		s.made.Delete(id)
	}
	return action, nil
}

// unexpect ends what a replacement lets its slots serve, and has them judged by what they serve now.
func (s *Service) unexpect(ctx context.Context, id int64) error {
	targets, err := s.store.Replacements.Targets(ctx, id)
	if err != nil || len(targets[id]) == 0 {
		return err
	}
	j := job{targets: targets[id]}
	s.monitor.Unexpect(j.slotIDs())
	rows := make([]store.Slot, 0, len(j.targets))
	for _, t := range j.targets {
		row, err := s.store.Slots.Get(ctx, t.Device, t.Name)
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return s.monitor.JudgeSlots(ctx, rows)
}

// takeUpOne goes on with a replacement that was running when the service
// stopped. What became of a step that was under way is found out first; see perform.
func (s *Service) takeUpOne(ctx context.Context, r store.Replacement) error {
	action, err := s.advance(ctx, r.ID, replacement.Event{Kind: replacement.Interrupted})
	if err != nil {
		return err
	}
	s.Drive(r.ID, action)
	return nil
}

// perform does what the stage machine wants and says what became of it. Where the replacement then waits, is held or is
// over, what encloses the visit to the device is left first.
func (s *Service) perform(ctx context.Context, id int64, action replacement.Action) (replacement.Event, error) {
	j, err := s.load(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	defer s.lockDevice(j.DeviceID)()
	if err := s.monitor.Expect(ctx, j.Replacement, j.targets); err != nil {
		return replacement.Event{}, err
	}
	runner, leave, err := s.runner(ctx, &j)
	if err != nil {
		return replacement.Event{}, err
	}
	defer leave()
	event, err := s.performed(ctx, &j, runner, action)
	if ctx.Err() != nil || errors.As(err, new(*device.JournalError)) {
		return event, err
	}
	if err != nil {
		event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
	}
	event = s.leaveVisit(ctx, &j, runner, event)
	if after, _, err := j.Progress().On(event); err == nil && after.State == replacement.Sealed {
		return event, s.unexpect(ctx, id) // before it counts as sealed: what changes after that is told of as such
	}
	return event, nil
}

// performed is perform without the end of the visit.
func (s *Service) performed(ctx context.Context, j *job, runner *device.Runner,
	action replacement.Action) (replacement.Event, error) {
	if err := s.reconcile(ctx, j, runner, action); err != nil {
		return s.outcome(err)
	}
	switch action {
	case replacement.PutBack:
		return s.putBack(ctx, *j, runner)
	case replacement.ClearAway:
		return s.giveUp(ctx, *j, runner)
	}
	if j.restsBefore() != "" {
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.GoAhead}, nil
	}
	return s.runStage(ctx, *j, runner)
}

// leaveVisit leaves what encloses the visit, unless the work goes on at once. That it cannot be left is what the
// replacement is held for.
func (s *Service) leaveVisit(ctx context.Context, j *job, runner *device.Runner,
	event replacement.Event) replacement.Event {
	after, _, err := j.Progress().On(event)
	if err != nil || after.State == replacement.Running || event.Waiting == replacement.Person ||
		event.Kind == replacement.ClearWaits {
		return event
	}
	if s.refresh(ctx, j, runner) != nil || !runner.Within(j.scope) {
		return event
	}
	if event.Runs { // something of it may still be running on the device
		return event
	}
	if err := j.place.Take(ctx, s.access, j.device.Site); err != nil { // one that was given while the device restarted
		return event
	}
	switch err := runner.LeaveVisit(ctx, j.scope); {
	case err == nil, ctx.Err() != nil:
		return event
	case errors.Is(err, device.ErrPerson) && j.Stopping && !j.Progress().Touched() && !j.Reverting:
		return replacement.Event{Kind: replacement.ClearWaits}
	case errors.Is(err, device.ErrPerson):
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Person}
	default:
		why := err.Error()
		if event.Why != "" {
			why = event.Why + "; and " + why
		}
		return replacement.Event{Kind: replacement.Unknown, Why: why}
	}
}

// refresh gives the runner the journal as it is now.
func (s *Service) refresh(ctx context.Context, j *job, runner *device.Runner) error {
	steps, err := s.store.Journal.Steps(ctx, j.ID)
	if err == nil {
		runner.Journal = journal{s, j, steps}
	}
	return err
}

// lockDevice waits until nobody else works on a device, and returns how that ends.
func (s *Service) lockDevice(id int64) (unlock func()) {
	lock, _ := s.busy.LoadOrStore(id, &sync.Mutex{})
	lock.(*sync.Mutex).Lock()
	return lock.(*sync.Mutex).Unlock
}

// tryDevice is lockDevice for those who do not wait.
func (s *Service) tryDevice(id int64) (unlock func(), ok bool) {
	lock, _ := s.busy.LoadOrStore(id, &sync.Mutex{})
	return lock.(*sync.Mutex).Unlock, lock.(*sync.Mutex).TryLock()
}

// runner makes ready to work on a job's device; leave ends that.
func (s *Service) runner(ctx context.Context, j *job) (r *device.Runner, leave func(), err error) {
	steps, err := s.store.Journal.Steps(ctx, j.ID)
	if err != nil {
		return nil, nil, err
	}
	if err := s.recall(j, steps); err != nil {
		return nil, nil, err
	}
	helpers, err := s.helpers(ctx, *j)
	if err != nil {
		return nil, nil, err
	}
	sights, err := s.sights(ctx, j)
	if err != nil {
		return nil, nil, err
	}
	if err := j.place.Take(ctx, s.access, j.device.Site); err != nil { // the last that can fail: it is given by leave
		return nil, nil, err
	}
	r = &device.Runner{Now: s.clock, Stop: s.stopAsked(j.ID), Helpers: helpers, Sights: sights, Edition: j.Edition,
		Proven: j.Stage == replacement.Seal, Leaf: func(ctx context.Context, address, name string) (string, error) {
			return s.monitor.Leaf(ctx, j.device.Site, address, name)
		}, Dial: s.access.Way(j.device.Site), Procedure: j.procedure.Procedure, Work: j.material.Work, Hard: s.hard,
		Journal: journal{s, j, steps},
		SSH:     func(ctx context.Context) (ssh.Target, error) { return s.access.SSH(ctx, j.device) },
		Config:  func(ctx context.Context) (ssh.Target, error) { return s.access.Config(ctx, j.device) },
		Web:     func(ctx context.Context) (https.Target, error) { return s.web(ctx, *j) }}
	if as, err := j.scope.Value(j.procedure.As); j.procedure.As != "" && err == nil {
		r.As = as.Words
		if word, err := j.scope.Value(procedure.AsPassword); err == nil {
			r.AsWord = word.Text
		}
	}
	if j.device.Family == fleet.OwnFamily {
		r.Own = own{s, *j}
	}
	return r, func() { r.Close(); j.place.Give() }, nil
}

// stopAsked returns a function that reports whether a person asked a replacement to stop. It asks the database at
// most once a second.
func (s *Service) stopAsked(id int64) func(context.Context) bool {
	var asked bool
	var at time.Time
	return func(ctx context.Context) bool {
		if asked || time.Since(at) < time.Second {
			return asked
		}
		row, err := s.store.Replacements.Get(ctx, id)
		asked, at = err == nil && row.Stopping && !row.Reverting, time.Now()
		return asked
	}
}

// reconcile finds out what became of the steps whose end nobody saw, before anything else is done on the device. That
// one failed stops the way there; the way back only has to know that nothing of it is still running.
func (s *Service) reconcile(ctx context.Context, j *job, runner *device.Runner, action replacement.Action) error {
	for _, open := range openSteps(runner.Journal.(journal).steps, j.Resumed) {
		if open.Unknown && open.Repeatable && open.Verb != "run" {
			continue // nothing of it can still be under way, and it is done again
		}
		err := runner.Recover(ctx, open.ID, procedure.Section(open.Section), open.Name, open.Repeatable, j.scope)
		var step *device.StepError
		seen := errors.As(err, &step) && !step.Runs && runner.Guarded(procedure.Section(open.Section), open.Name,
			j.scope)
		if errors.As(err, new(*device.JournalError)) || err != nil && !seen &&
			(action == replacement.Advance || !mayGoBack(err, open)) {
			return err
		}
		if err := s.refresh(ctx, j, runner); err != nil {
			return err
		}
		if err := s.recall(j, runner.Journal.(journal).steps); err != nil {
			return err
		}
	}
	return nil
}

// openSteps are the steps after an entry of the journal whose end nobody saw, and that were not done again since,
// oldest first. What was done after them, such as signing out, hides none.
func openSteps(steps []store.Step, after int64) []store.Step {
	var out []store.Step
	for i, step := range steps {
		if step.ID <= after || !step.EndedAt.IsZero() && !step.Unknown {
			continue
		}
		if !slices.ContainsFunc(steps[i+1:], func(later store.Step) bool {
			return later.Section == step.Section && later.Name == step.Name
		}) {
			out = append(out, step)
		}
	}
	return out
}

// mayGoBack says that the way back may begin although a step of the way there came to
// no known end: it failed for certain, or a person wants the way back and the device
// can tell no more. Where the device says that the command cannot be ended, or the
// step is one of the way back itself, it may not.
func mayGoBack(err error, last store.Step) bool {
	var step *device.StepError
	if !errors.As(err, &step) {
		return false
	}
	there := last.Section != string(procedure.Revert) && last.Section != string(procedure.Cancel) &&
		last.Section != string(device.Final)
	return !step.Unknown() || there && (!step.Runs || errors.Is(err, device.ErrCannotTell))
}

// giveUp clears the device of what a replacement left there before anything of it was
// changed, and does what is always done.
func (s *Service) giveUp(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	err := s.clearAway(ctx, j, runner, true)
	if errors.Is(err, device.ErrPerson) {
		return replacement.Event{Kind: replacement.ClearWaits}, nil
	}
	left := runner.Leave(ctx, j.scope, false)
	if errors.Is(left, device.ErrPerson) {
		return replacement.Event{Kind: replacement.ClearWaits}, s.leave(ctx, j, err)
	}
	if err = errors.Join(err, left); err != nil {
		return replacement.Event{Kind: replacement.NotClearable, Why: "given up; " + err.Error()}, s.leave(ctx, j, err)
	}
	return replacement.Event{Kind: replacement.ClearedAway}, nil
}

// runStage runs the current stage.
func (s *Service) runStage(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	var err error
	switch j.Stage {
	case replacement.Survey:
		err = s.survey(ctx, j, runner)
	case replacement.Request:
		err = s.request(ctx, j, runner)
	case replacement.Sign:
		return s.sign(ctx, j)
	case replacement.Gate:
		return s.gate(ctx, j)
	case replacement.Backup:
		return s.backup(ctx, j, runner)
	case replacement.Prove:
		err = s.prove(ctx, j, runner)
	case replacement.Mirror:
		err = s.mirror(ctx, j, runner)
	case replacement.Seal:
		err = s.seal(ctx, j, runner)
	default:
		err = s.section(ctx, j, runner, procedure.Section(j.Stage))
	}
	return s.outcome(err)
}

// outcome makes an event of what became of a stage. That the journal cannot be written is no outcome.
func (s *Service) outcome(err error) (replacement.Event, error) {
	var step *device.StepError
	switch {
	case err == nil:
		return replacement.Event{Kind: replacement.Done}, nil
	case errors.As(err, new(*device.JournalError)):
		return replacement.Event{}, err
	case errors.Is(err, device.ErrPerson):
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Person}, nil
	case errors.Is(err, device.ErrStopped):
		return replacement.Event{Kind: replacement.Stopped, Why: err.Error()}, nil
	case errors.As(err, &step) && step.Unknown():
		return replacement.Event{Kind: replacement.Unknown, Why: err.Error(), Runs: step.Runs}, nil
	}
	return replacement.Event{Kind: replacement.Failed, Why: err.Error()}, nil
}

// backup looks once more at what stands, and keeps what the way back will need. Nothing live is touched.
func (s *Service) backup(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	done, err := s.lookBefore(ctx, &j, runner)
	if err != nil {
		return s.outcome(err)
	}
	if done {
		return replacement.Event{Kind: replacement.Already}, nil
	}
	j.material.OldSHA256 = j.OldSHA256
	j.scope = j.scope.WithMaterial(j.material)
	return s.outcome(s.section(ctx, j, runner, procedure.Backup))
}

// recall adds to the values of a job what its steps captured so far.
func (s *Service) recall(j *job, steps []store.Step) error {
	values, err := s.capturedIn(steps)
	j.scope = j.scope.WithAll(values)
	return err
}

// capturedIn is all that steps captured.
func (s *Service) capturedIn(steps []store.Step) (map[string]procedure.Value, error) {
	out := map[string]procedure.Value{}
	for _, step := range steps {
		if !step.OK || step.Capture == "" {
			continue
		}
		values, err := s.openCaptured(step)
		if err != nil {
			return nil, err
		}
		maps.Copy(out, values)
	}
	return out, nil
}

// How what a step captured is kept.
const (
	keptValues = "values"
	keptSealed = "sealed"
)

func capturePurpose(stepID int64) string { return "step/" + strconv.FormatInt(stepID, 10) }

// keepCaptured writes what a step captured, sealed where one of it is secret.
func (s *Service) keepCaptured(step *store.Step, values map[string]procedure.Value) error {
	if len(values) == 0 {
		return nil
	}
	text, err := json.Marshal(values)
	if err != nil {
		return err
	}
	step.Capture, step.Captured = keptValues, text
	for _, v := range values {
		if v.Secret {
			step.Capture, step.Captured = keptSealed, s.box.Seal(capturePurpose(step.ID), text)
		}
	}
	return nil
}

func (s *Service) openCaptured(step store.Step) (map[string]procedure.Value, error) {
	text := step.Captured
	if step.Capture == keptSealed {
		var err error
		if text, err = s.box.Open(capturePurpose(step.ID), text); err != nil {
			return nil, err
		}
	}
	var values map[string]procedure.Value
	return values, json.Unmarshal(text, &values)
}

// journal writes the runner's steps into the store.
type journal struct {
	s     *Service
	j     *job
	steps []store.Step // as they stood when the action began
}

// Done finds a step that was done in this very action. Where a person let the
// replacement go on since, only what may not be repeated counts, and what was cleared
// away: that is not there to be cleared again.
func (w journal) Done(section procedure.Section, name, text string) (map[string]procedure.Value, bool) {
	for _, step := range w.steps {
		if step.ID > w.j.Since && step.OK && step.Section == string(section) && step.Name == name &&
			step.Text == text && (step.ID > w.j.Resumed || !step.Repeatable || section == procedure.Cancel) {
			if step.Capture == "" {
				return nil, true
			}
			values, err := w.s.openCaptured(step)
			return values, err == nil
		}
	}
	return nil, false
}

// Fate is what the whole journal knows of a step, entries that were written since included.
func (w journal) Fate(section procedure.Section, name string) (f device.Fate) {
	steps, err := w.s.store.Journal.Steps(context.WithoutCancel(w.s.stopping), w.j.ID)
	if err != nil {
		steps = w.steps
	}
	for _, step := range steps {
		if step.Section != string(section) || step.Name != name {
			continue
		}
		f.Begun, f.Last = true, step.ID
		seen := !step.EndedAt.IsZero() && !step.Unknown
		if seen {
			f.Ended, f.Refused = step.EndedAt.Time, step.Refused
		} else if step.LimitAt.Time.After(f.Until) {
			f.Until, f.Limit = step.LimitAt.Time, step.LimitAt.Sub(step.BeganAt.Time)
		}
		if step.OK {
			f.Done, f.LastDone = true, step.ID
		}
	}
	return f
}

// Begin is called before a step.
func (w journal) Begin(ctx context.Context, e device.Entry) (int64, error) {
	step := store.Step{ReplacementID: w.j.ID, Section: string(e.Section), Name: e.Name, Verb: e.Verb,
		Text: e.Text, Repeatable: e.Repeat, BeganAt: w.s.moment(), LimitAt: store.At(w.s.clock().Add(e.Limit))}
	if e.Hand != nil {
		step.Task = w.s.newTask(w.j.ID, *e.Hand)
	}
	return w.s.store.Journal.BeginStep(ctx, step)
}

// Show is called while a dialog is under way. That it is shown is not worth failing for.
func (w journal) Show(ctx context.Context, id int64, screen string, percent int) {
	if err := w.s.store.Journal.ShowStep(ctx, store.Step{ID: id, ReplacementID: w.j.ID, Output: screen,
		Percent: percent}, w.s.moment()); err != nil {
		w.s.log.Warn("a screen is not shown", "replacement", replacement.Name(w.j.ID), "error", err)
	}
}

// End is called after a step.
func (w journal) End(ctx context.Context, id int64, o device.Outcome) error {
	step := store.Step{ID: id, ReplacementID: w.j.ID, EndedAt: w.s.moment(), OK: o.OK, Unknown: o.Unknown,
		Refused: o.Refused, ExitCode: o.Exit, Output: o.Output, Why: o.Why}
	if err := w.s.keepCaptured(&step, o.Captured); err != nil {
		return err
	}
	w.s.keepFiles(&step, o.Captured)
	return w.s.store.Journal.EndStep(ctx, step)
}
