package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/policy"
	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/store"
)

// Order asks for a replacement.
type Order struct {
	Device  string          `json:"device" required:"true"`
	Slot    string          `json:"slot" required:"true"`
	Signer  string          `json:"signer,omitempty" description:"where nobody is named: the policy's"`
	Names   []string        `json:"names,omitempty" description:"besides those that are known; the first given becomes the common name"`
	Key     request.KeyType `json:"key,omitempty"`
	Subject request.Subject `json:"subject,omitempty" description:"fields that differ from today's certificate"`

	Unseen bool `json:"unseen,omitempty" description:"go on although the slot cannot be read now; a way back can then not be proven"`
	OneWay bool `json:"one_way,omitempty" description:"go on although some steps of the family cannot be undone"`
}

// job is a replacement with all that is needed to work on it.
type job struct {
	store.Replacement
	device    store.Device
	slot      store.Slot
	procedure procedure.Source
	material  procedure.Material // what the given values are made of
	scope     *procedure.Scope   // settings, captures and what Fresh Seal brings
	seat      *seat
}

// Rehearsal is what a replacement would do, with nothing sent.
type Rehearsal struct {
	Plan  request.Plan          `json:"plan" required:"true"`
	Steps []procedure.Rehearsed `json:"steps" required:"true"`

	Findings []finding.Finding `json:"findings" required:"true" description:"names that do not lead to the device, as far as DNS was asked"`
}

// Rehearse shows every step of a replacement in its final text.
func (s *Service) Rehearse(ctx context.Context, o Order) (Rehearsal, error) {
	j, err := s.prepare(ctx, o)
	if err != nil {
		return Rehearsal{}, err
	}
	steps, err := j.procedure.Rehearse(j.scope)
	if err != nil {
		return Rehearsal{}, invalid("this cannot be rehearsed", err.Error(), "correct the device's settings")
	}
	return Rehearsal{j.Plan.V, steps, append([]finding.Finding{}, s.leads(ctx, j.Plan.V.Names, j.slot)...)}, nil
}

// Begin begins a replacement and returns at once; it goes on by itself.
func (s *Service) Begin(ctx context.Context, o Order, by string) (Replacement, error) {
	j, err := s.prepare(ctx, o)
	if err != nil {
		return Replacement{}, err
	}
	if steps := j.procedure.OneWay(); len(steps) > 0 && !o.OneWay {
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s/%s is not replaced without your word", o.Device, o.Slot),
			fmt.Sprintf("the step “%s” cannot be undone: %s", steps[0].Name, steps[0].Undo.Because), "if that is accepted, begin it with --one-way"}
	}
	j.AskedBy, j.BegunAt, j.ChangedAt, j.Unseen, j.Mark = by, s.moment(), s.moment(), o.Unseen, strings.ToLower(rand.Text()[:10])
	j.Device, j.Slot, j.Cluster = o.Device, o.Slot, j.device.Cluster
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		return Replacement{}, err
	}
	id, err := s.store.AddReplacement(ctx, j.Replacement, progress, j.procedure.YAML)
	if errors.Is(err, store.ErrTaken) {
		return Replacement{}, &Error{Conflict, fmt.Sprintf("%s has a replacement under way", o.Device), "one is done at a time per device and per cluster", "see it: freshseal replacement list"}
	}
	if err != nil {
		return Replacement{}, err
	}
	s.options.Log.Info("replacement begun", "replacement", idText(id), "device", o.Device, "slot", o.Slot, "by", by)
	s.drive(id, replacement.Carry)
	return s.Replacement(ctx, idText(id))
}

// prepare checks an order and plans its request.
func (s *Service) prepare(ctx context.Context, o Order) (job, error) {
	cannot := fmt.Sprintf("%s/%s cannot be replaced", o.Device, o.Slot)
	slot, err := s.slotRow(ctx, o.Device, o.Slot)
	if err != nil {
		return job{}, err
	}
	device, err := s.store.Device(ctx, o.Device)
	if err != nil {
		return job{}, err
	}
	if device.Family == "" {
		return job{}, invalid(cannot, "it has no family: the device is only monitored", "give it a family: freshseal device edit "+o.Device+" --family NAME; see: freshseal procedure list")
	}
	all, err := s.policies(ctx)
	if err != nil {
		return job{}, err
	}
	rules := all.of(slot)
	if o.Signer == "" && (rules.Signer == nil || *rules.Signer == "") {
		return job{}, invalid(cannot, "no signer is given, and the policy has no default signer", "give --signer; see: freshseal signer list")
	} else if o.Signer == "" {
		o.Signer = *rules.Signer
	}
	signer, err := s.signer(ctx, o.Signer)
	if err != nil {
		return job{}, err
	}
	family, err := s.family(device.Family)
	if err != nil {
		return job{}, err
	}
	plan, err := s.plan(ctx, planning{o, slot, device, rules, signer.Terms, family.Procedure})
	if err != nil {
		return job{}, err
	}
	j, err := s.assemble(ctx, store.Replacement{DeviceID: device.ID, SlotID: slot.ID, Signer: o.Signer, Plan: store.JSON[request.Plan]{V: plan}}, device, slot)
	if err != nil {
		return job{}, err
	}
	return j, j.fits(plan, signer, rules, cannot)
}

// fits sees that the signer signs what is planned, that the device can make it,
// and that the policy allows its key.
func (j job) fits(plan request.Plan, signer Signer, rules policy.Rules, cannot string) error {
	if found := append(plan.Check(), plan.Meets(signer.Terms)...); len(found) > 0 {
		next := "correct it with --name, --key or the fields of the subject"
		if found[0].Code != finding.PlanInvalid {
			next = found[0].Remedy
		}
		return invalid(cannot, found[0].What, next)
	}
	if types := j.procedure.Traits.KeyTypes; !slices.Contains(types, plan.Key) {
		return invalid(cannot, fmt.Sprintf("its family makes no %s key", plan.Key), fmt.Sprintf("choose one of %v", types))
	}
	if why := rules.Refuses(plan.Key); why != "" {
		return invalid(cannot, why, "choose another with --key, or change the policy")
	}
	return nil
}

// assemble puts together a job: the procedure that it began with, settings, and
// what the given values are made of, as far as it is there.
func (s *Service) assemble(ctx context.Context, r store.Replacement, device store.Device, slot store.Slot) (job, error) {
	p, err := s.procedureOf(ctx, r, device)
	if err != nil {
		return job{}, err
	}
	settings, err := s.openSettings(ctx, device)
	if err != nil {
		return job{}, err
	}
	m := procedure.Material{Procedure: p.Procedure, Address: device.Address, Plan: r.Plan.V, OldSHA256: r.OldSHA256}
	if r.ID != 0 {
		m.Replacement = idText(r.ID)
	}
	var made *procedure.Made
	if r.ID != 0 {
		kept, _ := s.made.LoadOrStore(r.ID, &procedure.Made{})
		made = kept.(*procedure.Made)
	}
	j := job{Replacement: r, device: device, slot: slot, procedure: p, seat: &seat{}}
	scope, err := procedure.NewScope(m, settings, made)
	if err != nil {
		return job{}, invalid("the device's settings do not fit its family", err.Error(), "see: freshseal procedure show "+device.Family)
	}
	if work, err := scope.Value(procedure.WorkFolder); err == nil {
		m.Work = workFolder(work.Text, r)
	}
	if err := s.addSigned(ctx, &m, j); err != nil {
		return job{}, err
	}
	j.material, j.scope = m, scope.WithMaterial(m)
	return j, nil
}

// workFolder is a replacement's folder on its device. The mark makes it unlike
// that of any other replacement, of this database or another.
func workFolder(base string, r store.Replacement) string {
	if r.ID == 0 {
		return base + "/rehearsal"
	}
	return base + "/" + idText(r.ID) + "-" + r.Mark
}

// procedureOf is the procedure that a replacement began with, whatever became of
// its file since.
func (s *Service) procedureOf(ctx context.Context, r store.Replacement, device store.Device) (procedure.Source, error) {
	if r.Procedure == "" {
		return s.family(device.Family)
	}
	if p, err := s.Procedure(device.Family); err == nil && p.Usable() && store.Digest(p.YAML) == r.Procedure {
		return p, nil
	}
	yaml, err := s.store.ProcedureText(ctx, r.Procedure)
	if err != nil {
		return procedure.Source{}, fmt.Errorf("the procedure that %s began with: %w", idText(r.ID), err)
	}
	return procedure.Read(yaml)
}

// addSigned adds the request, the new chain and the key to give, as far as they
// are there.
func (s *Service) addSigned(ctx context.Context, m *procedure.Material, j job) error {
	if len(j.Request) > 0 {
		made, err := request.Parse(j.Request)
		if err != nil {
			return err
		}
		m.Request = &made
	}
	if len(j.Path.V) == 0 {
		return nil
	}
	certificates, err := s.store.Certificates(ctx, j.Path.V)
	if err != nil {
		return err
	}
	m.Path = &chain.Path{Certificates: certificates, Complete: true}
	m.Key, m.Passphrase, err = s.keyToGive(ctx, j)
	return err
}

// load assembles the job of a replacement that is under way.
func (s *Service) load(ctx context.Context, id int64) (job, error) {
	r, err := s.store.Replacement(ctx, id)
	if err != nil {
		return job{}, err
	}
	device, err := s.store.Device(ctx, r.Device)
	if err != nil {
		return job{}, err
	}
	slot, err := s.store.Slot(ctx, r.Device, r.Slot)
	if err != nil {
		return job{}, err
	}
	return s.assemble(ctx, r, device, slot)
}

// Ids are numbers with a letter before them, so that nobody takes them for a port.
func idText(id int64) string { return "r" + strconv.FormatInt(id, 10) }

func idNumber(text string) (int64, error) {
	n, err := strconv.ParseInt(strings.TrimPrefix(text, "r"), 10, 64)
	if err != nil || !strings.HasPrefix(text, "r") {
		return 0, &Error{Kind: NotFound, What: fmt.Sprintf("no replacement is called %q", text), Next: "see: freshseal replacement list"}
	}
	return n, nil
}

// Replacement is a replacement as the API shows it.
type Replacement struct {
	ID string `json:"id" required:"true"`
	replacement.Progress
	Device     string            `json:"device" required:"true"`
	Slot       string            `json:"slot" required:"true"`
	Signer     string            `json:"signer" required:"true"`
	Plan       request.Plan      `json:"plan" required:"true"`
	OldSHA256  string            `json:"old_sha256" required:"true"`
	NewSHA256  string            `json:"new_sha256" required:"true"`
	Request    *RequestFacts     `json:"request,omitempty"`
	Former     []OldRequest      `json:"former,omitempty" description:"requests in whose place this one was asked for"`
	Chain      []Link            `json:"chain,omitempty"`
	Findings   []finding.Finding `json:"findings,omitempty" description:"of the chain that is going to be installed"`
	Steps      []Step            `json:"steps,omitempty"`
	Parcel     string            `json:"parcel,omitempty"`
	AskedBy    string            `json:"asked_by" required:"true"`
	ApprovedBy string            `json:"approved_by,omitempty"`
	Leftover   string            `json:"leftover,omitempty" description:"what is left on the device after the end"`
	BegunAt    time.Time         `json:"begun_at" required:"true"`
	ChangedAt  time.Time         `json:"changed_at" required:"true"`
	Next       string            `json:"next,omitempty" description:"what a person can do now"`
}

// RequestFacts is a request as people read it.
type RequestFacts struct {
	Subject string   `json:"subject" required:"true"`
	Names   []string `json:"names" required:"true"`
	Key     string   `json:"key" required:"true"`
	SHA256  string   `json:"sha256" required:"true"`
	PEM     string   `json:"pem" required:"true"`
}

// Step is a line of a replacement's journal.
type Step struct {
	Stage   string     `json:"stage" required:"true"`
	Name    string     `json:"name" required:"true"`
	Verb    string     `json:"verb" required:"true"`
	Text    string     `json:"text" required:"true"`
	Outcome string     `json:"outcome" required:"true" enum:"running,done,failed,unknown"`
	Exit    int        `json:"exit" required:"true"`
	Output  string     `json:"output,omitempty"`
	Why     string     `json:"why,omitempty"`
	BeganAt time.Time  `json:"began_at" required:"true"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
}

// Replacement shows one replacement with its journal.
func (s *Service) Replacement(ctx context.Context, id string) (Replacement, error) {
	n, err := idNumber(id)
	if err != nil {
		return Replacement{}, err
	}
	row, err := s.store.Replacement(ctx, n)
	if err != nil {
		return Replacement{}, notFound(err, "see: freshseal replacement list", "no replacement is called %s", id)
	}
	out := showReplacement(row)
	if len(row.Request) > 0 {
		r, err := request.Parse(row.Request)
		if err != nil {
			return out, err
		}
		facts := factsOf(r)
		out.Request = &facts
	}
	if out.Former, err = s.former(ctx, n); err != nil {
		return out, err
	}
	if row.Progress().AtSigner() && row.ParcelID != nil {
		if err := s.sayWhere(ctx, &out); err != nil {
			return out, err
		}
	}
	if len(row.Path.V) > 0 {
		if out.Chain, out.Findings, err = s.planned(ctx, row); err != nil {
			return out, err
		}
	}
	steps, err := s.store.Steps(ctx, n)
	for _, step := range steps {
		out.Steps = append(out.Steps, showStep(step))
	}
	if n := len(steps); n > 0 && steps[n-1].Unknown && !steps[n-1].Repeatable && out.State == replacement.Held {
		instead := "cancel"
		if out.Touched() {
			instead = "revert"
		}
		out.Next = fmt.Sprintf("look at the device, then: freshseal replacement resume %s --step done, or --step again, or %s %s", out.ID, instead, out.ID)
	}
	return out, err
}

// planned shows the chain that is going to be installed, or was.
func (s *Service) planned(ctx context.Context, row store.Replacement) ([]Link, []finding.Finding, error) {
	certificates, err := s.store.Certificates(ctx, row.Path.V)
	if err != nil {
		return nil, nil, err
	}
	p, err := s.pools(ctx)
	if err != nil {
		return nil, nil, err
	}
	p.pool.Add(certificates[1:]...)
	path, found, err := s.judgeNew(ctx, certificates[0], p, row)
	return links(path, certificates), found, err
}

func showReplacement(row store.Replacement) Replacement {
	out := Replacement{ID: idText(row.ID), Progress: row.Progress(), Device: row.Device, Slot: row.Slot, Signer: row.Signer, Plan: row.Plan.V,
		OldSHA256: row.OldSHA256, NewSHA256: row.NewSHA256, AskedBy: row.AskedBy, ApprovedBy: row.ApprovedBy, BegunAt: row.BegunAt.Time, ChangedAt: row.ChangedAt.Time}
	out.Leftover = row.Leftover
	if row.ParcelID != nil {
		out.Parcel = parcelText(*row.ParcelID)
	}
	out.Next = nextFor(out)
	return out
}

// nextFor says what a person can do about a replacement that stands still.
func nextFor(r Replacement) string {
	switch {
	case r.Leftover != "":
		return "correct the cause, then: freshseal replacement clear " + r.ID
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Signer && r.Parcel == "":
		return "pack its request: freshseal parcel pack --signer " + r.Signer + " --out parcel.zip"
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Signer:
		return "give what the signer sends back: freshseal intake FILE…"
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Validation:
		return "somebody proves to the signer whose the domain is: freshseal task list"
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Approval:
		return "somebody looks at it and approves: freshseal replacement approve " + r.ID
	case r.State == replacement.Waiting && r.WaitingFor == replacement.Person:
		return "a person does the next step by hand: freshseal task list"
	case r.State == replacement.Held && r.Touched():
		return fmt.Sprintf("correct the cause, then: freshseal replacement resume %s, or revert %s", r.ID, r.ID)
	case r.State == replacement.Held:
		return fmt.Sprintf("correct the cause, then: freshseal replacement resume %s, or cancel %s", r.ID, r.ID)
	case r.State == replacement.Reverted:
		return fmt.Sprintf("correct the cause, then: freshseal replace %s/%s --signer %s", r.Device, r.Slot, r.Signer)
	}
	return ""
}

func showStep(step store.Step) Step {
	out := Step{Stage: step.Section, Name: step.Name, Verb: step.Verb, Text: step.Text, Outcome: "running",
		Exit: step.ExitCode, Output: step.Output, Why: step.Why, BeganAt: step.BeganAt.Time}
	if !step.EndedAt.IsZero() {
		out.Outcome, out.EndedAt = "failed", &step.EndedAt.Time
		switch {
		case step.OK:
			out.Outcome = "done"
		case step.Unknown:
			out.Outcome = "unknown"
		}
	}
	return out
}
