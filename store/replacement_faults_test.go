package store_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/answer"
	"freshseal/core/judgement/due"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/issuance"
)

// quay is a store on a disk that fails, with a device of three slots.
type quay struct {
	faults
	slots []store.Slot // eap, ldap, web
}

func withQuay(t *testing.T) quay {
	t.Helper()
	f := withFaults(t)
	if err := f.Devices.Add(t.Context(), []store.NewDevice{{Device: store.Device{Name: "gate", Site: "Mainquay",
		Family: "quay-gateway", Cluster: "pair"}, Slots: []store.Slot{{Name: "eap"}, {Name: "ldap"},
		{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := f.Slots.Of(t.Context(), "gate")
	if err != nil {
		t.Fatal(err)
	}
	return quay{f, slots}
}

func (q quay) begin(n int) store.Replacement {
	return store.Replacement{DeviceID: q.slots[n].DeviceID, SlotID: q.slots[n].ID, Device: "gate",
		Slot:   q.slots[n].Name,
		Signer: "harbour", AskedBy: "tern", StartedAt: store.At(testkit.Now), Cluster: "pair",
		Plan: store.JSON[request.Plan]{V: request.Plan{Names: []string{"gate"}}}}
}

// starts begins a replacement at a stage.
func (q quay) starts(n int, stage replacement.Stage, of *store.BatchItem) int64 {
	q.t.Helper()
	var id int64
	q.does(func() error {
		var err error
		id, err = q.Replacements.Add(q.t.Context(), q.begin(n), []int64{q.slots[n].ID},
			replacement.Progress{Stage: stage,
				State: replacement.Running}, "procedure: x", of)
		return err
	})
	return id
}

func (q quay) goes(id int64, want string, kind replacement.EventKind, more ...replacement.WaitingFor) {
	q.t.Helper()
	e := replacement.Event{Kind: kind, Why: "as the test wants"}
	if len(more) > 0 {
		e.Waiting = more[0]
	}
	q.does(func() error {
		r, _, err := q.Replacements.Advance(q.t.Context(), id, e, store.At(testkit.Now.Add(time.Hour)))
		if got := fmt.Sprintf("%s %s", r.Stage, r.State); err == nil && got != want {
			q.t.Errorf("after %s: %s, want %s", kind, got, want)
		}
		return err
	})
}

func (q quay) lists(want string, read func() ([]store.Replacement, error)) {
	q.t.Helper()
	q.says(want, func() (any, error) {
		rows, err := read()
		return texts(rows, func(r store.Replacement) []any {
			return []any{fmt.Sprintf("r%d", r.ID), r.Device + "/" + r.Slot, r.Stage, r.State}
		}), err
	})
}

// A replacement is carried through, with everything that is recorded on its way.
func TestAReplacementOnADiskThatFails(t *testing.T) {
	q := withQuay(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	root := testkit.Root(t, "Quay Root")
	old, leaf := root.Leaf(t, "old"), root.Leaf(t, "gate")
	path := []*cert.Certificate{leaf.Certificate, root.Certificate}
	id := q.starts(2, replacement.Request, nil)
	q.lists("r1 gate/web request running", func() ([]store.Replacement, error) {
		r, err := q.Replacements.Get(ctx, id)
		return []store.Replacement{r}, err
	})
	// a second one of the same slot, however it is asked for
	second := q.begin(0)
	_, err := q.Replacements.Add(ctx, second, []int64{q.slots[0].ID, q.slots[2].ID}, replacement.Progress{
		Stage: replacement.Survey, State: replacement.Running}, "procedure: x", nil)
	q.refuses(store.ErrTaken, err)
	key, err := request.NewKey(request.ECDSAP256)
	if err != nil {
		t.Fatal(err)
	}
	made, err := request.Make(request.Plan{Names: []string{"gate"}}.Complete(), key)
	if err != nil {
		t.Fatal(err)
	}
	q.does(func() error { return q.Replacements.SetRequest(ctx, id, made) })
	q.refuses(store.ErrNotFound, q.Replacements.SetRequest(ctx, 99, made))
	q.lists("r1 gate/web request running", func() ([]store.Replacement, error) {
		return q.Replacements.ByKey(ctx, cert.Fingerprint(made.SPKI()))
	})
	q.does(func() error { return q.Replacements.SetOld(ctx, id, q.slots[2].ID, old.SHA256) })
	q.refuses(store.ErrNotFound, q.Replacements.SetOld(ctx, id, q.slots[0].ID, old.SHA256))
	q.says("web "+old.SHA256, func() (any, error) {
		all, err := q.Replacements.Targets(ctx, id)
		return texts(all[id], func(t store.Target) []any { return []any{t.Name, t.OldSHA256} }), err
	})
	q.says("procedure: x", func() (any, error) {
		return q.Replacements.ProcedureText(ctx, store.Digest("procedure: x"))
	})
	_, err = q.Replacements.ProcedureText(ctx, "00")
	q.refuses(store.ErrNotFound, err)

	q.refuses(store.ErrNotFound, q.Replacements.SetPath(ctx, id, path)) // before its time
	q.goes(id, "sign running", replacement.Done)
	q.goes(id, "sign waiting", replacement.Waits, replacement.Signer)
	q.does(func() error { return q.Signers.PutUnmatched(ctx, leaf.Certificate, issuance.Unmatched{CameAt: at}) })
	q.does(func() error {
		return q.Signers.PutUnusedAnswer(ctx, leaf.Certificate, issuance.UnusedAnswer{ReplacementID: id, CameAt: at},
			true)
	})
	learnt := &issuance.Learnt{Signer: "harbour", Issuer: answer.Issuer{SPKI: "ab", Subject: "Quay Root"}, By: "tern",
		Asked: []string{"gate"}}
	q.does(func() error {
		r, _, err := q.Replacements.Accept(ctx, id, path, learnt, at)
		if err == nil && (r.Stage != replacement.Gate || r.State != replacement.Running) {
			t.Errorf("%s %s", r.Stage, r.State)
		}
		return err
	})
	_, _, err = q.Replacements.Accept(ctx, id, path, learnt, at)
	q.refuses(store.ErrNotFound, err)
	unmatched, err := q.Signers.Unmatched(ctx)
	unused, failed := q.Signers.UnusedAnswers(ctx, id)
	issuers, missed := q.Signers.Issuers(ctx)
	if len(unmatched)+len(unused) != 0 || len(issuers["harbour"]) != 1 || errors.Join(err, failed, missed) != nil {
		t.Errorf("%v, %v, %v", unmatched, unused, issuers)
	}

	// At the gate.
	q.goes(id, "gate waiting", replacement.Waits, replacement.Window)
	q.does(func() error { return q.Replacements.SetOpens(ctx, id, at, "a freeze") })
	q.does(func() error { return q.Replacements.SetApproved(ctx, id, "gull", "digest") })
	q.does(func() error { return q.Replacements.SetPaused(ctx, id, "tern") })
	q.says("1 window a freeze true", func() (any, error) {
		rows, err := q.Replacements.AtGates(ctx)
		return texts(rows, func(g store.AtGate) []any {
			return []any{g.ID, g.WaitingFor, g.Closed, g.OpensAt.Equal(testkit.Now)}
		}), err
	})
	q.does(func() error { return q.Replacements.SetGoAhead(ctx, id, "it burns") })
	q.does(func() error { return q.Replacements.SetGoAhead(ctx, id, "") })
	for _, nobody := range []error{q.Replacements.SetOpens(ctx, 99, at, ""),
		q.Replacements.SetApproved(ctx, 99, "", ""),
		q.Replacements.SetPaused(ctx, 99, ""), q.Replacements.SetGoAhead(ctx, 99, ""),
		q.Replacements.SetClosed(ctx, 99, "new"), q.Replacements.SetLeftover(ctx, 99, "", at, at)} {
		q.refuses(store.ErrNotFound, nobody)
	}
	q.says("gull digest it burns ''", func() (any, error) {
		r, err := q.Replacements.Get(ctx, id)
		return fmt.Sprintf("%s %s %s '%s'", r.ApprovedBy, r.ApprovedWhat, r.AnyTime, r.PausedBy), err
	})
	q.says("0", func() (any, error) { return q.Replacements.Touching(ctx, q.slots[2].DeviceID, "pair", 0) })
	q.goes(id, "gate running", replacement.Arrived)
	q.goes(id, "backup running", replacement.Done)
	for want, but := range map[string]int64{"1": 0, "0": id} {
		q.says(want, func() (any, error) { return q.Replacements.Touching(ctx, 0, "pair", but) })
		q.says(want, func() (any, error) { return q.Replacements.Touching(ctx, q.slots[2].DeviceID, "", but) })
	}
	q.does(func() error {
		return q.Replacements.SetStood(ctx, id,
			[]store.Stood{{SlotID: q.slots[2].ID, Look: "wire", Place: "192.0.2.1:443",
				Value: old.SHA256}, {Look: "now", Value: "factory"}})
	})
	q.says("now factory; wire "+old.SHA256, func() (any, error) {
		rows, err := q.Replacements.Stood(ctx, id)
		return texts(rows, func(s store.Stood) []any { return []any{s.Look, s.Value} }), err
	})
	for _, stage := range replacement.Stages[5:] {
		q.goes(id, string(stage)+" running", replacement.Done)
	}
	q.goes(id, "seal sealed", replacement.Done)
	q.lists("r1 gate/web seal sealed", func() ([]store.Replacement, error) {
		return q.Replacements.Of(ctx, q.slots[2].DeviceID)
	})
	q.lists("r1 gate/web seal sealed", func() ([]store.Replacement, error) {
		return q.Replacements.List(ctx, q.slots[2].ID, 9)
	})
	q.lists("", func() ([]store.Replacement, error) { return q.Replacements.List(ctx, q.slots[0].ID, 9) })
	q.lists("r1 gate/web seal sealed", func() ([]store.Replacement, error) {
		return q.Replacements.In(ctx, replacement.Sealed)
	})
	q.says("1 sealed "+leaf.SHA256, func() (any, error) {
		rows, err := q.Replacements.Installs(ctx, q.slots[2].ID)
		return texts(rows, func(i store.Install) []any { return []any{i.ID, i.State, i.NewSHA256} }), err
	})
	for want, period := range map[string][2]int{"gate/web tern harbour": {0, 2}, "": {2, 3}} {
		q.says(want, func() (any, error) {
			rows, err := q.Reports.SealedBetween(ctx, store.At(testkit.Now.Add(time.Duration(period[0])*time.Hour)),
				store.At(testkit.Now.Add(time.Duration(period[1])*time.Hour)), "Mainquay")
			return texts(rows, func(s store.Sealed) []any {
				return []any{s.Device + "/" + s.Slot, s.AskedBy, s.Signer}
			}), err
		})
	}
	q.says("gate 3600000", func() (any, error) {
		rows, err := q.Reports.TookSince(ctx, at, 9)
		return texts(rows, func(s store.Took) []any { return []any{s.Device, s.All} }), err
	})

	// It got worse soon after.
	slot := q.slots[2]
	for n, base := range []due.Condition{due.Fresh, due.Unexpected} {
		slot.ReadAt, slot.Base = store.At(testkit.Now.Add(time.Duration(n+2)*time.Hour)), base
		slot.NotAfter = store.At(testkit.Now.AddDate(1, 0, 0))
		slot.DueFrom, slot.OverdueFrom = slot.NotAfter, slot.NotAfter
		slot.Chain.V = []string{old.SHA256}
		if _, err := q.Readings.Add(ctx, []store.NewReading{{Slot: slot}}); err != nil {
			t.Fatal(err)
		}
	}
	q.says("1 unexpected true", func() (any, error) {
		a, err := q.Replacements.Aftermath(ctx, slot.ID, 48*time.Hour)
		return fmt.Sprint(a.ReplacementID, " ", a.Became, " ", a.Revertible()), err
	})
	_, err = q.Replacements.Aftermath(ctx, slot.ID, time.Minute)
	q.refuses(store.ErrNotFound, err)

	// Sealed, it can be taken back; while another one is under way it cannot.
	other := q.starts(2, replacement.Survey, nil)
	_, _, err = q.Replacements.Advance(ctx, id, replacement.Event{Kind: replacement.AskedRevert}, at)
	q.refuses(store.ErrTaken, err)
	q.goes(other, "survey running", replacement.AskedCancel)
	q.goes(other, "survey cancelled", replacement.ClearedAway)
	q.goes(id, "seal running", replacement.AskedRevert)
	q.goes(id, "seal reverted", replacement.Restored)
	q.says("map[cancelled:1 reverted:1]", func() (any, error) {
		states, _, err := q.Replacements.Count(ctx)
		return states, err
	})
	for want, f := range map[string]store.ReplacementFilter{"r1": {State: replacement.Reverted},
		"r2":    {Stage: replacement.Survey},
		"r1 r2": {Text: "GATE/web"}, "": {Device: "mole"}} {
		q.says(want, func() (any, error) {
			rows, _, err := q.Replacements.Page(ctx, f, store.Page{Most: 9})
			out := ""
			for i, r := range rows {
				out += map[bool]string{true: " "}[i > 0] + fmt.Sprintf("r%d", r.ID)
			}
			return out, err
		})
		q.does(func() error {
			n, err := q.Replacements.CountOf(ctx, f)
			if err == nil && n != strings.Count(want, "r") {
				t.Errorf("%+v: %d, want %q", f, n, want)
			}
			return err
		})
	}
}

// What a replacement has kept goes over to another try of it, or its time is over.
func TestAnotherTryOnADiskThatFails(t *testing.T) {
	q := withQuay(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	later := store.At(testkit.Now.AddDate(0, 0, 9))
	leaf := testkit.Root(t, "Quay Root").Leaf(t, "gate")
	id := q.starts(2, replacement.Sign, nil)
	q.does(func() error { return q.Secrets.Put(ctx, "replacement/r1/key", []byte("sealed")) })
	q.goes(id, "sign running", replacement.AskedCancel)
	q.goes(id, "sign cancelled", replacement.ClearedAway)
	q.does(func() error { return q.Replacements.SetKeeps(ctx, []int64{id}, later) })
	q.says("[]", func() (any, error) { return q.Replacements.KeptUntil(ctx, at) })
	q.says("[1]", func() (any, error) { return q.Replacements.KeptUntil(ctx, later) })
	q.says("[1]", func() (any, error) { return q.Replacements.KeptOf(ctx, q.slots[2].ID, 0) })
	q.says("[]", func() (any, error) { return q.Replacements.KeptOf(ctx, q.slots[2].ID, id) })
	q.does(func() error { return q.Replacements.SetTidied(ctx, []int64{id}) })
	q.does(func() error { return q.Replacements.SetClosed(ctx, id, "new") })
	r := q.begin(2)
	r.RetryOf, r.Work, r.Edition, r.Request, r.SPKI, r.NewSHA256 = &id, "folder", 2, []byte("request"), "ab",
		leaf.SHA256
	var again int64
	over := func(n int64) ([]store.Step, map[string][]byte, error) {
		return []store.Step{{Section: "request", Name: "make", Capture: "sealed", Captured: []byte("open"), OK: true,
				EndedAt: at, BeganAt: at}, {Section: "request", Name: "fetch", Capture: "values",
				Captured: []byte("{}"), OK: true}},
			map[string][]byte{fmt.Sprintf("replacement/r%d/key", n): []byte("sealed")}, nil
	}
	seal := func(step int64, text []byte) []byte { return fmt.Appendf(nil, "%s of s%d", text, step) }
	q.does(func() error {
		var err error
		again, err = q.Replacements.Retry(ctx, r, []int64{q.slots[2].ID}, replacement.Progress{Stage: replacement.Gate,
			State: replacement.Running}, "procedure: y", over, seal)
		return err
	})
	if _, err := q.Replacements.Retry(ctx, r, []int64{q.slots[2].ID}, replacement.Progress{Stage: replacement.Gate},
		"procedure: y", over, seal); !errors.Is(err, store.ErrTaken) {
		t.Errorf("twice: %v", err)
	}
	q.says("make open of s1; fetch {}", func() (any, error) {
		rows, err := q.Journal.Steps(ctx, again)
		return texts(rows, func(s store.Step) []any { return []any{s.Name, string(s.Captured)} }), err
	})
	q.says("folder 2 ab 1", func() (any, error) {
		r, err := q.Replacements.Get(ctx, again)
		if err != nil {
			return nil, err
		}
		return fmt.Sprint(r.Work, " ", r.Edition, " ", r.SPKI, " ", *r.RetryOf), nil
	})
	q.says("sealed", func() (any, error) {
		s, err := q.Secrets.Get(ctx, fmt.Sprintf("replacement/r%d/key", again))
		return string(s), err
	})
	_, err := q.Secrets.Get(ctx, "replacement/r1/key")
	q.refuses(store.ErrNotFound, err)
	if kept, err := q.Replacements.KeptUntil(ctx, later); err != nil || len(kept) != 0 {
		t.Errorf("the first keeps nothing any more: %v, %v", kept, err)
	}
}

// The journal, the tasks in it and the files that are kept.
func TestTheJournalOnADiskThatFails(t *testing.T) {
	q := withQuay(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	id := q.starts(2, replacement.Install, nil)
	begins := func(step store.Step) int64 {
		t.Helper()
		var n int64
		q.does(func() error {
			var err error
			n, err = q.Journal.BeginStep(ctx, step)
			return err
		})
		return n
	}
	first := begins(store.Step{ReplacementID: id, Section: "install", Name: "upload", Verb: "run", BeganAt: at})
	q.does(func() error {
		return q.Journal.ShowStep(ctx, store.Step{ID: first, ReplacementID: id, Output: "half", Percent: 50}, at)
	})
	done := store.Step{ID: first, ReplacementID: id, OK: true, EndedAt: store.At(testkit.Now.Add(2 * time.Second)),
		Output:  "all",
		Capture: "values", Captured: []byte(`{"a":1}`),
		Kept: []store.KeptFile{{ReplacementID: id, Name: "config", At: at, Size: 3,
			SHA256: "ab", Sealed: []byte("abc")}}}
	q.does(func() error { return q.Journal.EndStep(ctx, done) })
	q.does(func() error { return q.Journal.SetCaptured(ctx, store.Step{ID: first}) })
	for _, nobody := range []error{q.Journal.EndStep(ctx, store.Step{ID: 99}),
		q.Journal.SetCaptured(ctx, store.Step{ID: 99}),
		q.Journal.ShowStep(ctx, store.Step{ID: first}, at)} { // it has ended
		q.refuses(store.ErrNotFound, nobody)
	}
	q.says("upload all true ''", func() (any, error) {
		rows, err := q.Journal.Steps(ctx, id)
		return texts(rows, func(s store.Step) []any {
			return []any{s.Name, s.Output, s.OK, "'" + string(s.Captured) + "'"}
		}), err
	})
	q.says("[2000]", func() (any, error) { return q.Journal.Took(ctx, "quay-gateway", "upload", 9) })
	q.says("config 3 ''", func() (any, error) {
		rows, err := q.Journal.KeptFiles(ctx, id)
		return texts(rows, func(f store.KeptFile) []any {
			return []any{f.Name, f.Size, "'" + string(f.Sealed) + "'"}
		}), err
	})
	q.says("abc", func() (any, error) {
		file, err := q.Journal.KeptFile(ctx, id, "config")
		return string(file.Sealed), err
	})
	_, err := q.Journal.KeptFile(ctx, id, "other")
	q.refuses(store.ErrNotFound, err)

	task := begins(store.Step{ReplacementID: id, Section: "install", Name: "by hand", Verb: "person", BeganAt: at,
		Task: &store.Task{Ask: "serial", DueAt: at,
			Files: store.JSON[[]store.TaskFile]{V: []store.TaskFile{{Name: "key.pem",
				Content: []byte("k"), Secret: true}, {Name: "chain.pem", Content: []byte("c")}}}}})
	q.says("0", func() (any, error) { return q.Tasks.Count(ctx, 0) }) // it does not wait yet
	q.goes(id, "install waiting", replacement.Waits, replacement.Person)
	q.says("1", func() (any, error) { return q.Tasks.Count(ctx, 0) })
	q.says("0", func() (any, error) { return q.Tasks.Count(ctx, 99) })
	q.does(func() error { return q.Tasks.Take(ctx, task, "gull") })
	q.does(func() error { return q.Tasks.AddNote(ctx, task, store.Note{By: "gull", Text: "at it"}) })
	for _, nobody := range []error{q.Tasks.Take(ctx, 99, "gull"), q.Tasks.AddNote(ctx, 99, store.Note{})} {
		q.refuses(store.ErrNotFound, nobody)
	}
	show := func(t store.Task) []any {
		left := 0
		for _, f := range t.Files.V {
			left += len(f.Content)
		}
		return []any{t.Name, t.Ask, t.TakenBy, t.Open, t.After, len(t.Notes.V), left, t.Device + "/" + t.Slot}
	}
	q.does(func() error { return q.Tasks.ForgetFiles(ctx, id) })
	for _, read := range []func() ([]store.Task, error){
		func() ([]store.Task, error) { return q.Tasks.Open(ctx) },
		func() ([]store.Task, error) { t, err := q.Tasks.Get(ctx, task); return []store.Task{t}, err },
		func() ([]store.Task, error) {
			rows, _, err := q.Tasks.Page(ctx, id, store.Page{Most: 9})
			return rows, err
		},
	} {
		q.says("by hand serial gull true false 1 1 gate/web", func() (any, error) {
			rows, err := read()
			return texts(rows, show), err
		})
	}
	q.does(func() error {
		_, err := q.Tasks.End(ctx, store.Step{ID: task, ReplacementID: id, OK: true, EndedAt: at},
			replacement.Event{Kind: replacement.Arrived})
		return err
	})
	_, err = q.Tasks.End(ctx, store.Step{ID: task, ReplacementID: id}, replacement.Event{Kind: replacement.Arrived})
	q.refuses(store.ErrNotFound, err)
	// What is left on the device is a task once.
	for range 2 {
		q.does(func() error { return q.Replacements.SetLeftover(ctx, id, "a folder", at, at) })
	}
	q.does(func() error { return q.Replacements.SetLeftover(ctx, id, "", at, at) })
	q.says("upload; by hand; remove what is left on the device", func() (any, error) {
		rows, err := q.Journal.Steps(ctx, id)
		return texts(rows, func(s store.Step) []any { return []any{s.Name} }), err
	})
	// A step that failed is told with its reason.
	failed := begins(store.Step{ReplacementID: id, Section: "install", Name: "switch", BeganAt: at})
	q.does(func() error {
		return q.Journal.EndStep(ctx, store.Step{ID: failed, ReplacementID: id, Why: "no room", EndedAt: at})
	})
	q.says("switch: no room", func() (any, error) {
		rows, err := q.Outbox.Events(ctx, fmt.Sprintf("replacement/r%d", id), 0)
		if len(rows) == 0 {
			return nil, err
		}
		return rows[len(rows)-1].Text, err
	})
}

// Parcels, requests that are asked for again, and batches.
func TestManyRequestsOnADiskThatFails(t *testing.T) {
	q := withQuay(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	var batch int64
	items := []store.BatchItem{{Device: "gate", Slot: "web", Site: "Mainquay"},
		{Device: "gate", Slot: "eap", Site: "Mainquay"},
		{Device: "gate", Slot: "ldap", Site: "Mainquay"}}
	q.does(func() error {
		var err error
		batch, err = q.Batches.Add(ctx, store.Batch{AskedBy: "tern", StartedAt: at}, items)
		return err
	})
	id := q.starts(2, replacement.Sign, &store.BatchItem{BatchID: batch, Position: 0})
	_, err := q.Replacements.Add(ctx, q.begin(0), []int64{q.slots[0].ID},
		replacement.Progress{Stage: replacement.Survey,
			State: replacement.Running}, "procedure: x", &store.BatchItem{BatchID: batch, Position: 0})
	q.refuses(store.ErrNotFound, err) // the item has its replacement
	q.does(func() error {
		return q.Batches.RefuseItem(ctx, store.BatchItem{BatchID: batch, Position: 1, Why: "no window", Next: "wait"})
	})
	q.does(func() error { return q.Batches.End(ctx, batch, at) }) // one still waits
	q.says("[1]", func() (any, error) {
		rows, err := q.Batches.Open(ctx)
		return fmt.Sprint([]int{len(rows)}), err
	})
	for want, f := range map[string]store.ItemFilter{
		"web started running; eap refused -; ldap waiting -": {Batch: batch},
		"eap refused -": {Batch: batch, Outcome: "refused"}, "web started running": {Batch: batch, State: "running"}} {
		q.says(want, func() (any, error) {
			rows, _, err := q.Batches.ItemPage(ctx, f, store.Page{Most: 9})
			return texts(rows, func(i store.BatchItem) []any {
				state := "-"
				if i.State != nil {
					state = *i.State
				}
				return []any{i.Slot, i.Outcome, state}
			}), err
		})
	}
	q.says("1", func() (any, error) {
		return q.Batches.CountItemsOf(ctx, store.ItemFilter{Batch: batch, Outcome: "waiting"})
	})
	q.says("Mainquay refused 1; Mainquay started 1; Mainquay waiting 1", func() (any, error) {
		rows, err := q.Batches.CountItems(ctx, batch)
		return texts(rows, func(i store.ItemCount) []any { return []any{i.Site, i.Outcome, i.Count} }), err
	})
	q.does(func() error { return q.Batches.Stop(ctx, batch, "gull", at) })
	q.refuses(store.ErrNotFound, q.Batches.Stop(ctx, batch, "gull", at))
	q.says("gull true", func() (any, error) {
		b, err := q.Batches.Get(ctx, batch)
		return fmt.Sprint(b.Stopped, " ", b.EndedAt.Equal(testkit.Now)), err
	})
	q.says("1", func() (any, error) { return q.Batches.Count(ctx) })
	q.says("1", func() (any, error) {
		rows, _, err := q.Batches.Page(ctx, store.Page{Most: 9})
		return len(rows), err
	})

	q.goes(id, "sign waiting", replacement.Waits, replacement.Signer)
	q.says("map[harbour:1]", func() (any, error) { return q.Parcels.CountUnpacked(ctx) })
	var parcel int64
	q.does(func() error {
		n, packed, err := q.Parcels.Add(ctx, "harbour", "tern", at, nil)
		if parcel = n; err == nil && (len(packed) != 1 || packed[0].ID != id) {
			t.Errorf("%+v", packed)
		}
		return err
	})
	_, _, err = q.Parcels.Add(ctx, "harbour", "tern", at, nil)
	q.refuses(store.ErrNotFound, err)
	q.does(func() error {
		return q.Parcels.HandOver(ctx, store.Parcel{ID: parcel, HandedTo: "the desk", Reference: "7",
			HandedBy: "tern", HandedAt: at})
	})
	q.refuses(store.ErrNotFound, q.Parcels.HandOver(ctx, store.Parcel{ID: 99}))
	show := func(p store.Parcel) []any { return []any{p.ID, p.HandedTo, p.Requests, p.Open, p.Obsolete} }
	for _, read := range []func() ([]store.Parcel, error){
		func() ([]store.Parcel, error) { return q.Parcels.Open(ctx) },
		func() ([]store.Parcel, error) {
			rows, _, err := q.Parcels.Page(ctx, store.Page{Most: 9})
			return rows, err
		},
		func() ([]store.Parcel, error) {
			p, packed, err := q.Parcels.Get(ctx, parcel)
			if err == nil && len(packed) != 1 {
				t.Errorf("%+v", packed)
			}
			return []store.Parcel{p}, err
		},
	} {
		q.says("1 the desk 1 1 0", func() (any, error) { rows, err := read(); return texts(rows, show), err })
	}
	_, _, err = q.Parcels.Get(ctx, 99)
	q.refuses(store.ErrNotFound, err)
	q.says("1", func() (any, error) { return q.Parcels.Count(ctx) })

	// Another key, then another request altogether.
	plan := request.Plan{Names: []string{"gate"}}.Complete()
	made := make([]request.Request, 2)
	for i := range made {
		key, err := request.NewKey(request.ECDSAP256)
		if err == nil {
			made[i], err = request.Make(plan, key)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	q.does(func() error { return q.Replacements.SetRequest(ctx, id, made[0]) })
	obsolete := store.Obsolete{Reason: "another key", By: "tern", At: at}
	q.does(func() error {
		return q.Requests.TakeKey(ctx, id, obsolete, made[1], "replacement/r1/key", []byte("sealed"))
	})
	q.refuses(store.ErrNotFound, q.Requests.TakeKey(ctx, 99, obsolete, made[1], "x", nil))
	q.does(func() error {
		r, _, err := q.Requests.AskAgain(ctx, id, "desk", plan, store.Obsolete{Reason: "a name", By: "gull", At: at},
			"replacement/r1/key")
		if err == nil && (r.Stage != replacement.Request || r.State != replacement.Running) {
			t.Errorf("%s %s", r.Stage, r.State)
		}
		return err
	})
	_, _, err = q.Requests.AskAgain(ctx, 99, "desk", plan, obsolete, "x")
	q.refuses(store.ErrNotFound, err)
	_, err = q.Secrets.Get(ctx, "replacement/r1/key")
	q.refuses(store.ErrNotFound, err)
	q.says("another key tern true; a name gull true", func() (any, error) {
		rows, err := q.Requests.ObsoleteOf(ctx, id)
		i := -1
		return texts(rows, func(o store.Obsolete) []any {
			i++
			return []any{o.Reason, o.By, o.SPKI == cert.Fingerprint(made[i].SPKI())}
		}), err
	})
	q.says("a name", func() (any, error) {
		o, err := q.Requests.ObsoleteByKey(ctx, cert.Fingerprint(made[1].SPKI()))
		return o.Reason, err
	})
	_, err = q.Requests.ObsoleteByKey(ctx, "00")
	q.refuses(store.ErrNotFound, err)
	q.refuses(store.ErrNotFound, q.Requests.TakeKey(ctx, id, obsolete, made[1], "x", nil)) // it does not wait any more
}

// Who recorded a fingerprint is reported a seal, and confirmed once.
func TestPinsOnADiskThatFails(t *testing.T) {
	q := withQuay(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	root := testkit.Root(t, "Quay Root")
	old, leaf := root.Leaf(t, "gate"), root.Leaf(t, "gate")
	if err := q.Chains.AddAuthorities(ctx, []*cert.Certificate{old.Certificate}); err != nil {
		t.Fatal(err)
	}
	var ids []int64
	for _, who := range []string{"booking", "probes"} {
		q.does(func() error {
			id, err := q.Pins.Add(ctx, store.Pin{SlotID: q.slots[2].ID, Who: who, What: cert.PinSHA256, How: "write",
				AddedBy: "tern",
				AddedAt: at})
			if err == nil {
				ids = append(ids, id)
			}
			return err
		})
	}
	q.says("booking web; probes web", func() (any, error) {
		rows, err := q.Pins.List(ctx)
		return texts(rows, func(p store.Pin) []any { return []any{p.Who, p.Slot} }), err
	})
	q.says("", func() (any, error) {
		rows, err := q.Pins.List(ctx, q.slots[0].ID)
		return texts(rows, func(p store.Pin) []any { return []any{p.Who} }), err
	})
	q.says("booking", func() (any, error) { p, err := q.Pins.Get(ctx, ids[0]); return p.Who, err })
	r := sealed(t, q.Store, q.slots[2], old.Certificate, leaf.Certificate)
	q.says("2", func() (any, error) { return q.Pins.CountUpdates(ctx) })
	var update int64
	q.says("booking true; probes true", func() (any, error) {
		rows, err := q.Pins.Updates(ctx, r)
		if err == nil {
			update = rows[0].ID
		}
		return texts(rows, func(u store.PinUpdate) []any { return []any{u.Who, u.NewSHA256 == leaf.SHA256} }), err
	})
	q.does(func() error { return q.Pins.Confirm(ctx, update, "gull", "by mail", at) })
	q.refuses(store.ErrNotFound, q.Pins.Confirm(ctx, update, "gull", "by mail", at))
	q.says("gull by mail", func() (any, error) {
		u, err := q.Pins.Update(ctx, update)
		return u.ConfirmedBy + " " + u.Note, err
	})
	q.says("1", func() (any, error) { return q.Pins.CountUpdates(ctx) })
	q.does(func() error { return q.Pins.Remove(ctx, ids[1]) })
	q.refuses(store.ErrNotFound, q.Pins.Remove(ctx, ids[1]))
	_, err := q.Pins.Get(ctx, ids[1])
	q.refuses(store.ErrNotFound, err)
}
