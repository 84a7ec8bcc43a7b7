package replacement_test

import (
	"slices"
	"testing"

	. "freshseal/core/replacement"
)

// Every state is said to be over or not, and is named to those who wait.
func TestWhatIsOverAndWhatIsWaitedFor(t *testing.T) {
	over := map[State]bool{Sealed: true, Reverted: true, Cancelled: true, Closed: true}
	for _, s := range []State{Running, Waiting, Held, Sealed, Reverted, Cancelled, Closed} {
		if s.Over() != over[s] {
			t.Errorf("%s is over: %v", s, s.Over())
		}
	}
	for i, s := range Stages {
		for j, other := range Stages {
			if s.Before(other) != (i < j) {
				t.Errorf("%s before %s: %v", s, other, s.Before(other))
			}
		}
	}
	for _, w := range WaitingFors {
		want := string(w)
		if w == Person {
			want = "manual step"
		}
		if w.Text() != want {
			t.Errorf("waiting for %s", w.Text())
		}
	}
}

// The first reason stays, in front; the way back has a reason of its own beside it.
func TestReasonsAreJoinedBehindTheFirst(t *testing.T) {
	held := Progress{Stage: Activate, State: Running}
	p, _, err := held.On(Event{Kind: Failed, Why: "it was refused"})
	if err != nil || !p.Reverting || p.Why != "it was refused" {
		t.Fatalf("%+v, %v", p, err)
	}
	p, _, _ = p.On(Event{Kind: Failed, Why: "unreachable"})
	if p.State != Held || p.Why != "it was refused" || p.Back != "unreachable" {
		t.Errorf("on the way back: %+v", p)
	}
	p, _, _ = Progress{Stage: Survey, State: Running, Why: "old"}.On(Event{Kind: Failed, Why: "new"})
	if p.State != Held || p.Why != "new" || p.Back != "" {
		t.Errorf("forward: %+v", p)
	}
	for _, c := range []struct{ why, first, want string }{{"second", "", "second"}, {"", "first", "first"},
		{"first", "the first", "the first"}, {"second", "first", "first; then second"}, {"", "", ""}} {
		p, _, err := Progress{Stage: Activate, State: Held, Why: c.first}.On(Event{Kind: AskedClose, Why: c.why})
		if err != nil || p.Why != c.want || p.State != Closed {
			t.Errorf("%q after %q: %+v, %v", c.why, c.first, p, err)
		}
	}
}

// Who asks to stop is remembered, and nobody else.
func TestWhoAskedIsRemembered(t *testing.T) {
	for kind, asked := range map[EventKind]bool{AskedCancel: true, AskedRevert: true, AskedResume: false,
		AskedClose: false} {
		p, _, err := Progress{Stage: Activate, State: Held}.On(Event{Kind: kind})
		if err != nil || p.Asked != asked {
			t.Errorf("%s: %+v, %v", kind, p, err)
		}
		if p, _, _ := (Progress{Stage: Activate, State: Held, Asked: true}).On(Event{Kind: kind}); !p.Asked {
			t.Errorf("%s forgets who asked", kind)
		}
	}
}

// Another request is asked for only while nothing of the device was touched.
func TestAnotherRequestOnlyBeforeTheDeviceIsTouched(t *testing.T) {
	for _, stage := range Stages {
		for _, state := range []State{Running, Waiting, Held, Sealed, Reverted, Cancelled, Closed} {
			p := Progress{Stage: stage, State: state}
			if state == Waiting {
				p.WaitingFor = Signer
			}
			_, _, err := p.On(Event{Kind: AskedAgain})
			may := state == Held && slices.Contains([]Stage{Request, Sign}, stage) || state == Waiting && p.AtSigner()
			if (err == nil) != may {
				t.Errorf("%s in %s: %v", state, stage, err)
			}
		}
	}
}

// Within tells after which events the steps that are done stay done.
func TestWithinAnActionItsDoneStepsStayDone(t *testing.T) {
	running, waits := Progress{Stage: Install, State: Running}, Progress{Stage: Install, State: Waiting}
	waitsFor := func(w WaitingFor) Progress {
		p := waits
		p.WaitingFor = w
		return p
	}
	for name, c := range map[string]struct {
		p    Progress
		e    Event
		want bool
	}{
		"killed":                  {running, Event{Kind: Interrupted}, true},
		"a person is needed":      {running, Event{Kind: Waits, Waiting: Person}, true},
		"the window is closed":    {Progress{Stage: Gate, State: Running}, Event{Kind: Waits, Waiting: Window}, false},
		"the stage is done":       {running, Event{Kind: Done}, false},
		"it fails, and goes back": {running, Event{Kind: Failed}, false},
		"it is unknown, so held":  {running, Event{Kind: Unknown}, true},
		"resumed":                 {Progress{Stage: Install, State: Held}, Event{Kind: AskedResume}, true},
		"the person is done":      {waitsFor(Person), Event{Kind: Arrived}, true},
		"it may go on":            {waitsFor(GoAhead), Event{Kind: Arrived}, true},
		"signed": {Progress{Stage: Sign, State: Waiting, WaitingFor: Signer}, Event{Kind: Arrived},
			false},
		"cleared with a person": {Progress{Stage: Sign, State: Running, Stopping: true}, Event{Kind: ClearWaits},
			true},
		"cancelled while it waits": {waitsFor(Person), Event{Kind: AskedCancel}, false},
	} {
		if got := c.p.Within(c.e); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// What was waited for within a stage goes on with it; what ends a stage begins the next one.
func TestWhatArrivesGoesOnOrBeginsTheNextStage(t *testing.T) {
	for _, c := range []struct {
		stage Stage
		w     WaitingFor
		next  Stage
	}{{Install, Person, Install}, {Backup, GoAhead, Backup}, {Gate, Approval, Gate}, {Gate, Window, Gate},
		{Gate, Device, Gate},
		{Sign, Signer, Gate}, {Sign, GoAhead, Sign}} {
		p, action, err := Progress{Stage: c.stage, State: Waiting, WaitingFor: c.w}.On(Event{Kind: Arrived})
		if err != nil || p.Stage != c.next || p.State != Running || action != Advance || p.WaitingFor != Nobody {
			t.Errorf("%s in %s: %+v %v, %v", c.w, c.stage, p, action, err)
		}
	}
}
