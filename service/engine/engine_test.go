package engine

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/device"
	"freshseal/service/memory"
	"freshseal/store"
)

const whole = "survey backup trust install trial activate prove seal"

func TestAReplacementGoesThroughAllStages(t *testing.T) {
	w := newWorld(t)
	r := w.drive(replacement.Advance)
	if r.State != replacement.Sealed || w.Did() != whole {
		t.Fatalf("%s in %s, %s: %s", r.State, r.Stage, r.Why, w.Did())
	}
	if w.Serves.SHA256 != r.NewSHA256 || w.Last != r.NewSHA256 || r.OldSHA256 != w.First.SHA256 {
		t.Errorf("it serves %.8s, is to serve %.8s, and before %.8s", w.Serves.SHA256, w.Last, r.OldSHA256)
	}
	if len(w.Secrets) != 0 {
		t.Errorf("secrets are left: %v", w.Secrets)
	}
}

// Wherever a step fails, the replacement ends where its stage says, and what was changed is taken back, last first.
func TestWhereEachFailureEnds(t *testing.T) {
	for fails, want := range map[string]struct {
		state replacement.State
		stage replacement.Stage
		did   string
	}{
		"survey":  {replacement.Held, replacement.Survey, ""},
		"backup":  {replacement.Held, replacement.Backup, "survey"},
		"trust":   {replacement.Reverted, replacement.Trust, "survey backup undo trust"},
		"install": {replacement.Reverted, replacement.Install, "survey backup trust undo install undo trust"},
		"trial":   {replacement.Reverted, replacement.Trial, "survey backup trust install undo install undo trust"},
		"activate": {replacement.Reverted, replacement.Activate, "survey backup trust install trial undo activate " +
			"undo install undo trust"},
		"prove": {replacement.Reverted, replacement.Prove,
			"survey backup trust install trial activate undo activate undo install undo trust"},
		"seal": {replacement.Sealed, replacement.Seal, "survey backup trust install trial activate prove"},
	} {
		t.Run(fails, func(t *testing.T) {
			w := newWorld(t)
			w.Fails[fails] = errors.New("the disk is full")
			r := w.drive(replacement.Advance)
			if r.State != want.state || r.Stage != want.stage || w.Did() != want.did {
				t.Fatalf("%s in %s, %q: %s", r.State, r.Stage, r.Why, w.Did())
			}
			if said := r.Why + r.Leftover; !strings.Contains(said, "the disk is full") {
				t.Errorf("the reason is %q", said)
			}
			if r.State == replacement.Reverted && (w.Serves != w.First || r.KeepsUntil.IsZero() ||
				len(w.Secrets) == 0) {
				t.Error("what was signed and its key are not kept for another try")
			}
		})
	}
}

// A way back that fails is held, and tried again on demand; nothing of the way there is done again.
func TestAWayBackThatFailsIsHeld(t *testing.T) {
	w := newWorld(t)
	w.Fails["prove"], w.Fails["undo activate"] = errors.New("no answer"), errors.New("the disk is full")
	r := w.drive(replacement.Advance)
	if r.State != replacement.Held || !r.Reverting || !strings.Contains(r.Back+r.Why, "the disk is full") {
		t.Fatalf("%s, reverting %v: %s; %s", r.State, r.Reverting, r.Why, r.Back)
	}
	delete(w.Fails, "undo activate")
	if r = w.asks(replacement.AskedRevert); r.State != replacement.Reverted || w.Serves != w.First {
		t.Fatalf("%s: %s; %s", r.State, r.Why, r.Back)
	}
	if n := strings.Count(w.Did(), "trial"); n != 1 {
		t.Errorf("trial was done %d times", n)
	}
}

// A device that says yes and does not do it is found out, and nothing is called proven.
func TestTheWireDecides(t *testing.T) {
	for name, story := range map[string]struct {
		before func(w world)
		state  replacement.State
		says   string
	}{
		"it keeps serving the old one": {func(w world) { w.Ignores = true }, replacement.Reverted,
			"instead of the new leaf"},
		"it cannot be read": {func(w world) { w.Silent = true }, replacement.Held,
			"so a way back could not be proven"},
		"it serves a third one once the new one is in use": {func(w world) {
			third := testkit.Root(w.T, "Stranger").Leaf(w.T, "gate-1.tidewrack.example").Certificate
			w.Reads = func(w *memory.World) {
				if w.Row.Stage == replacement.Prove && w.Serves != w.First {
					w.Serves = third
				}
			}
		}, replacement.Reverted, "instead of the new leaf"},
		"somebody changed it after the survey": {func(w world) {
			third := testkit.Root(w.T, "Stranger").Leaf(w.T, "gate-1.tidewrack.example").Certificate
			w.Reads = func(w *memory.World) {
				if w.Row.Stage == replacement.Backup {
					w.Serves = third
				}
			}
		}, replacement.Held, "somebody changed it meanwhile"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			story.before(w)
			r := w.drive(replacement.Advance)
			if r.State != story.state || !strings.Contains(r.Why, story.says) {
				t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, r.Back)
			}
			if story.state == replacement.Held && strings.Contains(w.Did(), "trust") {
				t.Errorf("it was touched: %s", w.Did())
			}
		})
	}
}

// A device may have a certificate for each kind of key: usual clients go on to get the old one, and those of the new
// one's kind decide.
func TestADeviceWithACertificateForEachKindOfKey(t *testing.T) {
	for name, story := range map[string]struct {
		key   request.KeyType
		takes bool // clients of its kind get the new one
		state replacement.State
	}{
		"it serves the new one to its kind": {request.RSA2048, true, replacement.Sealed},
		"it serves the old one to all":      {request.RSA2048, false, replacement.Reverted},
		"both are of one kind":              {request.ECDSAP256, true, replacement.Reverted},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel() // it looks several times, with pauses
			w := newWorld(t)
			w.Row.Plan.V.Key = story.key
			w.Reads = func(w *memory.World) {
				if w.Serves == w.First {
					return
				}
				if story.takes {
					w.Also = w.Serves
				}
				w.Serves = w.First
			}
			r := w.drive(replacement.Advance)
			if r.State != story.state {
				t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, r.Back)
			}
		})
	}
}

// Who asks for the way back while the wire is awaited does not wait until the end of the longest restart.
func TestAWishToStopEndsTheWaitForTheWire(t *testing.T) {
	w := newWorld(t)
	w.Ignores = true
	w.Text = strings.Replace(memory.Family, "restart_limit: 100ms", "restart_limit: 1h", 1)
	w.Row.Procedure = store.Digest(w.Text)
	asked := false
	w.Reads = func(w *memory.World) {
		if w.Row.Stage == replacement.Prove && !asked {
			asked = true
			if _, _, err := w.Store().Replacements.Advance(t.Context(), 7,
				replacement.Event{Kind: replacement.AskedRevert}, store.At(w.Now)); err != nil {
				t.Error(err)
			}
		}
	}
	if r := w.drive(replacement.Advance); r.State != replacement.Reverted || !asked || w.Serves != w.First {
		t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, r.Back)
	}
}

// What encloses the work on a device, such as maintenance, is left before a replacement waits or ends. Where it cannot
// be left, the replacement is held, or waits for the person who leaves it.
func TestWhatEnclosesAVisitIsLeft(t *testing.T) {
	full := errors.New("agent busy")
	for name, story := range map[string]struct {
		leave, prove error
		stopAfter    string
		state        replacement.State
		waits        replacement.WaitingFor
		says         []string
		inside       bool
	}{
		"before it waits":    {stopAfter: "trial", state: replacement.Waiting, waits: replacement.GoAhead},
		"at its end":         {state: replacement.Sealed},
		"after the way back": {prove: errors.New("no answer"), state: replacement.Reverted},
		"not where it cannot be": {leave: full, stopAfter: "trial", state: replacement.Held,
			says: []string{"agent busy"}, inside: true},
		"not where it cannot be, after another": {leave: full, prove: errors.New("no answer"), state: replacement.Held,
			says: []string{"agent busy"}, inside: true},
		"by a person": {leave: device.ErrPerson, stopAfter: "trial", state: replacement.Waiting,
			waits: replacement.Person, inside: true},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.Inside, w.Row.StopAfter = true, story.stopAfter
			if story.leave != nil {
				w.Fails["leave"] = story.leave
			}
			if story.prove != nil {
				w.Fails["prove"] = story.prove
			}
			r := w.drive(replacement.Advance)
			if r.State != story.state || r.WaitingFor != story.waits || w.Inside != story.inside {
				t.Errorf("%s for %q in %s, inside %v: %s; %s", r.State, r.WaitingFor, r.Stage, w.Inside, r.Why, r.Back)
			}
			for _, says := range story.says {
				if !strings.Contains(r.Why+r.Back, says) {
					t.Errorf("the reason is %q", r.Why)
				}
			}
		})
	}
}

// What cannot be read may be replaced by who accepts that; the way back then proves nothing.
func TestAnUnreadableSlotMayBeAccepted(t *testing.T) {
	w := newWorld(t)
	w.Silent, w.Row.Unseen = true, true
	w.Reads = func(w *memory.World) { w.Silent = w.Serves == w.First }
	if r := w.drive(replacement.Advance); r.State != replacement.Sealed {
		t.Fatalf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
}

func TestWhatIsServedAlreadyIsNotInstalledAgain(t *testing.T) {
	w := newWorld(t)
	w.Reads = func(w *memory.World) {
		if w.Row.Stage == replacement.Backup {
			w.Serves = w.Certs[w.Row.NewSHA256]
		}
	}
	if r := w.drive(replacement.Advance); r.State != replacement.Sealed || strings.Contains(w.Did(), "activate") {
		t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, w.Did())
	}
}

// The service may be killed before and after each change, in the journal and on the device, and goes on; a step whose
// end nobody saw is never done twice.
func TestTheEngineMayBeKilledAtAnyMoment(t *testing.T) {
	for _, fails := range []string{"", "prove", "activate", "trust"} {
		for at := 1; ; at++ {
			w := newWorld(t)
			if fails != "" {
				w.Fails[fails] = errors.New("no answer")
			}
			w.KillAt = at
			s := w.engine()
			s.Drive(7, replacement.Advance)
			s.running.Wait()
			if !w.Dead {
				if at < 10 {
					t.Fatalf("only %d moments", at)
				}
				break
			}
			s = w.engine()
			if err := s.takeUp(t.Context()); err != nil {
				t.Fatal(err)
			}
			s.running.Wait()
			w.Kill()
			where := fmt.Sprintf("%s fails, killed at %d", fails, at)
			switch w.Row.State {
			case replacement.Sealed:
				if w.Serves.SHA256 != w.Row.NewSHA256 || w.Last != w.Row.NewSHA256 {
					t.Errorf("%s: sealed, and it serves another one", where)
				}
			case replacement.Reverted:
				if w.Serves != w.First || w.Last != "" {
					t.Errorf("%s: reverted, and it serves another one", where)
				}
			case replacement.Held:
				if w.Serves != w.First && w.Row.Stage != replacement.Seal { // there it is proven
					t.Errorf("%s: held in %s with the new one served: %s", where, w.Row.Stage, w.Row.Why)
				}
			default:
				t.Errorf("%s: %s in %s: %s", where, w.Row.State, w.Row.Stage, w.Row.Why)
			}
			times := map[string]int{}
			for _, step := range w.Done {
				if times[step]++; times[step] > 1 && step != "survey" {
					t.Errorf("%s: %s was done again: %s", where, step, w.Did())
				}
			}
		}
	}
}

// A database that cannot be written stops the work, and it goes on by itself once it can.
func TestAFullDiskStopsTheWorkAndItGoesOn(t *testing.T) {
	w := newWorld(t)
	s := w.engine()
	w.Reads = func(w *memory.World) { // once
		w.Reads, w.Stops = nil, errors.New("the disk is full")
		time.AfterFunc(300*time.Millisecond, func() {
			w.Lock.Lock()
			defer w.Lock.Unlock()
			w.Stops = nil
		})
	}
	s.Drive(7, replacement.Advance)
	s.running.Wait()
	if w.Row.State != replacement.Sealed && w.Row.State != replacement.Held {
		t.Fatalf("%s in %s: %s", w.Row.State, w.Row.Stage, w.Row.Why)
	}
}

func TestWhatTheSignerDoes(t *testing.T) {
	w := newWorld(t)
	w.Pending = true
	if r := w.drive(replacement.Advance); r.State != replacement.Waiting || r.WaitingFor != replacement.Signer {
		t.Fatalf("without an answer: %s for %s", r.State, r.WaitingFor)
	}
	for state, found := range map[replacement.State]finding.Finding{
		replacement.Waiting: finding.IssuerUnexpected.Found("it came from another issuer"),
		replacement.Held:    finding.NameMissing.Found("a name is missing"),
	} {
		w := newWorld(t)
		w.Doubts = []finding.Finding{found}
		if r := w.drive(replacement.Advance); r.State != state || len(r.Path.V) != 0 ||
			strings.Contains(w.Did(), "backup") {
			t.Errorf("%s: %s, %v; %s", found.What, r.State, r.Path.V, w.Did())
		}
	}
}

func TestWhatTheGateWaitsFor(t *testing.T) {
	anybody, yes := policy.ApprovedByAnybody, true
	for name, story := range map[string]struct {
		shut func(w world)
		open func(w world)
		whom replacement.WaitingFor
		says string
	}{
		"approval": {func(w world) { w.Rules.Approval = &anybody }, func(w world) {
			effect, err := w.engine().Effect(t.Context(), must(w.engine().Load(t.Context(), 7)))
			if err != nil {
				t.Fatal(err)
			}
			w.Row.ApprovedBy, w.Row.ApprovedWhat = "gull", effect.Digest
		}, replacement.Approval, ""},
		"a paused site": {func(w world) { w.Paused = true }, func(w world) { w.Paused = false }, replacement.Window,
			"the site mainquay is paused"},
		"a time to come": {func(w world) { w.Row.NotBefore = store.At(w.Now.Add(time.Hour)) },
			func(w world) { w.Now = w.Now.Add(2 * time.Hour) }, replacement.Window, "it was to begin at"},
		"a reason": {func(w world) { w.Paused = true }, func(w world) { w.Row.AnyTime = "harbour master" },
			replacement.Window, "paused"},
		"another one at work": {func(w world) { w.Other = 4 }, func(w world) { w.Other = 0 }, replacement.Device,
			"r4 is at work there"},
		"a go-ahead after sign": {func(w world) { w.Row.StopAfter = "sign" }, func(w world) { w.Row.StopAfter = "" },
			replacement.GoAhead, ""},
		"a pause": {func(w world) { w.Row.PausedBy = "gull" }, func(w world) { w.Row.PausedBy = "" },
			replacement.GoAhead, ""},
		"root pins": {func(w world) { w.Rules.RootPinsFirst = &yes; w.Paused = true },
			func(w world) { w.Paused = false }, replacement.Window, ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			story.shut(w)
			r := w.drive(replacement.Advance)
			if r.State != replacement.Waiting || r.WaitingFor != story.whom || !strings.Contains(r.Closed, story.says) {
				t.Fatalf("%s for %s in %s: %q, %s", r.State, r.WaitingFor, r.Stage, r.Closed, r.Why)
			}
			if strings.Contains(w.Did(), "backup") {
				t.Errorf("it was touched: %s", w.Did())
			}
			if r = w.asks(replacement.Arrived); r.State != replacement.Waiting {
				t.Fatalf("still shut, and it is %s", r.State)
			}
			story.open(w)
			if r = w.asks(replacement.Arrived); r.State != replacement.Sealed {
				t.Errorf("open, and it is %s in %s: %s", r.State, r.Stage, r.Why)
			}
		})
	}
}

// What was approved is what is done: another plan asks again.
func TestAnApprovalIsBoundToWhatHappens(t *testing.T) {
	another := policy.ApprovedByAnother
	w := newWorld(t)
	w.Rules.Approval = &another
	w.Row.ApprovedBy, w.Row.ApprovedWhat = "gull", "of another request"
	if r := w.drive(replacement.Advance); r.WaitingFor != replacement.Approval || r.ApprovedBy != "" {
		t.Errorf("%s for %s, approved by %q", r.State, r.WaitingFor, r.ApprovedBy)
	}
}

// A replacement that is cancelled before the device was touched leaves nothing; after, it goes back.
func TestAStopByAPerson(t *testing.T) {
	w := newWorld(t)
	w.Paused = true
	w.drive(replacement.Advance)
	if r := w.asks(replacement.AskedCancel); r.State != replacement.Cancelled || len(w.Secrets) != 0 {
		t.Errorf("%s: %s; secrets %d", r.State, r.Why, len(w.Secrets))
	}
	w = newWorld(t)
	w.Row.StopAfter = "trial"
	if r := w.drive(replacement.Advance); r.WaitingFor != replacement.GoAhead || w.Did() != "survey backup trust "+
		"install trial" {
		t.Fatalf("%s for %s: %s", r.State, r.WaitingFor, w.Did())
	}
	if r := w.asks(replacement.AskedRevert); r.State != replacement.Reverted {
		t.Errorf("%s: %s; %s", r.State, r.Why, w.Did())
	}
}

// A revert after the seal brings back what stood, once and for all.
func TestARevertAfterTheSeal(t *testing.T) {
	w := newWorld(t)
	w.drive(replacement.Advance)
	r := w.asks(replacement.AskedRevert)
	if r.State != replacement.Reverted || w.Serves != w.First || w.Last != "" {
		t.Errorf("%s: %s; it is to serve %q", r.State, r.Why, w.Last)
	}
}

// A panic in a stage is a failure of this replacement alone, and the log says where.
func TestAPanicHoldsOneReplacement(t *testing.T) {
	w := newWorld(t)
	w.Reads = func(*memory.World) { panic("a bug") }
	if r := w.drive(replacement.Advance); r.State != replacement.Held || !strings.Contains(r.Why, "a bug") {
		t.Errorf("%s: %s", r.State, r.Why)
	}
}

// The leaf must be for the request's key before anything is sent.
func TestALeafForAnotherKeyIsNeverSent(t *testing.T) {
	w := newWorld(t)
	w.Paused = true
	w.drive(replacement.Advance)
	stranger := testkit.Root(t, "Stranger").Leaf(t, "gate-1.tidewrack.example").Certificate
	w.Certs[stranger.SHA256] = stranger
	w.Row.Path.V, w.Row.NewSHA256, w.Paused = []string{stranger.SHA256}, stranger.SHA256, false
	if r := w.asks(replacement.Arrived); r.State == replacement.Sealed || strings.Contains(w.Did(), "install") ||
		!strings.Contains(r.Why, "the leaf is for another key") {
		t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, w.Did())
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// Whatever call of the store or of another room fails, at whatever moment: the replacement does not go on as if
// nothing had been, says why, and comes to a good end once the call works again.
func TestEveryErrorIsTold(t *testing.T) {
	for fails, every := range map[string]int{"": 1, "prove": 1, "undo activate": 9} { // the last waits for its limit
		for at := 1; ; at += every {
			w := newWorld(t)
			if fails != "" {
				w.Fails["prove"] = errors.New("no answer")
				w.Fails[fails] = errors.New("no answer")
			}
			w.FailAt = at
			r := w.drive(replacement.Advance)
			if w.Failed == "" {
				if at < 50 {
					t.Fatalf("only %d calls", at)
				}
				break
			}
			where := fmt.Sprintf("%q fails, and call %d, %s", fails, at, w.Failed)
			told := strings.Contains(r.Why+r.Back+r.Leftover, memory.ErrShelf.Error())
			switch {
			case r.State == replacement.Running:
				t.Errorf("%s: nobody drives it in %s", where, r.Stage)
			case !told && !w.sameEnd(fails):
				t.Errorf("%s: %s in %s, and nothing tells of it: %q %q %q", where, r.State, r.Stage, r.Why, r.Back,
					r.Leftover)
			}
			w.FailAt = 0
			delete(w.Fails, "undo activate")
			for range 3 {
				if r.State == replacement.Held {
					r = w.asks(replacement.AskedResume)
				}
			}
			if r.State != replacement.Sealed && r.State != replacement.Reverted {
				t.Errorf("%s: once it works again it is %s in %s: %s; %s", where, r.State, r.Stage, r.Why, r.Back)
			}
			w.consistent(where)
		}
	}
}

// sameEnd reports whether the replacement came to the end that it comes to without any failing call.
func (w world) sameEnd(fails string) bool {
	return w.Row.State == map[string]replacement.State{"": replacement.Sealed, "prove": replacement.Reverted,
		"undo activate": replacement.Held}[fails]
}

// consistent checks that what is recorded, what is served and what is kept agree.
func (w world) consistent(where string) {
	w.T.Helper()
	r := w.Row
	switch r.State {
	case replacement.Sealed:
		if w.Serves.SHA256 != r.NewSHA256 || w.Last != r.NewSHA256 || r.OldSHA256 != w.First.SHA256 ||
			len(w.Secrets) != 0 ||
			len(w.Standing) == 0 {
			w.T.Errorf("%s: sealed; it serves the new one %v, must %v, old %v, %d secrets, %d stood", where,
				w.Serves.SHA256 == r.NewSHA256, w.Last == r.NewSHA256, r.OldSHA256 == w.First.SHA256, len(w.Secrets),
				len(w.Standing))
		}
	case replacement.Reverted:
		if w.Serves != w.First || w.Last != "" || r.KeepsUntil.IsZero() == (len(r.Path.V) > 0) {
			w.T.Errorf("%s: reverted; it serves the old one %v, must %q, kept until %s", where, w.Serves == w.First,
				w.Last,
				r.KeepsUntil)
		}
	}
}
