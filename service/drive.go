package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/pack"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/device"
	"freshseal/store"
	"freshseal/wire"
)

// drive carries a replacement on in the background until it waits, is held or
// is over. A replacement has at most one driver.
func (s *Service) drive(id int64, action replacement.Action) {
	if _, has := s.driven.LoadOrStore(id, struct{}{}); has || action == replacement.Nothing {
		return
	}
	s.running.Go(func() {
		defer s.driven.Delete(id)
		select {
		case s.places <- struct{}{}:
			defer func() { <-s.places }()
		case <-s.stopping.Done():
			return
		}
		for action != replacement.Nothing {
			event, err := s.perform(s.stopping, id, action)
			if s.stopping.Err() != nil {
				return // taken up at the next start
			}
			if err != nil {
				event = replacement.Event{Kind: failureOf(action), Why: err.Error()}
			}
			if action, err = s.advance(context.WithoutCancel(s.stopping), id, event); err != nil {
				s.options.Log.Error("replacement stands still", "replacement", idText(id), "event", event.Kind, "error", err)
				return
			}
		}
	})
}

// failureOf is the event that an action's failure without further facts is.
func failureOf(action replacement.Action) replacement.EventKind {
	if action == replacement.ClearAway {
		return replacement.NotClearable
	}
	return replacement.Failed
}

// advance tells the stage machine what happened, and the watchers.
func (s *Service) advance(ctx context.Context, id int64, e replacement.Event) (replacement.Action, error) {
	r, action, err := s.store.Advance(ctx, id, e, s.moment())
	if err != nil {
		return replacement.Nothing, err
	}
	s.options.Log.Info("replacement", "replacement", idText(id), "device", r.Device, "slot", r.Slot, "stage", r.Stage, "state", r.State, "event", e.Kind, "why", e.Why)
	s.watchers.tell(id)
	return action, nil
}

// takeUpOne goes on with a replacement that was running when the service
// stopped. Where a step was under way that may not be repeated, nobody knows
// whether it was done, and a person decides.
func (s *Service) takeUpOne(ctx context.Context, r store.Replacement) error {
	steps, err := s.store.Steps(ctx, r.ID)
	if err != nil {
		return err
	}
	event := replacement.Event{Kind: replacement.Interrupted}
	if n := len(steps); n > 0 && steps[n-1].EndedAt.IsZero() && !steps[n-1].Repeatable {
		event = replacement.Event{Kind: replacement.Unknown, Why: fmt.Sprintf("the service was stopped during the step “%s”, which may not be repeated; see on the device whether it was done: %s", steps[n-1].Name, steps[n-1].Text)}
	}
	action, err := s.advance(ctx, r.ID, event)
	if err != nil {
		return err
	}
	s.drive(r.ID, action)
	return nil
}

// perform does what the stage machine wants and says what became of it.
func (s *Service) perform(ctx context.Context, id int64, action replacement.Action) (replacement.Event, error) {
	j, err := s.load(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	target, err := s.target(ctx, j.device)
	if err != nil {
		return replacement.Event{}, err
	}
	steps, err := s.store.Steps(ctx, id)
	if err != nil {
		return replacement.Event{}, err
	}
	j.recall(steps)
	runner := &device.Runner{Dial: s.way(j.device.Site), Target: target, Hard: s.hard, Journal: journal{s, id, j.Since, steps}}
	defer runner.Close()
	switch action {
	case replacement.PutBack:
		return s.putBack(ctx, j, runner)
	case replacement.ClearAway:
		if err := s.clearAway(ctx, j, runner); err != nil {
			return replacement.Event{Kind: replacement.NotClearable, Why: "given up; " + err.Error()}, nil
		}
		return replacement.Event{Kind: replacement.ClearedAway}, nil
	}
	return s.carry(ctx, j, runner)
}

// carry carries out the stage in hand.
func (s *Service) carry(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	var err error
	switch j.Stage {
	case replacement.Survey:
		err = s.survey(ctx, j, runner)
	case replacement.Request:
		err = s.request(ctx, j, runner)
	case replacement.Sign:
		return s.sign(ctx, j)
	case replacement.Gate, replacement.Mirror:
		// Nothing to wait for and nobody to carry it to.
	case replacement.Prove:
		err = s.prove(ctx, j, runner)
	case replacement.Seal:
		err = s.seal(ctx, j, runner)
	default:
		err = s.section(ctx, j, runner, procedure.Section(j.Stage))
	}
	return outcome(err), nil
}

// outcome makes an event of what became of a stage.
func outcome(err error) replacement.Event {
	var step *device.StepError
	switch {
	case err == nil:
		return replacement.Event{Kind: replacement.Done}
	case errors.As(err, &step) && step.Unknown():
		return replacement.Event{Kind: replacement.Unknown, Why: err.Error()}
	}
	return replacement.Event{Kind: replacement.Failed, Why: err.Error()}
}

// survey reads what stands, on the wire and on the device.
func (s *Service) survey(ctx context.Context, j job, runner *device.Runner) error {
	reading, err := s.read(ctx, j.slot)
	if err != nil {
		return err
	}
	if leaf := reading.Leaf(); leaf != nil {
		if err := s.store.SetOld(ctx, j.ID, leaf.SHA256); err != nil {
			return err
		}
	}
	return s.section(ctx, j, runner, procedure.Survey)
}

// request has the device make key and request, and checks what it made.
func (s *Service) request(ctx context.Context, j job, runner *device.Runner) error {
	scope, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Request, j.scope)
	if err != nil {
		return err
	}
	made, err := request.Parse([]byte(scope["request"].Text))
	if err != nil {
		return fmt.Errorf("what the device made: %w", err)
	}
	if wrong := finding.Errors(request.Check(j.Plan.V, made)); len(wrong) > 0 {
		return fmt.Errorf("the request is not what was planned: %s; %s", wrong[0].What, wrong[0].Remedy)
	}
	return s.store.SetRequest(ctx, j.ID, made)
}

// sign has bench sign at once, or waits for the desk.
func (s *Service) sign(ctx context.Context, j job) (replacement.Event, error) {
	if j.Signer == DeskSigner {
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.Signer}, nil
	}
	if len(j.Path.V) > 0 { // signed already, when the service was stopped
		return replacement.Event{Kind: replacement.Done}, nil
	}
	made, err := request.Parse(j.Request)
	if err != nil {
		return replacement.Event{}, err
	}
	signed, err := s.bench.Sign(made, benchLifetime, s.now())
	if err != nil {
		return replacement.Event{}, err
	}
	path, found, err := s.judgeNew(ctx, signed[0], signed[1:], j.Replacement)
	if err != nil {
		return replacement.Event{}, err
	}
	if wrong := finding.Errors(found); len(wrong) > 0 {
		return replacement.Event{}, fmt.Errorf("what bench signed cannot be used: %s", wrong[0].What)
	}
	return replacement.Event{Kind: replacement.Done}, s.store.SetPath(ctx, j.ID, path.Certificates)
}

// scopeOfChain adds what comes from the signer to the values of a job. Before
// anything goes to the device, the leaf's key is compared with the request's:
// servers' own tests do not do that.
func (s *Service) scopeOfChain(ctx context.Context, j job) (procedure.Scope, chain.Path, error) {
	certificates, err := s.store.Certificates(ctx, j.Path.V)
	if err != nil {
		return nil, chain.Path{}, err
	}
	made, err := request.Parse(j.Request)
	if err != nil {
		return nil, chain.Path{}, err
	}
	if !certificates[0].SameKey(made.SPKI()) {
		return nil, chain.Path{}, errors.New("the leaf is for another key than the request's; nothing was sent")
	}
	path := chain.Path{Certificates: certificates, Complete: true}
	scope := j.scope.With("request_key", procedure.ContentValue(made.PublicKeyPEM()))
	for name, form := range map[string]pack.Form{
		"leaf": pack.Leaf, "leaf_first": j.procedure.Traits.Form, "intermediates": pack.Intermediates, "anchor": pack.Root,
	} {
		content, err := pack.Make(form, path)
		if errors.Is(err, pack.ErrNoRoot) {
			continue // a step that names it will say that it is missing
		}
		if err != nil {
			return nil, path, err
		}
		scope[name] = procedure.ContentValue(content)
	}
	return scope, path, nil
}

// section carries out a stage that consists of the procedure's steps alone.
func (s *Service) section(ctx context.Context, j job, runner *device.Runner, section procedure.Section) error {
	scope := j.scope
	if len(j.Path.V) > 0 {
		var err error
		if scope, _, err = s.scopeOfChain(ctx, j); err != nil {
			return err
		}
	}
	_, err := runner.Carry(ctx, j.procedure.Procedure, section, scope)
	return err
}

// prove reads the slot until it serves the new leaf with its whole chain.
func (s *Service) prove(ctx context.Context, j job, runner *device.Runner) error {
	_, path, err := s.scopeOfChain(ctx, j)
	if err != nil {
		return err
	}
	err = s.await(ctx, j, func(reading wire.Reading) string {
		leaf := reading.Leaf()
		switch {
		case leaf == nil:
			return reading.Why.What
		case leaf.SHA256 != j.NewSHA256:
			return fmt.Sprintf("it serves “%s” (SHA-256 %s…) instead of the new leaf", leaf.ShortName(), leaf.SHA256[:16])
		}
		for _, f := range chain.Served(path, reading.Chain) {
			if f.Code == finding.ChainNotServed {
				return "it serves the new leaf, and " + f.What
			}
		}
		return ""
	})
	if err != nil {
		return err
	}
	return s.section(ctx, j, runner, procedure.Prove)
}

// await reads the slot again and again until wrong finds nothing wrong, for as
// long as a restart of this family may take.
func (s *Service) await(ctx context.Context, j job, wrong func(wire.Reading) string) error {
	const pause = 400 * time.Millisecond
	limit := time.Now().Add(j.procedure.Traits.RestartLimit)
	for {
		reading, err := s.read(ctx, j.slot)
		if err != nil {
			return err
		}
		said := wrong(reading)
		if said == "" {
			return nil
		}
		if time.Now().After(limit) {
			return fmt.Errorf("after %s the wire still says: %s", j.procedure.Traits.RestartLimit, said)
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// install records which leaf the slot must serve from now on, and names its
// condition anew.
func (s *Service) install(ctx context.Context, j job, sha256 string) error {
	if err := s.store.SetInstalled(ctx, j.SlotID, sha256); err != nil {
		return err
	}
	row, err := s.store.Slot(ctx, j.Device, j.Slot)
	if err != nil {
		return err
	}
	rules, err := s.policies(ctx)
	if err != nil {
		return err
	}
	stand(&row, rules.of(row))
	return s.store.SetJudgement(ctx, row)
}

// seal records what is installed now and clears the device of what is not
// needed any more. That may fail without harm: the work is done and proven.
func (s *Service) seal(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.install(ctx, j, j.NewSHA256); err != nil {
		return err
	}
	if err := s.section(ctx, j, runner, procedure.Seal); err != nil {
		s.options.Log.Warn("sealed, and something is left on the device", "replacement", idText(j.ID), "error", err)
	}
	return nil
}

// putBack puts the old certificate back and proves that it is served again.
func (s *Service) putBack(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	if _, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Revert, j.scope); err != nil {
		return replacement.Event{}, fmt.Errorf("putting the old certificate back failed: %w; the copies are on the device, by hand: %s", err, s.byHand(j))
	}
	err := s.await(ctx, j, func(reading wire.Reading) string {
		leaf := reading.Leaf()
		switch {
		case leaf == nil && j.OldSHA256 == "":
			return ""
		case leaf == nil:
			return reading.Why.What
		case leaf.SHA256 == j.OldSHA256, j.OldSHA256 == "" && leaf.SHA256 != j.NewSHA256:
			return ""
		}
		return fmt.Sprintf("it serves “%s” (SHA-256 %s…) instead of the old leaf", leaf.ShortName(), leaf.SHA256[:16])
	})
	if err != nil {
		return replacement.Event{}, fmt.Errorf("the old files are back, and %w; by hand: %s", err, s.byHand(j))
	}
	if j.slot.Installed == j.NewSHA256 {
		if err := s.install(ctx, j, ""); err != nil {
			return replacement.Event{}, err
		}
	}
	if err := s.clearAway(ctx, j, runner); err != nil {
		s.options.Log.Warn("reverted, and something is left on the device", "replacement", idText(j.ID), "error", err)
	}
	return replacement.Event{Kind: replacement.Restored}, nil
}

// byHand are the commands that put the old certificate back.
func (s *Service) byHand(j job) string {
	commands := ""
	for _, step := range j.procedure.Expand(procedure.Revert, j.scope) {
		if ready, err := procedure.ExpandStep(procedure.Revert, step, j.scope); err == nil {
			commands += "\n  " + ready.Text
		}
	}
	return commands
}

func (s *Service) clearAway(ctx context.Context, j job, runner *device.Runner) error {
	_, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Cancel, j.scope)
	return err
}

// recall adds to the values of a job what its steps captured so far.
func (j *job) recall(steps []store.Step) {
	for _, step := range steps {
		if step.OK && step.Capture != "" {
			j.scope = j.scope.With(step.Capture, procedure.ContentValue(step.Captured))
		}
	}
}

// journal writes the runner's steps into the store and tells the watchers.
type journal struct {
	s     *Service
	id    int64
	since int64        // entries up to here belong to earlier actions
	steps []store.Step // as they stood when the action began
}

// Done finds a step that was done in this very action before the service was stopped.
func (w journal) Done(section procedure.Section, name string) ([]byte, bool) {
	for _, step := range w.steps {
		if step.ID > w.since && step.Section == string(section) && step.Name == name && step.OK {
			return step.Captured, true
		}
	}
	return nil, false
}

// Begin is called before a step.
func (w journal) Begin(ctx context.Context, e device.Entry) (int64, error) {
	defer w.s.watchers.tell(w.id)
	return w.s.store.BeginStep(ctx, store.Step{ReplacementID: w.id, Section: string(e.Section), Name: e.Name, Verb: string(e.Verb),
		Text: e.Text, Repeatable: e.Repeat, BeganAt: w.s.moment()})
}

// End is called after a step.
func (w journal) End(ctx context.Context, id int64, o device.Outcome) error {
	defer w.s.watchers.tell(w.id)
	return w.s.store.EndStep(ctx, store.Step{ID: id, ReplacementID: w.id, EndedAt: w.s.moment(), OK: o.OK, ExitCode: o.Exit, Output: o.Output, Why: o.Why,
		Capture: o.Capture, Captured: o.Captured})
}

// Ask lets a person cancel, revert or resume a replacement.
func (s *Service) Ask(ctx context.Context, id string, what replacement.EventKind, by string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	why := ""
	if what != replacement.AskedResume {
		why = by + " asked for it"
	}
	action, err := s.advance(ctx, n, replacement.Event{Kind: what, Why: why})
	var impossible replacement.Impossible
	switch {
	case errors.As(err, &impossible):
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id), fmt.Sprintf("it is %s in stage %s", impossible.State, impossible.Stage), "see: freshseal replacement show " + id}
	case errors.Is(err, store.ErrTaken):
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s cannot be done with %s", wish[what], id), "its device has another replacement under way", "wait for that one"}
	case err != nil:
		return Replacement{}, notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
	}
	s.options.Log.Info("asked", "what", what, "replacement", id, "by", by)
	s.drive(n, action)
	return s.Replacement(ctx, id)
}

var wish = map[replacement.EventKind]string{
	replacement.AskedCancel: "cancelling", replacement.AskedRevert: "reverting", replacement.AskedResume: "resuming",
}

// Event is what watchers are told, in order of ID.
type Event struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Kind  string    `json:"kind" required:"true" enum:"stage,step,state"`
	Stage string    `json:"stage" required:"true"`
	State string    `json:"state" required:"true"`
	Text  string    `json:"text,omitempty"`
}

// JSON is the event on one line.
func (e Event) JSON() []byte {
	line, _ := json.Marshal(e) // plain fields cannot fail
	return line
}

// Watch hands every event after a known one to take, as they come, until the
// replacement stands still (its state is not running), take fails or the context ends.
func (s *Service) Watch(ctx context.Context, id string, after int64, take func(Event) error) error {
	n, err := idNumber(id)
	if err != nil {
		return err
	}
	wake, done := s.watchers.join(n)
	defer done()
	for {
		r, err := s.store.Replacement(ctx, n)
		if err != nil {
			return notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
		}
		events, err := s.store.Events(ctx, n, after)
		if err != nil {
			return err
		}
		for _, e := range events {
			if err := take(Event{e.ID, e.At.Time, e.Kind, e.Stage, e.State, e.Text}); err != nil {
				return err
			}
			after = e.ID
		}
		if r.State != replacement.Running && len(events) == 0 {
			return nil
		}
		if len(events) > 0 {
			continue
		}
		select {
		case <-wake:
		case <-ctx.Done():
			return ctx.Err()
		case <-s.stopping.Done():
			return nil
		}
	}
}
