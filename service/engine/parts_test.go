package engine

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/look"
	"freshseal/core/language/value"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/device"
	"freshseal/service/memory"
	"freshseal/store"
)

// load is the job of the world's replacement.
func (w world) load() *Job {
	w.T.Helper()
	j, err := w.engine().Load(w.T.Context(), 7)
	if err != nil {
		w.T.Fatal(err)
	}
	return j
}

const surveyStep = "run: gatectl status, undo: nothing"

// What steps captured is there at the next visit; what is secret is sealed, and secret files are forgotten at the end.
func TestCapturesOutliveTheServiceAndSecretsAreSealed(t *testing.T) {
	w := newWorld(t)
	w.Captures["survey"] = map[string]value.Value{"name": value.TextValue("gate"),
		"token": {Kind: value.Secret, Text: "open-sesame", Secret: true, Known: true},
		"file":  {Kind: value.Content, Text: "PRIVATE", Secret: true, Known: true, Keep: true}}
	w.Row.StopAfter = "trial"
	if r := w.drive(replacement.Advance); r.WaitingFor != replacement.GoAhead {
		t.Fatalf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
	for _, step := range w.Steps {
		if bytes.Contains(step.Captured, []byte("open-sesame")) || bytes.Contains(step.Captured, []byte("PRIVATE")) {
			t.Errorf("the journal shows the secret of %s", step.Name)
		}
	}
	s, j := w.engine(), w.load()
	_, leave, err := s.Visit(t.Context(), j)
	if err != nil {
		t.Fatal(err)
	}
	leave()
	if v, err := j.Scope.Value("token"); err != nil || v.Text != "open-sesame" {
		t.Errorf("token is %q, %v", v.Text, err)
	}
	if err := s.forgetCaptured(t.Context(), 7, everySection); err != nil {
		t.Fatal(err)
	}
	values, err := s.Captured(t.Context(), 7)
	if _, has := values["file"]; err != nil || has || values["token"].Text != "open-sesame" {
		t.Errorf("after it was forgotten: %v, %v", values, err)
	}
}

// A damaged seal stops the work instead of going on without the value.
func TestADamagedCaptureStopsTheWork(t *testing.T) {
	w := newWorld(t)
	w.Steps = []store.Step{{ID: 1, Section: "survey", Name: "survey", OK: true, Capture: KeptSealed,
		Captured: []byte("not sealed"), EndedAt: store.At(w.Now)}}
	if r := w.drive(replacement.Advance); r.State != replacement.Held || len(w.Done) > 0 {
		t.Errorf("%s: %s; did %v", r.State, r.Why, w.Done)
	}
}

// A replacement goes on with the procedure that it began with, whatever its file says by now.
func TestTheProcedureItBeganWithIsUsed(t *testing.T) {
	for about, newer := range map[string]string{"gone": "", "the same": memory.Family, "broken": "procedure: quay",
		"another": strings.Replace(memory.Family, "gatectl use", "gatectl use --now", 1)} {
		w := newWorld(t)
		w.Newer = newer
		if j := w.load(); j.Family.Text() != memory.Family {
			t.Errorf("where the file is %s: %s", about, j.Family.Text())
		}
	}
}

func TestAStepOfAPersonIsWaitedFor(t *testing.T) {
	w := newWorld(t)
	w.Fails["trial"] = device.ErrPerson
	if r := w.drive(replacement.Advance); r.State != replacement.Waiting || r.WaitingFor != replacement.Person {
		t.Fatalf("%s for %s in %s: %s", r.State, r.WaitingFor, r.Stage, r.Why)
	}
	for i := range w.Steps { // the person did it
		if w.Steps[i].EndedAt.IsZero() {
			w.Steps[i].EndedAt, w.Steps[i].OK = store.At(w.Now), true
		}
	}
	delete(w.Fails, "trial")
	if r := w.asks(replacement.Arrived); r.State != replacement.Sealed || slices.Contains(w.Done, "trial") {
		t.Errorf("%s in %s: %s; %s", r.State, r.Stage, r.Why, w.Did())
	}
}

// A device that signs for itself is proven by the new leaf that its own authority signed.
func TestADeviceThatSignsForItself(t *testing.T) {
	own := testkit.Root(t, "Gate Authority")
	stranger := testkit.Root(t, "Stranger")
	for name, story := range map[string]struct {
		by    testkit.Signer
		gives string
		state replacement.State
		says  string
	}{
		"its authority":    {own, string(own.PEM()), replacement.Sealed, ""},
		"another one":      {stranger, string(own.PEM()), replacement.Reverted, "did not sign"},
		"no certificate":   {own, "nothing at all", replacement.Reverted, "holds none"},
		"not an authority": {own, string(own.Leaf(t, "x").PEM()), replacement.Reverted, "is no authority"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.Text = strings.Replace(strings.Replace(memory.Family, "key_types: [ecdsa-p256], key_made_by: service",
				"signer: device", 1), surveyStep, surveyStep+", capture: issuer", 1)
			w.Signs, w.Row.Signer = &story.by, "device"
			w.Captures["survey"] = map[string]value.Value{"issuer": value.TextValue(story.gives)}
			r := w.drive(replacement.Advance)
			if r.State != story.state || !strings.Contains(r.Why, story.says) {
				t.Fatalf("%s in %s: %s", r.State, r.Stage, r.Why)
			}
			if r.State == replacement.Sealed && (w.Last != w.Serves.SHA256 || len(r.Path.V) != 2) {
				t.Errorf("it must serve %q by a path of %d", w.Last, len(r.Path.V))
			}
		})
	}
}

// What an address serves is compared with what stood there, word by word.
func TestWhatTheRunnerSees(t *testing.T) {
	w := newWorld(t)
	w.Row.StopAfter = "trial"
	w.drive(replacement.Advance)
	s, j := w.engine(), w.load()
	sights, err := s.Sights(t.Context(), j)
	if err != nil || !sights.knew() {
		t.Fatal(err, "what stood is not known")
	}
	third := testkit.Root(t, "Stranger").Leaf(t, "gate-1.tidewrack.example").Certificate
	for word, serves := range map[look.Word]*cert.Certificate{look.Before: w.First,
		look.New: w.Certs[w.Row.NewSHA256], look.Other: third} {
		w.Serves = serves
		if got, said, err := sights.Wire(t.Context(), ""); err != nil || got != word || said == "" {
			t.Errorf("%s: %s, %q, %v", word, got, said, err)
		}
	}
	w.Silent = true
	if got, said, _ := sights.Wire(t.Context(), ""); got != look.Unknown || !strings.Contains(said, "not answer") {
		t.Errorf("silent: %s, %q", got, said)
	}
	if got := sights.Told(look.Now, w.First.SHA256); got != look.Before {
		t.Errorf("told the old one: %s", got)
	}
	if got := sights.Told(look.Now, w.Row.NewSHA256); got != look.New {
		t.Errorf("told the new one: %s", got)
	}
	w.Standing = nil
	if sights, _ = s.Sights(t.Context(), j); sights.knew() {
		t.Error("nothing was read, and it is known")
	}
}

// names is a resolver that knows some names.
type names map[string]string

func (n names) LookupHost(_ context.Context, host string) ([]string, error) {
	if at, has := n[host]; has {
		return []string{at}, nil
	}
	return nil, errors.New("no such host")
}

func (n names) LookupAddr(_ context.Context, address string) ([]string, error) {
	if name, has := n[address]; has {
		return []string{name + "."}, nil
	}
	return nil, errors.New("no such address")
}

// Where names lead is said once in the journal, and stops nothing.
func TestWhereNamesLead(t *testing.T) {
	const name, other = "gate-1.tidewrack.example", "other.tidewrack.example"
	for says, known := range map[string]names{
		"all of them lead to the device":                           {name: "192.0.2.7", "192.0.2.7": name},
		name + " cannot be resolved":                               {},
		name + " leads to 192.0.2.9, and the slot is at 192.0.2.7": {name: "192.0.2.9"},
		"the address 192.0.2.7 leads back to " + other:             {name: "192.0.2.7", "192.0.2.7": other},
	} {
		w := newWorld(t)
		w.Names = known
		if r := w.drive(replacement.Advance); r.State != replacement.Sealed {
			t.Fatalf("%s: %s", r.State, r.Why)
		}
		said := 0
		for _, step := range w.Steps {
			if step.Verb == "dns" {
				said++
			}
		}
		found := w.engine().Leads(t.Context(), []string{name, "*.tidewrack.example", "192.0.2.8"}, w.Slot())
		text := "all of them lead to the device"
		if len(found) > 0 {
			text = found[0].What
		}
		if said != 1 || !strings.Contains(text, says) {
			t.Errorf("%q: said %d times: %q", says, said, text)
		}
	}
}

// The web interface may show what Fresh Seal put there itself, and nothing else.
func TestThePinsThatALinkLetsThrough(t *testing.T) {
	w := newWorld(t)
	w.Row.StopAfter = "trial"
	w.drive(replacement.Advance)
	w.Before = []store.Install{{ID: 2, State: replacement.Sealed, NewSHA256: "two", OldSHA256: "one"}}
	s := w.engine()
	pins := func() []string {
		target, err := s.web(t.Context(), w.load())
		if err != nil {
			t.Fatal(err)
		}
		return target.Pins
	}
	w.Pins = []string{"stranger"}
	if got := pins(); len(got) != 1 {
		t.Errorf("another certificate is pinned: %v", got)
	}
	w.Pins = []string{w.First.SHA256}
	w.Row.Stage = replacement.Install
	if got := pins(); slices.Contains(got, w.Row.NewSHA256) || !slices.Contains(got, "one") {
		t.Errorf("in install: %v", got)
	}
	w.Row.Stage = replacement.Prove
	if got := pins(); !slices.Contains(got, w.Row.NewSHA256) {
		t.Errorf("in prove: %v", got)
	}
	w.More = []store.Slot{{ID: 6, Address: "192.0.2.7", Port: 443, Protocol: "tls"}}
	if got := pins(); len(got) != 1 {
		t.Errorf("another slot is served there: %v", got)
	}
}

// see reports whether something became true within a time that is long enough for any machine.
func (w world) see(is func() bool) bool {
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
		w.Lock.Lock()
		now := is()
		w.Lock.Unlock()
		if now {
			return true
		}
	}
	return false
}

// What is kept for another try is cleared away once its time is over; what cannot be cleared is reported.
func TestWhatIsKeptIsClearedInTime(t *testing.T) {
	w := newWorld(t)
	w.Fails["prove"] = errors.New("no answer")
	w.drive(replacement.Advance)
	if w.Row.KeepsUntil.IsZero() || len(w.Secrets) == 0 {
		t.Fatal("nothing is kept")
	}
	w.Fails["tidy"] = errors.New("the disk is read-only")
	s := w.engine()
	if err := s.DropKept(t.Context(), 7, true); err == nil || !strings.Contains(w.Row.Leftover, "read-only") {
		t.Errorf("%v; leftover %q", err, w.Row.Leftover)
	}
	delete(w.Fails, "tidy")
	w.Kept = []int64{7}
	if err := s.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	tidied := w.see(func() bool { return w.Row.Tidied })
	w.Kill()
	s.Wait()
	if !tidied || w.Row.Leftover != "" || len(w.Secrets) != 0 || !w.Row.KeepsUntil.IsZero() {
		t.Errorf("tidied %v, leftover %q, %d secrets, kept until %s", tidied, w.Row.Leftover, len(w.Secrets),
			w.Row.KeepsUntil)
	}
}

// A gate whose time has come is passed without anybody asking, and one that stays shut says why.
func TestAGateOpensByItself(t *testing.T) {
	w := newWorld(t)
	w.Row.NotBefore = store.At(w.Now.Add(time.Hour))
	w.drive(replacement.Advance)
	at := store.AtGate{ID: 7, DeviceID: 3, WaitingFor: replacement.Window, OpensAt: w.Row.OpensAt, Closed: w.Row.Closed}
	s := w.engine()
	w.Row.NotBefore = store.At(w.Now.Add(2 * time.Hour))
	if err := s.tryGate(t.Context(), at); err != nil || w.Row.State != replacement.Waiting ||
		!strings.Contains(w.Row.Closed, "14:00") {
		t.Fatalf("%v; %s: %q", err, w.Row.State, w.Row.Closed)
	}
	w.Row.NotBefore = store.Moment{}
	if err := s.ToldRoot(t.Context(), 7); err != nil {
		t.Fatal(err)
	}
	s.running.Wait()
	if w.Row.State != replacement.Sealed {
		t.Errorf("%s: %s", w.Row.State, w.Row.Why)
	}
}

func TestADeviceThatIsFreeAgainIsTakenUp(t *testing.T) {
	w := newWorld(t)
	w.Other = 4
	w.drive(replacement.Advance)
	at := store.AtGate{ID: 7, DeviceID: 3, WaitingFor: replacement.Device}
	s := w.engine()
	if err := s.tryGate(t.Context(), at); err != nil || w.Row.State != replacement.Waiting {
		t.Fatalf("%v; %s while another one is at work", err, w.Row.State)
	}
	w.Other, w.Gates = 0, []store.AtGate{at}
	if err := s.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	if !w.see(func() bool { return w.Row.State == replacement.Sealed }) {
		t.Errorf("%s for %s: %s", w.Row.State, w.Row.WaitingFor, w.Row.Why)
	}
	w.Kill()
	s.Wait()
}

// A command that may still be running holds the replacement, and the way back does not begin beside it, whoever asks;
// once it is known to have ended, it does.
func TestTheWayBackNeverBeginsBesideARunningCommand(t *testing.T) {
	w := newWorld(t)
	w.Fails["activate"] = errors.New("the line broke")
	w.Unknown, w.Runs = true, true
	for _, ask := range []func() store.Replacement{
		func() store.Replacement { return w.drive(replacement.Advance) },
		func() store.Replacement { return w.asks(replacement.AskedRevert) },
	} {
		if r := ask(); r.State != replacement.Held || r.Stage != replacement.Activate ||
			strings.Contains(w.Did(), "undo") {
			t.Fatalf("%s in %s: %s; %s", r.State, r.Stage, r.Why, w.Did())
		}
	}
	w.Runs = false
	if r := w.asks(replacement.AskedRevert); r.State != replacement.Reverted {
		t.Errorf("%s: %s; %s", r.State, r.Why, w.Did())
	}
}

func TestOneDeviceIsWorkedOnByOne(t *testing.T) {
	s := newWorld(t).engine()
	unlock, free := s.TryDevice(3)
	if !free {
		t.Fatal("nobody works on it")
	}
	if _, free := s.TryDevice(3); free {
		t.Error("two work on it")
	}
	other, free := s.TryDevice(4)
	if !free {
		t.Fatal("another device is held too")
	}
	other()
	unlock()
	if again, free := s.TryDevice(3); !free {
		t.Error("it is never free again")
	} else {
		again()
	}
}
