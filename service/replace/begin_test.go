package replace

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/fleet"
	"freshseal/service/memory"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

func TestAnOrderBecomesAReplacement(t *testing.T) {
	d := newDesk(t)
	d.over()
	made, err := d.Begin(t.Context(), order, "gull")
	if err != nil || made.ID != "r8" {
		t.Fatal(made.ID, err)
	}
	r := d.rests()
	if r.State != replacement.Sealed || r.AskedBy != "gull" ||
		r.Plan.V.Subject.CommonName != "gate-1.tidewrack.example" {
		t.Fatalf("%s in %s for %s: %s; %+v", r.State, r.Stage, r.AskedBy, r.Why, r.Plan.V)
	}
	if from := r.Plan.V.Sources["common_name"]; from != "the service's default" {
		t.Errorf("the common name came from %q", from)
	}
	shown, err := d.Replacement(t.Context(), "r8")
	if err != nil || shown.State != replacement.Sealed || len(shown.Chain) == 0 || len(shown.Steps) == 0 {
		t.Errorf("%+v, %v", shown, err)
	}
	all, _, err := d.Replacements(t.Context(), fleet.ReplacementFilter{}, paging.Page{})
	if err != nil || len(all) != 2 {
		t.Errorf("%d are listed, %v", len(all), err)
	}
}

func TestOneAtATime(t *testing.T) {
	d := newDesk(t)
	_, err := d.Begin(t.Context(), order, "gull")
	refused(t, err, problem.Conflict, "has a replacement in progress")
}

// Every order that cannot be carried out is refused with what to do, before anything is recorded.
func TestWhatIsRefusedBeforeItBegins(t *testing.T) {
	changed := func(change func(*contract.Order)) contract.Order {
		o := order
		change(&o)
		return o
	}
	at, late := time.Now().Add(time.Hour), time.Now().AddDate(50, 0, 0)
	for name, c := range map[string]struct {
		o      contract.Order
		before func(d *desk)
		kind   problem.Kind
		says   string
	}{
		"no such slot": {changed(func(o *contract.Order) { o.Slot = "eap" }), nil, "", ""},
		"named twice": {changed(func(o *contract.Order) { o.Also = []string{"web"} }), nil, problem.Invalid,
			"named twice"},
		"no family": {order, func(d *desk) { d.Device.Family = "" }, problem.Invalid, "it has no family"},
		"no signer": {changed(func(o *contract.Order) { o.Signer = "" }), nil, problem.Invalid,
			"no default signer"},
		"the device signs": {changed(func(o *contract.Order) { o.Signer = "device" }), nil, "", ""},
		"another key": {changed(func(o *contract.Order) { o.Key = request.RSA4096 }), nil, problem.Invalid,
			"does not support"},
		"no such moment": {changed(func(o *contract.Order) { o.At = &late }), nil, problem.Invalid,
			"more than a year ahead"},
		"no such stage": {changed(func(o *contract.Order) { o.StopAfter = "seal" }), nil, problem.Invalid,
			"cannot stop after"},
		"no window": {changed(func(o *contract.Order) { o.NextOpen = true }), nil, problem.Invalid,
			"no window is set"},
		"a policy on keys": {order, func(d *desk) { bits := 521; d.Rules.MinECBits = &bits }, problem.Invalid,
			"does not support"},
		"a name of nobody": {changed(func(o *contract.Order) { o.Names = []string{"bad name"} }), nil,
			problem.Invalid, "bad name"},
		"settings that err": {order, func(d *desk) { d.Text = "procedure: broken" }, "", ""},
		"one way": {order, func(d *desk) {
			d.Text = strings.Replace(memory.Family, "undo: {run: gatectl former}", "undo: none, because: it "+
				"keeps no copy", 1)
		}, problem.Conflict, "it keeps no copy"},
	} {
		t.Run(name, func(t *testing.T) {
			d := newDesk(t)
			d.over()
			if c.before != nil {
				c.before(d)
			}
			_, err := d.Begin(t.Context(), c.o, "gull")
			if err == nil || d.Row.ID != 7 {
				t.Fatalf("it began, and %v", err)
			}
			if c.kind != "" {
				refused(t, err, c.kind, c.says)
			}
		})
	}
	d := newDesk(t)
	d.over()
	if _, err := d.Begin(t.Context(), changed(func(o *contract.Order) { o.At = &at }), "gull"); err != nil {
		t.Errorf("in an hour: %v", err)
	}
}

func TestARehearsalShowsEveryStepAndDoesNothing(t *testing.T) {
	d := newDesk(t)
	d.over()
	d.Pinned = []store.Pin{{ID: 1, Who: "harbour app"}}
	out, err := d.Rehearse(t.Context(), contract.RehearsalOrder{Order: order})
	if err != nil || len(out.Steps) < 8 || len(out.Targets) != 1 || len(out.Pins) != 1 || len(d.Done) > 0 ||
		d.Row.ID != 7 {
		t.Errorf("%d steps, %d targets, %d pins; did %v, %v", len(out.Steps), len(out.Targets), len(out.Pins), d.Done,
			err)
	}
}

// Who asked does not approve where the policy says so, and what changed since it was looked at is not approved.
func TestApproval(t *testing.T) {
	another := policy.ApprovedByAnother
	d := newDesk(t)
	d.Rules.Approval, d.Row.AskedBy = &another, "gull"
	if r := d.begun(); r.WaitingFor != replacement.Approval {
		t.Fatalf("%s for %s", r.State, r.WaitingFor)
	}
	shown, err := d.Replacement(t.Context(), "r7")
	if err != nil || shown.Effect == nil {
		t.Fatal(shown.Effect, err)
	}
	_, err = d.Approve(t.Context(), "r7", contract.Approval{}, "gull")
	refused(t, err, problem.Refused, "gull requested it")
	_, err = d.Approve(t.Context(), "r7", contract.Approval{Digest: "of another"}, "tern")
	refused(t, err, problem.Conflict, "changed since")
	if _, err = d.Approve(t.Context(), "r7", contract.Approval{Digest: shown.Effect.Digest}, "tern"); err != nil {
		t.Fatal(err)
	}
	if r := d.rests(); r.State != replacement.Sealed || r.ApprovedBy != "tern" {
		t.Errorf("%s, approved by %q: %s", r.State, r.ApprovedBy, r.Why)
	}
	_, err = d.Approve(t.Context(), "r7", contract.Approval{}, "tern")
	refused(t, err, problem.Conflict, "not waiting for approval")
	_, err = d.Approve(t.Context(), "r99", contract.Approval{}, "tern")
	refused(t, err, problem.NotFound, "r99")
}

// A person lets it go on outside of its windows with a reason, and pauses it while nothing new is served.
func TestGoAheadAndPause(t *testing.T) {
	d := newDesk(t)
	d.Paused = true
	d.begun()
	_, err := d.GoOn(t.Context(), "r7", contract.GoAhead{})
	refused(t, err, problem.Conflict, "give a reason")
	_, err = d.GoOn(t.Context(), "r7", contract.GoAhead{Reason: "two\nlines"})
	refused(t, err, problem.Invalid, "not a line")
	_, err = d.GoOn(t.Context(), "r9", contract.GoAhead{})
	refused(t, err, problem.NotFound, "r9")
	if _, err = d.Pause(t.Context(), "r7", "tern"); err != nil || d.Row.PausedBy != "tern" {
		t.Errorf("paused by %q, %v", d.Row.PausedBy, err)
	}
	ctx, noted := audit.Collect(t.Context())
	if _, err = d.GoOn(ctx, "r7", contract.GoAhead{Reason: "the harbour master wants it"}); err != nil {
		t.Fatal(err)
	}
	if said := noted.String(); !strings.Contains(said, "r7 outside of its windows: the harbour master wants it") {
		t.Errorf("noted: %q", said)
	}
	if r := d.rests(); r.State != replacement.Sealed || r.AnyTime == "" {
		t.Errorf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
	_, err = d.GoOn(t.Context(), "r7", contract.GoAhead{})
	refused(t, err, problem.Conflict, "waits for no go-ahead")
	_, err = d.Pause(t.Context(), "r7", "tern")
	refused(t, err, problem.Conflict, "cancel or revert it instead")
}

// A held replacement is closed as the wire shows, with a reason in the audit log.
func TestClosing(t *testing.T) {
	d := newDesk(t)
	d.Fails["prove"], d.Fails["undo activate"] = errors.New("no answer"), errors.New("the disk is full")
	if r := d.begun(); r.State != replacement.Held {
		t.Fatalf("%s: %s", r.State, r.Why)
	}
	shown, err := d.Replacement(t.Context(), "r7")
	if err != nil || len(shown.Actions) == 0 {
		t.Fatalf("%+v, %v", shown.Actions, err)
	}
	_, err = d.Close(t.Context(), "r7", contract.Closing{As: "new"}, "gull")
	refused(t, err, problem.Invalid, "the reason is missing")
	_, err = d.Close(t.Context(), "r7", contract.Closing{As: "better", Reason: "looked at it"}, "gull")
	refused(t, err, problem.Invalid, "not new, old or neither")
	_, err = d.Close(t.Context(), "r7", contract.Closing{As: "old", Reason: "looked at it"}, "gull")
	refused(t, err, problem.Conflict, "not every address serves the old certificate")
	if _, err = d.Close(t.Context(), "r7", contract.Closing{As: "new", Reason: "looked at it"}, "gull"); err != nil {
		t.Fatal(err)
	}
	if d.Row.State != replacement.Closed || d.Last != d.Row.NewSHA256 || d.Row.ClosedAs != "new" ||
		!slices.ContainsFunc(d.Audited, func(a string) bool { return strings.Contains(a, "looked at it") }) {
		t.Errorf("%s as %q, must serve %.8s; %v", d.Row.State, d.Row.ClosedAs, d.Last, d.Audited)
	}
	_, err = d.Close(t.Context(), "r7", contract.Closing{As: "new", Reason: "looked at it"}, "gull")
	refused(t, err, problem.Conflict, "only a held replacement")
}

// Nobody knows whether a step was done: the person must say so, and gives what it would have captured.
func TestResumeAfterAnUnknownEnd(t *testing.T) {
	for said, want := range map[string]string{SaidDone: "", SaidNotDone: "", SaidRepeat: "activate"} {
		d := newDesk(t)
		d.Fails["activate"], d.Unknown, d.Runs = errors.New("the line broke"), true, true
		if r := d.begun(); r.State != replacement.Held {
			t.Fatalf("%s: %s", r.State, r.Why)
		}
		_, err := d.Resume(t.Context(), "r7", contract.KnownOutcome{}, "gull")
		refused(t, err, problem.Conflict, "not safe to repeat")
		_, err = d.Resume(t.Context(), "r7", contract.KnownOutcome{Step: "maybe"}, "gull")
		refused(t, err, problem.Invalid, "is not an outcome")
		_, err = d.Resume(t.Context(), "r7", contract.KnownOutcome{Step: SaidDone,
			Values: map[string]string{"x": "y"}}, "gull")
		refused(t, err, problem.Invalid, "captures no {{x}}")
		d.Unknown = false
		delete(d.Fails, "activate")
		d.Serves = d.Certs[d.Row.NewSHA256]
		if said == SaidNotDone {
			d.Serves = d.First
		}
		if _, err = d.Resume(t.Context(), "r7", contract.KnownOutcome{Step: said}, "gull"); err != nil {
			t.Fatal(said, err)
		}
		r := d.rests()
		if done := slices.Contains(d.Done, "activate"); done == (want == "") && said != SaidNotDone {
			t.Errorf("%s: %s in %s: %s; did %v", said, r.State, r.Stage, r.Why, d.Done)
		}
		if said == SaidDone && r.State != replacement.Sealed {
			t.Errorf("%s: %s in %s: %s", said, r.State, r.Stage, r.Why)
		}
	}
}

// Cancel and revert reach each state where they mean something, and are refused with what to do where they do not.
func TestCancelAndRevert(t *testing.T) {
	d := newDesk(t)
	d.begun()
	if _, err := d.Ask(t.Context(), "r7", replacement.AskedCancel, "gull"); err == nil {
		t.Error("what is sealed was cancelled")
	}
	if _, err := d.Ask(t.Context(), "r7", replacement.AskedRevert, "gull"); err != nil {
		t.Fatal(err)
	}
	if r := d.rests(); r.State != replacement.Reverted || d.Serves != d.First {
		t.Errorf("%s: %s", r.State, r.Why)
	}
	_, err := d.Ask(t.Context(), "r77", replacement.AskedCancel, "gull")
	refused(t, err, problem.NotFound, "r77")
	d = newDesk(t)
	d.begun()
	d.Row.Tidied = true
	_, err = d.Ask(t.Context(), "r7", replacement.AskedRevert, "gull")
	refused(t, err, problem.Conflict, "copies of the old files were removed")
	d.Row.Tidied, d.Serves = false, d.Bench.Root()
	_, err = d.Ask(t.Context(), "r7", replacement.AskedRevert, "gull")
	refused(t, err, problem.Conflict, "it was changed since")
	for about, happens := range map[string]func(*desk){
		"that cannot be read may be why":   func(d *desk) { d.Silent = true },
		"that took it back by itself, too": func(d *desk) { d.Serves = d.First },
	} {
		d := newDesk(t)
		d.begun()
		happens(d)
		if _, err := d.Ask(t.Context(), "r7", replacement.AskedRevert, "gull"); err != nil {
			t.Errorf("a slot %s: %v", about, err)
		}
		d.rests()
	}
}

// A device that signs for itself decides on key, names and subject, and must be readable: nothing that is asked for is
// passed over.
func TestADeviceThatSignsForItselfTakesNoOrders(t *testing.T) {
	itself := procedure.Procedure{Name: "quay-host"}
	itself.Traits.SignsItself = true
	for says, o := range map[string]contract.Order{
		"the signer bench gets no request":  {Signer: "bench"},
		"decide themselves on the key type": {Key: request.RSA2048},
		"its slot must be readable":         {Unseen: true},
		"decide themselves on the names":    {Names: []string{"gate-1.tidewrack.example"}},
		"decide themselves on the subject":  {Subject: request.Subject{CommonName: "gate-1"}},
	} {
		refused(t, orderItself(&o, itself, "it did not begin"), problem.Invalid, says)
	}
	for _, asked := range []string{"", contract.DeviceSigner} {
		o := contract.Order{Signer: asked}
		if err := orderItself(&o, itself, "it did not begin"); err != nil || o.Signer != contract.DeviceSigner {
			t.Errorf("signed by %q: %v", o.Signer, err)
		}
	}
	o := contract.Order{Signer: "bench", Key: request.RSA2048}
	if err := orderItself(&o, procedure.Procedure{}, "it did not begin"); err != nil || o.Signer != "bench" {
		t.Errorf("any other device: signed by %q: %v", o.Signer, err)
	}
}

// What went back after it was signed is tried again with the same certificate and key, if they still hold.
func TestARetryTakesOverWhatWasSigned(t *testing.T) {
	d := newDesk(t)
	_, err := d.Retry(t.Context(), "r7", "gull")
	refused(t, err, problem.Conflict, "nothing is kept")
	d.Fails["prove"] = errors.New("no answer")
	signed := d.begun()
	if signed.State != replacement.Reverted {
		t.Fatalf("%s: %s", signed.State, signed.Why)
	}
	shown, err := d.Replacement(t.Context(), "r7")
	if err != nil || shown.Kept == nil || len(shown.Kept.What) < 2 {
		t.Errorf("kept: %+v, %v", shown.Kept, err)
	}
	delete(d.Fails, "prove")
	d.Doubts = []finding.Finding{finding.NameMissing.Found("a name is missing")}
	_, err = d.Retry(t.Context(), "r7", "gull")
	refused(t, err, problem.Conflict, "cannot be used any more")
	d.Doubts = nil
	made, err := d.Retry(t.Context(), "r7", "gull")
	if err != nil || made.ID != "r8" {
		t.Fatal(made.ID, err)
	}
	if r := d.rests(); r.State != replacement.Sealed || r.NewSHA256 != signed.NewSHA256 || *r.RetryOf != 7 {
		t.Errorf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
}

// A wrong request is taken back, and another is asked for with what was wrong set right.
func TestAskingAgain(t *testing.T) {
	d := newDesk(t)
	d.Pending = true
	d.begun()
	_, err := d.AskAgain(t.Context(), "r7", contract.Again{}, "gull")
	refused(t, err, problem.Invalid, "the reason is missing")
	_, err = d.AskAgain(t.Context(), "r7", contract.Again{Reason: "a name was wrong", Key: request.RSA4096}, "gull")
	refused(t, err, problem.Invalid, "does not support")
	first := d.Row.SPKI
	d.Pending = false
	if _, err = d.AskAgain(t.Context(), "r7", contract.Again{Reason: "a name was missing",
		Names: []string{"gate.tidewrack.example"}, Subject: request.Subject{Organization: "Tidewrack Ferries"}},
		"gull"); err != nil {
		t.Fatal(err)
	}
	r := d.rests()
	if r.State != replacement.Sealed || r.SPKI == first || len(d.Former) != 1 ||
		!slices.Contains(r.Plan.V.Names, "gate.tidewrack.example") ||
		r.Plan.V.Subject.Organization != "Tidewrack Ferries" {
		t.Errorf("%s in %s: %s; %+v; %d former", r.State, r.Stage, r.Why, r.Plan.V, len(d.Former))
	}
	_, err = d.AskAgain(t.Context(), "r7", contract.Again{Reason: "once more"}, "gull")
	refused(t, err, problem.Conflict, "not waiting for a signer")
	shown, err := d.Replacement(t.Context(), "r7")
	if err != nil || len(shown.Former) != 1 || shown.Former[0].Reason != "a name was missing" {
		t.Errorf("%+v, %v", shown.Former, err)
	}
}

// What is left on a device is cleared on demand, and a device is tidied of all that has ended.
func TestClearing(t *testing.T) {
	d := newDesk(t)
	_, err := d.Clear(t.Context(), "r7")
	refused(t, err, problem.Conflict, "nothing to clear")
	d.Fails["seal"] = errors.New("the disk is read-only")
	if r := d.begun(); r.State != replacement.Sealed || r.Leftover == "" {
		t.Fatalf("%s, %q", r.State, r.Leftover)
	}
	_, err = d.Clear(t.Context(), "r7")
	refused(t, err, problem.Outside, "read-only")
	delete(d.Fails, "seal")
	if _, err = d.Clear(t.Context(), "r7"); err != nil || d.Row.Leftover != "" {
		t.Errorf("%q, %v", d.Row.Leftover, err)
	}
	_, err = d.TidyDevice(t.Context(), "gate-9")
	refused(t, err, problem.NotFound, "gate-9")
}

// Whatever call of the store or of another room fails: what a person asked for is refused with that reason, and not
// done in part; asked again, it is done.
func TestEveryErrorIsToldToWhoAsks(t *testing.T) {
	sealed := func(d *desk) { d.begun() }
	waits := func(d *desk) { d.Pending = true; d.begun() }
	held := func(d *desk) {
		d.Fails["prove"], d.Fails["undo activate"] = errors.New("no answer"), errors.New("the disk is full")
		d.begun()
	}
	reverted := func(d *desk) { d.Fails["prove"] = errors.New("no answer"); d.begun() }
	another := policy.ApprovedByAnother
	for name, use := range map[string]struct {
		before func(*desk)
		ask    func(*desk) error
		most   int // calls before the work goes on by itself; 0: all
	}{
		"begin": {(*desk).over, func(d *desk) error {
			d.Paused = true
			_, err := d.Begin(d.T.Context(), order, "gull")
			return err
		}, 11},
		"rehearse": {(*desk).over, func(d *desk) error {
			_, err := d.Rehearse(d.T.Context(), contract.RehearsalOrder{Order: order})
			return err
		}, 0},
		"show":      {sealed, func(d *desk) error { _, err := d.Replacement(d.T.Context(), "r7"); return err }, 0},
		"show held": {held, func(d *desk) error { _, err := d.Replacement(d.T.Context(), "r7"); return err }, 12},
		"show kept": {reverted, func(d *desk) error { _, err := d.Replacement(d.T.Context(), "r7"); return err }, 0},
		"show to approve": {func(d *desk) { d.Rules.Approval = &another; d.begun() }, func(d *desk) error {
			_, err := d.Replacement(d.T.Context(), "r7")
			return err
		}, 0},
		"approve": {func(d *desk) { d.Rules.Approval = &another; d.begun() }, func(d *desk) error {
			_, err := d.Approve(d.T.Context(), "r7", contract.Approval{}, "tern")
			return err
		}, 16},
		"close": {held, func(d *desk) error {
			_, err := d.Close(d.T.Context(), "r7", contract.Closing{As: "new", Reason: "looked at it"}, "gull")
			return err
		}, 13},
		"retry": {reverted, func(d *desk) error { _, err := d.Retry(d.T.Context(), "r7", "gull"); return err }, 12},
		"ask again": {waits, func(d *desk) error {
			_, err := d.AskAgain(d.T.Context(), "r7", contract.Again{Reason: "a name was missing"}, "gull")
			return err
		}, 10},
		"pause": {waits, func(d *desk) error { _, err := d.Pause(d.T.Context(), "r7", "gull"); return err }, 0},
		"batch": {(*desk).over, func(d *desk) error {
			_, err := d.Batches.Rehearse(d.T.Context(), contract.BatchOrder{Slots: []string{"gate-1/web"},
				Signer: "bench"})
			return err
		}, 0},
		"pins": {func(d *desk) {
			d.Updates = []store.PinUpdate{{ID: 1, ReplacementID: 7, Who: "harbour app", What: cert.PinSHA256,
				OldSHA256: d.First.SHA256}}
		}, func(d *desk) error {
			if _, err := d.Service.Pins.Add(d.T.Context(), contract.NewPin{Device: "gate-1", Slot: "web", Who: "app",
				How: "mail"}, "gull"); err != nil {
				return err
			}
			if _, err := d.Service.Pins.List(d.T.Context(), "gate-1", "web"); err != nil {
				return err
			}
			if _, err := d.Service.Pins.Updates(d.T.Context(), "r7"); err != nil {
				return err
			}
			_, err := d.Service.Pins.Confirm(d.T.Context(), "n1", "", "gull")
			return err
		}, 0},
		"export": {func(d *desk) { keep := true; d.Rules.KeepKeys = &keep; d.begun() }, func(d *desk) error {
			_, err := d.Exports.ExportKey(d.T.Context(), "r7", contract.KeyExport{Reason: "to move it to another box",
				Passphrase: "quay-side-cupboard"}, "gull")
			return err
		}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			for at := 1; use.most == 0 || at <= use.most; at++ {
				d := newDesk(t)
				use.before(d)
				d.Kill() // nothing goes on beside it
				d.Service.Wait()
				d.restart()
				d.Calls, d.FailAt = 0, at
				err := use.ask(d)
				if d.Failed == "" || at > 60 {
					if at < 2 || err != nil {
						t.Fatalf("after %d calls: %v", at, err)
					}
					return
				}
				if err == nil && !slices.Contains([]string{"Families.Procedure", "Signing.Signer"}, d.Failed) {
					// what it began with is stored, and a signer may have been removed since
					t.Errorf("call %d, %s, fails, and nobody is told", at, d.Failed)
				} else if err != nil && !errors.Is(err, memory.ErrShelf) &&
					!strings.Contains(err.Error()+whyOf(err), memory.ErrShelf.Error()) {
					t.Errorf("call %d, %s, fails, and what is told is %v", at, d.Failed, err)
				}
			}
		})
	}
}

func whyOf(err error) string {
	var p *problem.Error
	errors.As(err, &p)
	if p == nil {
		return ""
	}
	return p.Why
}
