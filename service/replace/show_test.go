package replace

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/device"
	"freshseal/device/links"
	"freshseal/service/engine"
	"freshseal/service/monitor"
	"freshseal/store"
	"freshseal/wire"
)

// Every state in which a replacement stands still says what a person can do, and names what stopped it.
func TestEveryStandstillSaysWhatToDo(t *testing.T) {
	at := time.Date(2026, 6, 1, 22, 0, 0, 0, time.UTC)
	waits := func(w replacement.WaitingFor, change func(*contract.Replacement)) contract.Replacement {
		r := contract.Replacement{Progress: replacement.Progress{State: replacement.Waiting, Stage: replacement.Gate,
			WaitingFor: w}}
		if change != nil {
			change(&r)
		}
		return r
	}
	ended := func(s replacement.State, stage replacement.Stage, why string) contract.Replacement {
		return contract.Replacement{Progress: replacement.Progress{State: s, Stage: stage, Why: why}}
	}
	kept := ended(replacement.Reverted, replacement.Prove, "openat: disk full")
	kept.Kept = &contract.Kept{}
	left := ended(replacement.Cancelled, replacement.Request, "")
	left.Leftover = "the folder is still there"
	for name, c := range map[string]struct {
		r    contract.Replacement
		say  string
		does []next.Do
	}{
		"packed by nobody yet": {waits(replacement.Signer, nil), "pack its request", []next.Do{next.PackParcel}},
		"packed": {waits(replacement.Signer, func(r *contract.Replacement) { r.Parcel = "p1" }),
			"give what the signer sends back",
			[]next.Do{next.TakeIn}},
		"a domain": {waits(replacement.Validation, nil), "prove to the signer whose the domain is",
			[]next.Do{next.ListTasks}},
		"approval":   {waits(replacement.Approval, nil), "look at it and approve it", []next.Do{next.Approve}},
		"a go-ahead": {waits(replacement.GoAhead, nil), "look at it, then let it go on", []next.Do{next.GoOn}},
		"a window": {waits(replacement.Window, func(r *contract.Replacement) { r.OpensAt = &at }),
			"it goes on by itself at 2026-06-01 22:00 UTC; or touch the device all the same", []next.Do{next.GoOn}},
		"a freeze": {waits(replacement.Window, nil),
			"wait until that has ended, or change the device anyway", []next.Do{next.GoOn}},
		"another one": {waits(replacement.Device, nil), "it goes on by itself when that one has ended",
			[]next.Do{next.ListReplacements}},
		"a person": {waits(replacement.Person, nil), "do the next step by hand", []next.Do{next.ListTasks}},
		"held untouched": {ended(replacement.Held, replacement.Survey, "the host key has changed"),
			"if the new host key is right, change it in the device's access",
			[]next.Do{next.ChangeDevice, next.Resume, next.Cancel}},
		"held touched": {ended(replacement.Held, replacement.Activate, "it is lost; then a revert was asked for"),
			"correct what the reason names", []next.Do{next.Resume, next.Revert}},
		"reverted": {ended(replacement.Reverted, replacement.Prove, "the old one is served\nby 192.0.2.1"),
			"correct what the reason names", []next.Do{next.Replace}},
		"reverted, kept": {kept, "make room on the device; then use what was signed", []next.Do{next.Retry}},
		"no reason": {ended(replacement.Reverted, replacement.Prove, " "), "find out what happened",
			[]next.Do{next.Replace}},
		"something left": {left, "correct what the reason names", []next.Do{next.Clear}},
		"sealed":         {ended(replacement.Sealed, replacement.Seal, ""), "", nil},
		"running":        {ended(replacement.Running, replacement.Prove, ""), "", nil},
	} {
		say, actions := nextFor(c.r)
		var does []next.Do
		for _, a := range actions {
			does = append(does, a.Do)
		}
		if say != c.say || !slices.Equal(does, c.does) {
			t.Errorf("%s: %q %v", name, say, does)
		}
	}
}

// The steps whose end nobody saw are those that were not done again since.
func TestOpenStepsAreThoseWhoseEndNobodySaw(t *testing.T) {
	ended := store.At(time.Now())
	step := func(id int64, name string, change func(*store.Step)) store.Step {
		s := store.Step{ID: id, Section: "activate", Name: name, EndedAt: ended}
		if change != nil {
			change(&s)
		}
		return s
	}
	open := func(s *store.Step) { s.EndedAt = store.Moment{} }
	lost := func(s *store.Step) { s.Unknown = true }
	steps := []store.Step{step(1, "put the key", open), step(2, "put the key", nil), step(3, "test", lost),
		step(4, "reload", open),
		{ID: 5, Section: "revert", Name: "reload", EndedAt: ended}}
	names := func(after int64) (out []string) {
		for _, s := range engine.OpenSteps(steps, after) {
			out = append(out, s.Name)
		}
		return out
	}
	if got := names(0); !slices.Equal(got, []string{"test", "reload"}) {
		t.Errorf("%q", got)
	}
	if got := names(3); !slices.Equal(got, []string{"reload"}) { // a person let it go on after the third
		t.Errorf("%q", got)
	}
}

// The way back begins only if nothing of the way there may still run, and never over a lost step of its own.
func TestTheWayBackWaitsForWhatMayStillRun(t *testing.T) {
	known, lost, runs := &device.StepError{}, &device.StepError{Cause: links.ErrLost},
		&device.StepError{Cause: links.ErrLost, Runs: true}
	there, back := store.Step{Section: string(procedure.Activate)}, store.Step{Section: string(procedure.Revert)}
	for name, c := range map[string]struct {
		err  error
		last store.Step
		want bool
	}{
		"no error of a step":     {errors.New("disk"), there, false},
		"it failed for certain":  {known, there, true},
		"lost on the way there":  {lost, there, true},
		"lost on the way back":   {lost, back, false},
		"lost in the clearing":   {lost, store.Step{Section: string(procedure.Cancel)}, false},
		"lost at the very end":   {lost, store.Step{Section: string(device.Final)}, false},
		"it may still run":       {runs, there, false},
		"the device cannot tell": {errors.Join(runs, device.ErrCannotTell), there, true},
	} {
		if got := engine.MayGoBack(c.err, c.last); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// A slot is new when every address serves the new leaf, and old when none does any more.
func TestASlotIsReadAtEveryAddress(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	fresh, old, third := root.Leaf(t, "gate.example"), root.Leaf(t, "gate.example"), root.Leaf(t, "gate.example")
	sees := func(leaf *cert.Certificate, others ...judge.Other) monitor.Sight {
		s := monitor.Sight{Others: others}
		if leaf == nil {
			s.Reading = wire.Reading{Why: &finding.Failure{What: "nobody answers"}}
		} else {
			s.Reading = wire.Reading{Chain: []*cert.Certificate{leaf}}
		}
		return s
	}
	other := func(node string, leaf *cert.Certificate) judge.Other {
		if leaf == nil {
			return judge.Other{Node: node, Address: "192.0.2.2", Port: 443,
				Failure: &finding.Failure{What: "its other address is silent"}}
		}
		return judge.Other{Node: node, Address: "192.0.2.2", Port: 443, SHA256: leaf.SHA256, Subject: "gate.example"}
	}
	for name, c := range map[string]struct {
		sight    monitor.Sight
		nodes    bool
		new, old string // what is said, a part
	}{
		"the new one": {sees(fresh.Certificate), true, "", "instead of the old leaf"},
		"the old one": {sees(old.Certificate), true, "instead of the new leaf", ""},
		"a third one": {sees(third.Certificate), true, "instead of the new leaf",
			"instead of the old leaf"},
		"nothing": {sees(nil), true, "nobody answers", "nobody answers"},
		"new, and old at another": {sees(fresh.Certificate, other("", old.Certificate)), true,
			"instead of the new leaf", "instead of the old leaf"},
		"new, and silent at another": {sees(fresh.Certificate, other("", nil)), true, "its other address is silent",
			"instead of the old leaf"},
		"new, a node comes later": {sees(fresh.Certificate, other("b", old.Certificate)), false, "",
			"instead of the old leaf"},
		"new, and a node should be": {sees(fresh.Certificate, other("b", old.Certificate)), true,
			"instead of the new leaf", "instead of the old leaf"},
		"old, and still new elsewhere": {sees(old.Certificate, other("b", fresh.Certificate)), true,
			"instead of the new leaf", "still serves the new leaf"},
		"old, and a third elsewhere": {sees(old.Certificate, other("b", third.Certificate)), true,
			"instead of the new leaf", ""},
	} {
		if got := engine.NotNew(fresh.SHA256, c.sight, c.nodes); (got == "") != (c.new == "") ||
			!strings.Contains(got, c.new) {
			t.Errorf("%s, is it new: %q", name, got)
		}
		if got := engine.NotOld(old.SHA256, fresh.SHA256, c.sight); (got == "") != (c.old == "") ||
			!strings.Contains(got, c.old) {
			t.Errorf("%s, is it old: %q", name, got)
		}
	}
	// What stood is not known: anything but the new one will do, silence too.
	for name, sight := range map[string]monitor.Sight{"a third one": sees(third.Certificate), "nothing": sees(nil)} {
		if got := engine.NotOld("", fresh.SHA256, sight); got != "" {
			t.Errorf("%s where nothing was known: %s", name, got)
		}
	}
	if engine.NotOld("", fresh.SHA256, sees(fresh.Certificate)) == "" {
		t.Error("the new one is not the old one")
	}
}

func TestAHeldOneIsClosedAsTheWireShows(t *testing.T) {
	for want, words := range map[next.Do][]look.Word{next.CloseNew: {look.New, look.New},
		next.CloseOld: {look.Before}, next.CloseNeither: {look.New, look.Before}} {
		if got := closings("r7", words); len(got) != 1 || got[0] != want.On("r7") {
			t.Errorf("%v: %v", words, got)
		}
	}
	if got := closings("r7", nil); got[0].Do != next.CloseNeither {
		t.Errorf("nothing was read: %v", got)
	}
}

// Asking again sets right what was wrong in the plan, and leaves the rest.
func TestAskingAgainChangesWhatWasWrong(t *testing.T) {
	plan := request.Plan{Names: []string{"gate.example", "gate.local"},
		Subject: request.Subject{CommonName: "gate.local"},
		Sources: map[string]string{"gate.example": "asked"}}
	got := overPlan(contract.Again{Without: []string{"gate.local"}, Names: []string{"admin.example"}}, plan)
	if !slices.Equal(got.Names, []string{"gate.example", "admin.example"}) ||
		got.Subject.CommonName != "gate.example" ||
		got.Sources["admin.example"] != "asked again" || len(plan.Sources) != 1 || len(plan.Names) != 2 {
		t.Errorf("%+v\nof %+v", got, plan)
	}
	if same := overPlan(contract.Again{},
		request.Plan{Names: []string{"a.example"},
			Subject: request.Subject{CommonName: "a.example"}}); same.Subject.CommonName != "a.example" {
		t.Errorf("%+v", same)
	}
}

func TestABatchCountsWhatBecameOfItsSlots(t *testing.T) {
	var a contract.Account
	for _, c := range []struct{ outcome, state string }{{store.ItemWaiting, ""}, {store.ItemRefused, ""},
		{store.ItemLeft, ""},
		{store.ItemStarted, "held"}, {store.ItemStarted, "sealed"}, {store.ItemStarted, "reverted"},
		{store.ItemStarted, "cancelled"},
		{store.ItemStarted, "closed"}, {store.ItemStarted, "running"}, {store.ItemStarted, "waiting"}} {
		addTo(&a, c.outcome, c.state, 2)
	}
	want := contract.Account{Slots: 20, Waiting: 2, Refused: 2, Left: 2, Held: 2, Sealed: 2, Reverted: 2,
		Cancelled: 2, Closed: 2, UnderWay: 4}
	if a != want {
		t.Errorf("%+v", a)
	}
}

func TestAStepIsShownWithItsOutcome(t *testing.T) {
	ended := store.At(time.Now())
	for want, s := range map[string]store.Step{"running": {}, "done": {EndedAt: ended, OK: true},
		"failed": {EndedAt: ended}, "unknown": {EndedAt: ended, Unknown: true}} {
		if got := showStep(s); got.Outcome != want || (got.EndedAt == nil) != (want == "running") {
			t.Errorf("%s: %+v", want, got)
		}
	}
}
