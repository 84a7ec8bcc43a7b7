package replace

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/device"
	"freshseal/service/engine"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

// settles waits until a batch has nothing left to begin.
func (d *desk) settles() {
	d.T.Helper()
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
		d.Lock.Lock()
		over := !d.Batch.EndedAt.IsZero()
		d.Lock.Unlock()
		if over {
			return
		}
	}
	d.T.Fatal("the batch never ends")
}

// A batch begins what it can, says of the rest why not, and can be stopped.
func TestABatch(t *testing.T) {
	d := newDesk(t)
	d.over()
	for says, o := range map[string]contract.BatchOrder{
		"it is not said which slots": {},
		"is not a slot":              {Slots: []string{"gate-1"}},
		"no slot fits":               {Filter: &contract.SlotFilter{Device: "gate-9"}},
	} {
		_, err := d.Batches.Begin(t.Context(), o, "gull")
		refused(t, err, problem.Invalid, says)
	}
	rehearsed, err := d.Batches.Rehearse(t.Context(), contract.BatchOrder{Filter: &contract.SlotFilter{},
		Signer: "bench"})
	if err != nil || rehearsed.Slots != 1 || rehearsed.Rehearsal == nil || len(rehearsed.Sites) != 1 {
		t.Errorf("%+v, %v", rehearsed, err)
	}
	made, err := d.Batches.Begin(t.Context(), contract.BatchOrder{Slots: []string{"gate-1/web", "gate-1/web"},
		Signer: "bench"}, "gull")
	if err != nil || made.ID != "b1" {
		t.Fatal(made.ID, err)
	}
	d.settles()
	if r := d.rests(); r.ID != 8 || r.State != replacement.Sealed {
		t.Errorf("r%d is %s: %s", r.ID, r.State, r.Why)
	}
	shown, err := d.Batches.Get(t.Context(), "b1")
	if err != nil || shown.Counts.Slots != 1 || shown.Counts.Sealed != 1 || shown.State != "started" {
		t.Errorf("%+v, %v", shown, err)
	}
	items, _, err := d.Batches.Items(t.Context(), contract.ItemFilter{Batch: "b1"}, paging.Page{})
	if err != nil || len(items) != 1 || items[0].Replacement != "r8" {
		t.Errorf("%+v, %v", items, err)
	}
	_, err = d.Batches.Stop(t.Context(), "b1", "gull")
	refused(t, err, problem.Conflict, "all of it was started")
	for _, id := range []string{"b9", "x", ""} {
		_, err = d.Batches.Get(t.Context(), id)
		refused(t, err, problem.NotFound, "no batch is called")
	}
	if all, _, err := d.Batches.List(t.Context(), paging.Page{}); err != nil || len(all) != 1 {
		t.Errorf("%d are listed, %v", len(all), err)
	}
}

// What cannot be replaced is refused by name; what waits for its device is begun later, by a restarted service too.
func TestABatchWaitsAndGoesOn(t *testing.T) {
	d := newDesk(t)
	d.over()
	d.Device.Family = ""
	if _, err := d.Batches.Begin(t.Context(), contract.BatchOrder{Slots: []string{"gate-1/web"}}, "gull"); err != nil {
		t.Fatal(err)
	}
	d.settles()
	if item := d.Batched[0]; item.Outcome != store.ItemRefused || !strings.Contains(item.Why, "it has no family") {
		t.Errorf("%+v", item)
	}
	d = newDesk(t) // its slot has a replacement in progress
	if _, err := d.Batches.Begin(t.Context(), contract.BatchOrder{Slots: []string{"gate-1/web"}, Signer: "bench"},
		"gull"); err != nil {
		t.Fatal(err)
	}
	shown, err := d.Batches.Get(t.Context(), "b1")
	if err != nil || shown.State != "starting" || shown.Counts.Waiting != 1 {
		t.Errorf("%+v, %v", shown, err)
	}
	d.Kill()
	d.Service.Wait()
	d.over()
	d.restart()
	if err := d.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	d.settles()
	if r := d.rests(); r.ID != 8 || r.State != replacement.Sealed {
		t.Errorf("r%d is %s: %s", r.ID, r.State, r.Why)
	}
}

func TestABatchIsStopped(t *testing.T) {
	d := newDesk(t)
	if _, err := d.Batches.Begin(t.Context(), contract.BatchOrder{Slots: []string{"gate-1/web"}, Signer: "bench"},
		"gull"); err != nil {
		t.Fatal(err)
	}
	stopped, err := d.Batches.Stop(t.Context(), "b1", "tern")
	if err != nil || stopped.State != "stopped" || stopped.Stopped != "tern" || stopped.Counts.Left != 1 {
		t.Errorf("%+v, %v", stopped, err)
	}
}

// job gives the replacement a task that waits for a person, in the middle of its stage.
func (d *desk) job(change func(*store.Task)) {
	d.T.Helper()
	d.Fails["trial"] = device.ErrPerson
	if r := d.begun(); r.WaitingFor != replacement.Person {
		d.T.Fatalf("%s for %s: %s", r.State, r.WaitingFor, r.Why)
	}
	delete(d.Fails, "trial")
	step := int64(len(d.Steps)) // its entry in the journal stays open
	task := store.Task{StepID: step, ReplacementID: 7, Open: true, Section: "trial", Name: "by hand", Device: "gate-1",
		Slot: "web", DueAt: store.At(d.Now.Add(time.Hour))}
	if change != nil {
		change(&task)
	}
	d.Jobs[step] = task
}

// id is the name of the only task.
func (d *desk) id() string {
	for step := range d.Jobs {
		return taskText(step)
	}
	return ""
}

func TestATaskIsTakenNotedAndDone(t *testing.T) {
	d := newDesk(t)
	d.job(nil)
	id := d.id()
	if all, _, err := d.Tasks.List(t.Context(), "", paging.Page{}); err != nil || len(all) != 1 || all[0].ID != id {
		t.Errorf("%+v, %v", all, err)
	}
	if got, err := d.Tasks.Take(t.Context(), id, "gull"); err != nil || got.TakenBy != "gull" {
		t.Errorf("%+v, %v", got, err)
	}
	_, err := d.Tasks.Note(t.Context(), id, "  ", "gull")
	refused(t, err, problem.Invalid, "it is empty")
	if got, err := d.Tasks.Note(t.Context(), id, "the key is in the cupboard", "gull"); err != nil ||
		len(got.Notes) != 1 {
		t.Errorf("%+v, %v", got, err)
	}
	_, err = d.Tasks.Answer(t.Context(), id, "", "tern")
	refused(t, err, problem.Conflict, "gull has taken it")
	if _, err = d.Tasks.Answer(t.Context(), id, "", "gull"); err != nil {
		t.Fatal(err)
	}
	if r := d.rests(); r.State != replacement.Sealed {
		t.Errorf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
	_, err = d.Tasks.Answer(t.Context(), id, "", "gull")
	refused(t, err, problem.Conflict, "")
	for _, none := range []string{"t99", "x", ""} {
		_, err = d.Tasks.Get(t.Context(), none)
		refused(t, err, problem.NotFound, "")
	}
}

// What a person gives back is compared with what was asked for while the person still stands before the device.
func TestWhatAPersonGivesBackIsChecked(t *testing.T) {
	other := testkit.Request(t, testkitTemplate("other.tidewrack.example"))
	d := newDesk(t)
	d.job(func(task *store.Task) { task.Ask, task.Capture = "the request", "request" })
	for says, text := range map[string]string{"the result is missing": "", "is not a request": "hello",
		"differs from the plan": string(other.PEM()), "up to 64 kB": strings.Repeat("x", mostAnswer+1)} {
		_, err := d.Tasks.Answer(t.Context(), d.id(), text, "gull")
		refused(t, err, problem.Invalid, says)
	}
	d = newDesk(t)
	d.job(func(task *store.Task) { task.Ask, task.Key, task.Capture = "the key", true, "key" })
	_, err := d.Tasks.Answer(t.Context(), d.id(), "not a key", "gull")
	refused(t, err, problem.Invalid, "not a private key")
	if d.Row.State != replacement.Waiting {
		t.Errorf("it is %s", d.Row.State)
	}
}

// A task that wants something to be seen ends when the wire shows it, and not before, whatever a person says.
func TestATaskEndsByTheWire(t *testing.T) {
	d := newDesk(t)
	d.job(func(task *store.Task) { task.Seen = verb.SeenNew })
	_, err := d.Tasks.Answer(t.Context(), d.id(), "", "gull")
	refused(t, err, problem.Conflict, "instead of the new leaf")
	task := d.Store().Tasks
	row, _ := task.Get(t.Context(), stepOf(t, d))
	if err := d.Tasks.watchOne(t.Context(), row); err != nil || d.Row.State != replacement.Waiting {
		t.Fatalf("%s, %v", d.Row.State, err)
	}
	d.Serves = d.Certs[d.Row.NewSHA256]
	if err := d.Tasks.watchOne(t.Context(), row); err != nil {
		t.Fatal(err)
	}
	if r := d.rests(); r.State != replacement.Sealed {
		t.Errorf("%s in %s: %s", r.State, r.Stage, r.Why)
	}
	if err := d.Tasks.watchOne(t.Context(), row); err != nil {
		t.Errorf("once more: %v", err)
	}
}

func stepOf(t *testing.T, d *desk) int64 {
	t.Helper()
	for step := range d.Jobs {
		return step
	}
	t.Fatal("there is no task")
	return 0
}

func TestATaskThatNobodyDoesHoldsTheReplacement(t *testing.T) {
	d := newDesk(t)
	d.job(nil)
	row := d.Jobs[stepOf(t, d)]
	d.Now = d.Now.Add(2 * time.Hour)
	if err := d.Tasks.watchOne(t.Context(), row); err != nil {
		t.Fatal(err)
	}
	if r := d.rests(); r.State != replacement.Held && r.State != replacement.Reverted ||
		!strings.Contains(r.Why, "nobody did") {
		t.Errorf("%s: %s", r.State, r.Why)
	}
}

// A secret file of a task is given to who may have it alone, with an entry in the audit log.
func TestASecretFileOfATask(t *testing.T) {
	d := newDesk(t)
	d.job(func(task *store.Task) {
		task.Files.V = []store.TaskFile{{Name: "chain.pem", Content: []byte("CHAIN")}, {Name: "key.pem", Secret: true,
			Content: d.Box.Seal(engine.TaskFilePurpose(7, "key.pem"), []byte("KEY"))}}
	})
	for _, c := range []struct {
		name, want string
		may        bool
		kind       problem.Kind
	}{{"chain.pem", "CHAIN", false, ""}, {"key.pem", "", false, problem.Refused}, {"key.pem", "KEY", true, ""},
		{"other.pem", "", true, problem.NotFound}} {
		content, err := d.Tasks.File(t.Context(), d.id(), c.name, "gull", c.may)
		if c.kind != "" {
			refused(t, err, c.kind, "")
		} else if err != nil || string(content) != c.want {
			t.Errorf("%s: %q, %v", c.name, content, err)
		}
	}
	if len(d.Audited) != 1 || !strings.Contains(d.Audited[0], "gull; download the private key") {
		t.Errorf("audited: %v", d.Audited)
	}
}

// What was left on a device is removed by hand, and that is audited.
func TestALeftoverIsRemovedByHand(t *testing.T) {
	d := newDesk(t)
	d.Fails["seal"] = errors.New("the disk is read-only")
	d.begun()
	d.Jobs[90] = store.Task{StepID: 90, ReplacementID: 7, Open: true, After: true, Section: store.Clearing,
		Device: "gate-1"}
	if _, err := d.Tasks.Answer(t.Context(), "t90", "", "gull"); err != nil {
		t.Fatal(err)
	}
	if d.Row.Leftover != "" || !d.Row.Tidied || len(d.Audited) != 1 {
		t.Errorf("leftover %q, tidied %v, audited %v", d.Row.Leftover, d.Row.Tidied, d.Audited)
	}
}

func TestPins(t *testing.T) {
	d := newDesk(t)
	n := contract.NewPin{Device: "gate-1", Slot: "web", Who: "harbour app", What: cert.PinSHA256, How: "mail"}
	made, err := d.Service.Pins.Add(t.Context(), n, "gull")
	if err != nil || made.ID != "p1" || made.AddedBy != "gull" {
		t.Fatalf("%+v, %v", made, err)
	}
	_, err = d.Service.Pins.Add(t.Context(), n, "gull")
	refused(t, err, problem.Conflict, "has pinned the")
	n.Who = "two\nlines"
	_, err = d.Service.Pins.Add(t.Context(), n, "gull")
	refused(t, err, problem.Invalid, "")
	if all, err := d.Service.Pins.List(t.Context(), "gate-1", "web"); err != nil || len(all) != 1 {
		t.Errorf("%d, %v", len(all), err)
	}
	root := d.Bench.Root()
	d.Certs[root.SHA256] = root
	d.Updates = []store.PinUpdate{{ID: 1, ReplacementID: 7, Who: "harbour app", What: cert.PinSHA256,
		OldSHA256: d.First.SHA256, NewSHA256: root.SHA256}}
	pending, err := d.Service.Pins.Updates(t.Context(), "r7")
	if err != nil || len(pending) != 1 || pending[0].Old == pending[0].New || pending[0].NewSHA256 != root.SHA256 {
		t.Errorf("%+v, %v", pending, err)
	}
	_, err = d.Service.Pins.Confirm(t.Context(), "n1", strings.Repeat("x", 3000), "gull")
	refused(t, err, problem.Invalid, "longer than 2000")
	done, err := d.Service.Pins.Confirm(t.Context(), "n1", "called them", "gull")
	if err != nil || done.ConfirmedBy != "gull" || done.Note != "called them" || done.ConfirmedAt == nil {
		t.Errorf("%+v, %v", done, err)
	}
	_, err = d.Service.Pins.Confirm(t.Context(), "n1", "", "tern")
	refused(t, err, problem.Conflict, "gull already")
	for _, none := range []string{"n9", "p1", "n"} {
		_, err = d.Service.Pins.Confirm(t.Context(), none, "", "gull")
		refused(t, err, problem.NotFound, "no pending pin")
	}
	if err := d.Service.Pins.Remove(t.Context(), "p1"); err != nil || len(d.Pinned) != 0 {
		t.Errorf("%d are left, %v", len(d.Pinned), err)
	}
	refused(t, d.Service.Pins.Remove(t.Context(), "p1"), problem.NotFound, "no pin")
}

// A kept key leaves the service with a reason and a passphrase alone, after the audit log has it.
func TestAKeyIsExported(t *testing.T) {
	keep := true
	d := newDesk(t)
	d.Rules.KeepKeys = &keep
	if r := d.begun(); r.State != replacement.Sealed {
		t.Fatalf("%s: %s", r.State, r.Why)
	}
	good := contract.KeyExport{Reason: "to move it to another box", Passphrase: "quay-side-cupboard"}
	for _, bad := range []contract.KeyExport{{Reason: good.Reason, Passphrase: "short"},
		{Reason: "x", Passphrase: good.Passphrase}} {
		_, err := d.Exports.ExportKey(t.Context(), "r7", bad, "gull")
		refused(t, err, problem.Invalid, "a reason of at least 10")
	}
	_, err := d.Exports.ExportKey(t.Context(), "r9", good, "gull")
	refused(t, err, problem.NotFound, "r9")
	stops := errors.New("the audit log cannot be written")
	d.Stops = stops
	if got, err := d.Exports.ExportKey(t.Context(), "r7", good, "gull"); !errors.Is(err, stops) || got != nil {
		t.Errorf("%d bytes without an entry, %v", len(got), err)
	}
	d.Stops = nil
	if got, err := d.Exports.ExportKey(t.Context(), "r7", good, "gull"); err != nil || len(got) < 500 ||
		len(d.Audited) != 2 {
		t.Errorf("%d bytes, %v; %v", len(got), err, d.Audited)
	}
	d.Secrets = map[string][]byte{}
	_, err = d.Exports.ExportKey(t.Context(), "r7", good, "gull")
	refused(t, err, problem.NotFound, "no key of r7 is kept")
	d.Files = []store.KeptFile{{Name: "backup", Sealed: d.Box.Seal(engine.KeptPurpose(7, "backup"), []byte("CONFIG"))}}
	_, err = d.Exports.ExportFile(t.Context(), "r7", "backup", contract.FileExport{Reason: "x"}, "gull")
	refused(t, err, problem.Invalid, "a reason")
	_, err = d.Exports.ExportFile(t.Context(), "r7", "other", contract.FileExport{Reason: good.Reason}, "gull")
	refused(t, err, problem.NotFound, "no file")
	got, err := d.Exports.ExportFile(t.Context(), "r7", "backup", contract.FileExport{Reason: good.Reason}, "gull")
	if err != nil || string(got) != "CONFIG" {
		t.Errorf("%q, %v", got, err)
	}
}

// A key that was made elsewhere takes the place of the one that was asked with, where the family and the policy let it.
func TestAKeyMadeElsewhere(t *testing.T) {
	d := newDesk(t)
	d.Pending = true
	d.begun()
	first := slices.Clone(d.Row.Request)
	key := testkit.NewKey(t)
	if why, err := d.TakeKey(t.Context(), 7, key, "gull"); err != nil || why != "" ||
		slices.Equal(first, d.Row.Request) {
		t.Errorf("%q, %v", why, err)
	}
	d.Text = strings.Replace(d.Text, "key_types: [ecdsa-p256]", "key_types: [rsa-2048]", 1)
	if why, err := d.TakeKey(t.Context(), 7, key, "gull"); err != nil || !strings.Contains(why, "does not support") {
		t.Errorf("%q, %v", why, err)
	}
}

// Each domain that a signer wants proven becomes one task, and the replacement waits for it beside the signer.
func TestProofsOfDomains(t *testing.T) {
	d := newDesk(t)
	d.Pending = true
	d.begun()
	parcel := int64(1)
	d.Row.ParcelID, d.Parcel = &parcel, store.Parcel{ID: 1, HandedAt: store.At(d.Now)}
	d.Proof = request.Proof{How: "dns", Days: 30, Who: "the name desk"}
	for range 2 { // the second time adds none
		if err := d.SeekProofs(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if d.Row.WaitingFor != replacement.Validation {
		t.Errorf("it waits for %s", d.Row.WaitingFor)
	}
	var asked []store.Step
	for _, step := range d.Steps {
		if step.Verb == "person" {
			asked = append(asked, step)
		}
	}
	if len(asked) != 1 || !strings.Contains(asked[0].Text, "the name desk") || len(asked[0].Task.Domains.V) != 1 {
		t.Fatalf("%+v", asked)
	}
	step := asked[0].ID
	if _, err := d.Tasks.Answer(t.Context(), taskText(step), "", "gull"); err != nil {
		t.Fatal(err)
	}
	if d.Row.WaitingFor != replacement.Signer || d.Proofs["tidewrack.example"].By != "gull" {
		t.Errorf("it waits for %s; proven: %v", d.Row.WaitingFor, d.Proofs)
	}
}

func testkitTemplate(name string) x509.CertificateRequest {
	return x509.CertificateRequest{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}}
}
