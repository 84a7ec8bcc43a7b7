package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/https"
	"freshseal/device/ssh"
)

// visit is one stretch of work on a device for one replacement.
type visit struct {
	*Service
	j       *Job
	Runner  Runner
	journal journal
	stop    func(context.Context) bool // whether a person asked the replacement to stop
}

// Runner carries out the steps of a procedure on a device; see device.Runner.
type Runner interface {
	Run(ctx context.Context, section procedure.Section, scope *procedure.Scope) (*procedure.Scope, error)
	Back(ctx context.Context, section, first procedure.Section, scope *procedure.Scope) error
	Keep(ctx context.Context, scope *procedure.Scope) error
	Looks(ctx context.Context, scope *procedure.Scope, sure bool) (map[string]string, error)
	Look(ctx context.Context, path string) ([]byte, error)
	Deviation(ctx context.Context, scope *procedure.Scope) (string, error)
	Recover(ctx context.Context, id int64, section procedure.Section, name string, repeatable bool,
		scope *procedure.Scope) error
	Guarded(section procedure.Section, name string, scope *procedure.Scope) bool
	Undone() bool
	Unmake(ctx context.Context, scope *procedure.Scope) error
	Afresh(ctx context.Context, scope *procedure.Scope) error
	Finish(ctx context.Context, scope *procedure.Scope) error
	Leave(ctx context.Context, scope *procedure.Scope, keeps bool) error
	Within(scope *procedure.Scope) bool
	LeaveVisit(ctx context.Context, scope *procedure.Scope) error
	Tidy(ctx context.Context, sealed bool, scope *procedure.Scope, more ...string) error
	Use(journal device.Journal)
	Close()
}

// performed returns perform without the end of the visit.
func (w *visit) performed(ctx context.Context, action replacement.Action) (replacement.Event, error) {
	if err := w.reconcile(ctx, action); err != nil {
		return w.outcome(err)
	}
	switch action {
	case replacement.PutBack:
		return w.putBack(ctx)
	case replacement.ClearAway:
		return w.giveUp(ctx)
	}
	if w.j.RestsBefore() != "" {
		return replacement.Event{Kind: replacement.Waits, Waiting: replacement.GoAhead}, nil
	}
	return w.runStage(ctx)
}

// leaveVisit runs the steps that leave the visit, unless the work continues at once. If they fail, the replacement is
// held.
func (w *visit) leaveVisit(ctx context.Context, event replacement.Event) replacement.Event {
	after, _, err := w.j.Progress().On(event)
	if err != nil || after.State == replacement.Running || event.Waiting == replacement.Person ||
		event.Kind == replacement.ClearWaits {
		return event
	}
	if w.refresh(ctx) != nil || !w.Runner.Within(w.j.Scope) {
		return event
	}
	if event.Runs { // something of it may still be running on the device
		return event
	}
	if err := w.access.Take(ctx, w.j.place, w.j.Box.Site); err != nil { // one that was given while the device restarted
		return event
	}
	switch err := w.Runner.LeaveVisit(ctx, w.j.Scope); {
	case err == nil, ctx.Err() != nil:
		return event
	case errors.Is(err, device.ErrPerson) && w.j.Stopping && !w.j.Progress().Touched() && !w.j.Reverting:
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

// refresh gives the runner the current journal.
func (w *visit) refresh(ctx context.Context) error {
	steps, err := w.store.Journal.Steps(ctx, w.j.ID)
	if err == nil {
		w.journal.steps = steps
		w.Runner.Use(w.journal)
	}
	return err
}

// lockDevice waits until nobody else works on a device, and returns the function that releases it.
func (s *Service) lockDevice(id int64) (unlock func()) {
	lock, _ := s.busy.LoadOrStore(id, &sync.Mutex{})
	lock.(*sync.Mutex).Lock()
	return lock.(*sync.Mutex).Unlock
}

// TryDevice returns lockDevice without waiting.
func (s *Service) TryDevice(id int64) (unlock func(), ok bool) {
	lock, _ := s.busy.LoadOrStore(id, &sync.Mutex{})
	return lock.(*sync.Mutex).Unlock, lock.(*sync.Mutex).TryLock()
}

// Visit prepares the work on a job's device; leave ends it.
func (s *Service) Visit(ctx context.Context, j *Job) (w *visit, leave func(), err error) {
	steps, err := s.store.Journal.Steps(ctx, j.ID)
	if err != nil {
		return nil, nil, err
	}
	if err := s.recall(j, steps); err != nil {
		return nil, nil, err
	}
	w = &visit{Service: s, j: j, journal: journal{s, j, steps}, stop: s.stopAsked(j.ID)}
	if w.Runner, err = s.open(ctx, w); err != nil {
		return nil, nil, err
	}
	if err := s.access.Take(ctx, j.place, j.Box.Site); err != nil { // the last that can fail: it is given by leave
		return nil, nil, err
	}
	return w, func() { w.Runner.Close(); j.place.Give() }, nil
}

// onDevice returns the runner for the device itself.
func (s *Service) onDevice(ctx context.Context, w *visit) (Runner, error) {
	j := w.j
	helpers, err := s.Helpers(ctx, j)
	if err != nil {
		return nil, err
	}
	sights, err := s.Sights(ctx, j)
	if err != nil {
		return nil, err
	}
	r := &device.Runner{Now: s.clock, Stop: w.stop, Helpers: helpers, Sights: sights, Edition: j.Edition,
		Proven: j.Stage == replacement.Seal, Leaf: func(ctx context.Context, address, name string) (string, error) {
			return s.monitor.Leaf(ctx, j.Box.Site, address, name)
		}, Dial: s.access.Way(j.Box.Site), Procedure: j.Family.Procedure, Work: j.Material.Work, Hard: s.hard,
		Journal: w.journal,
		SSH:     func(ctx context.Context) (ssh.Target, error) { return s.access.SSH(ctx, j.Box) },
		Config:  func(ctx context.Context) (ssh.Target, error) { return s.access.Config(ctx, j.Box) },
		Web:     func(ctx context.Context) (https.Target, error) { return s.web(ctx, j) }}
	if as, err := j.Scope.Value(j.Family.As); j.Family.As != "" && err == nil {
		r.As = as.Words
		if word, err := j.Scope.Value(procedure.AsPassword); err == nil {
			r.AsWord = word.Text
		}
	}
	if j.Family.Uses(procedure.Itself) {
		r.Own = s.own(j.ID, j.Plan.V)
	}
	return r, nil
}

// stopAsked returns a function that reports whether somebody asked a replacement to stop. It queries the database at
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

// reconcile determines the outcome of the steps whose end was not recorded, before anything else is done on the device.
// A failed step stops the way there; the way back only needs to know that none is still running.
func (w *visit) reconcile(ctx context.Context, action replacement.Action) error {
	for _, open := range OpenSteps(w.journal.steps, w.j.Resumed) {
		if open.Unknown && open.Repeatable && open.Verb != "run" {
			continue // nothing of it can still be under way, and it is done again
		}
		err := w.Runner.Recover(ctx, open.ID, procedure.Section(open.Section), open.Name, open.Repeatable, w.j.Scope)
		var step *device.StepError
		seen := errors.As(err, &step) && !step.Runs && w.Runner.Guarded(procedure.Section(open.Section), open.Name,
			w.j.Scope)
		if errors.As(err, new(*device.JournalError)) || err != nil && !seen &&
			(action == replacement.Advance || !MayGoBack(err, open)) {
			return err
		}
		if err := w.refresh(ctx); err != nil {
			return err
		}
		if err := w.recall(w.j, w.journal.steps); err != nil {
			return err
		}
	}
	return nil
}

// runStage runs the current stage.
func (w *visit) runStage(ctx context.Context) (replacement.Event, error) {
	var err error
	switch w.j.Stage {
	case replacement.Survey:
		err = w.survey(ctx)
	case replacement.Request:
		err = w.request(ctx)
	case replacement.Sign:
		return w.sign(ctx, w.j)
	case replacement.Gate:
		return w.gate(ctx, w.j)
	case replacement.Backup:
		return w.backup(ctx)
	case replacement.Prove:
		err = w.prove(ctx)
	case replacement.Mirror:
		err = w.mirror(ctx)
	case replacement.Seal:
		err = w.seal(ctx)
	default:
		err = w.section(ctx, procedure.Section(w.j.Stage))
	}
	return w.outcome(err)
}

// outcome returns the event for the outcome of a stage. A failure to write the journal is not an outcome.
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
