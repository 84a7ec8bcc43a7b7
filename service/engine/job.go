package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
)

// RestsBefore returns why a replacement waits for a go-ahead before the stage in hand, empty if it does not.
func (j *Job) RestsBefore() string {
	if j.Reverting || j.Stopping {
		return ""
	}
	switch {
	case j.PausedBy != "" && !j.Serving():
		return "it was paused by " + j.PausedBy
	case j.StopAfter == string(replacement.Sign) && j.Stage == replacement.Gate:
		return "it was to stop after sign"
	case j.StopAfter == string(replacement.Trial) && j.Stage == replacement.Activate:
		return "it was to stop after the trial: look at the test address"
	}
	return ""
}

// Serving reports whether the new certificate may be served already. From here on a pause would only delay the proof.
func (j *Job) Serving() bool {
	return slices.Contains([]replacement.Stage{replacement.Prove, replacement.Mirror, replacement.Seal}, j.Stage)
}

// SlotIDs returns the slots that get the certificate.
func (j *Job) SlotIDs() []int64 {
	var out []int64
	for _, t := range j.Targets {
		out = append(out, t.ID)
	}
	return out
}

// Job is a replacement with everything needed to work on it.
type Job struct {
	store.Replacement
	Box      store.Device
	First    store.Slot     // the first of those that get the certificate
	Targets  []store.Target // all of them
	Family   library.Source
	Material procedure.Material // what the given values are made of
	Scope    *procedure.Scope   // settings, captures and what Fresh Seal brings
	place    *access.Place
}

// Assemble builds a job from the procedure that the replacement began with, its settings, and the given values
// available so far.
func (s *jobs) Assemble(ctx context.Context, r store.Replacement, device store.Device,
	targets []store.Target) (*Job, error) {
	p, err := s.procedureOf(ctx, r, device)
	if err != nil {
		return nil, err
	}
	settings, err := s.fleet.OpenSettings(ctx, device)
	if err != nil {
		return nil, err
	}
	m := procedure.Material{Procedure: p.Procedure, Address: device.Address, Plan: r.Plan.V, OldSHA256: r.OldSHA256}
	for _, t := range targets {
		m.Slots = append(m.Slots, t.Name)
	}
	for _, n := range device.Nodes.V {
		m.Nodes = append(m.Nodes, n.Address)
	}
	if r.ID != 0 { // a retry goes on with what was named after the first try
		m.Replacement, _, _ = strings.Cut(WorkName(r), "-")
	}
	var made *procedure.Made
	if r.ID != 0 {
		kept, _ := s.Made.LoadOrStore(r.ID, &procedure.Made{})
		made = kept.(*procedure.Made)
	}
	if p.Uses(procedure.HTTPS) {
		web, err := s.access.Web(ctx, device)
		if err != nil {
			return nil, err
		}
		m.WebUser, m.WebPassword = web.User, web.Password
	}
	j := &Job{Replacement: r, Box: device, First: targets[0].Slot, Targets: targets, Family: p,
		place: &access.Place{}}
	scope, err := procedure.NewScope(m, settings, made)
	if err != nil {
		return nil, unfit(device, err)
	}
	m.Procedure = scope.Procedure()
	j.Family.Procedure = m.Procedure
	if work, err := scope.Value(procedure.WorkFolder); err == nil {
		m.Work = workFolder(work.Text, r)
	}
	if err := s.addSigned(ctx, &m, j); err != nil {
		return nil, err
	}
	j.Material, j.Scope = m, scope.WithMaterial(m)
	return j, nil
}

// WithSettings returns a family for a device with its settings applied.
func (s *jobs) WithSettings(ctx context.Context, device store.Device,
	p procedure.Procedure) (procedure.Procedure, error) {
	settings, err := s.fleet.OpenSettings(ctx, device)
	if err != nil {
		return p, err
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p}, settings, nil)
	if err != nil {
		return p, unfit(device, err)
	}
	return scope.Procedure(), nil
}

func unfit(device store.Device, err error) error {
	return problem.Reject("the device's settings do not fit its family", err.Error(), "",
		next.ShowProcedure.On(device.Family))
}

// workFolder returns a replacement's folder on its device. The mark makes it different from that of any other
// replacement, of this database or another.
func workFolder(base string, r store.Replacement) string {
	if r.ID == 0 {
		return base + "/rehearsal"
	}
	return base + "/" + WorkName(r)
}

// procedureOf returns the procedure that a replacement began with, even if its file has changed since.
func (s *jobs) procedureOf(ctx context.Context, r store.Replacement, device store.Device) (library.Source, error) {
	if r.Procedure == "" {
		return s.fleet.Family(device.Family)
	}
	if p, err := s.fleet.Procedure(device.Family); err == nil && p.Usable() && store.Digest(p.Text()) == r.Procedure {
		return p, nil
	}
	yaml, err := s.store.Replacements.ProcedureText(ctx, r.Procedure)
	if err != nil {
		return library.Source{}, fmt.Errorf("the procedure that %s began with: %w", replacement.Name(r.ID), err)
	}
	return library.Read(yaml)
}

// addSigned adds the request, the new chain and the key to give, if they are available.
func (s *jobs) addSigned(ctx context.Context, m *procedure.Material, j *Job) error {
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
	certificates, err := s.store.Chains.Certificates(ctx, j.Path.V)
	if err != nil {
		return err
	}
	m.Path = &chain.Path{Certificates: certificates, Complete: true}
	m.Key, m.Passphrase, err = s.keyToGive(ctx, j)
	return err
}

// Load assembles the job of a replacement that is under way.
func (s *jobs) Load(ctx context.Context, id int64) (*Job, error) {
	r, err := s.store.Replacements.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	device, err := s.store.Devices.Get(ctx, r.Device)
	if err != nil {
		return nil, err
	}
	targets, err := s.store.Replacements.Targets(ctx, id)
	if err != nil {
		return nil, err
	}
	if len(targets[id]) == 0 {
		return nil, fmt.Errorf("%s has no slot: %w", replacement.Name(id), store.ErrNotFound)
	}
	return s.Assemble(ctx, r, device, targets[id])
}

// WorkName returns the name of a replacement's folder on its device.
func WorkName(r store.Replacement) string {
	if r.Work != "" {
		return r.Work
	}
	return replacement.Name(r.ID) + "-" + r.Mark
}
