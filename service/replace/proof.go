package replace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/language/answer"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/signing"
	"freshseal/store"
)

// proofLimit is how long a proof may take if the signer has no turnaround.
const proofLimit = 14 * 24 * time.Hour

// proofs are tasks beside a replacement: to prove to its signer who controls a domain.
type proofs struct{ *Service }

// SeekProofs opens tasks for the domains that signers want proven, and makes replacements whose domains are proven wait
// for the signer alone. It may be called at any time.
func (s *Service) SeekProofs(ctx context.Context) error {
	s.proofLock.Lock()
	defer s.proofLock.Unlock()
	all, err := s.signing.Signers(ctx)
	if err != nil {
		return err
	}
	wanting := map[string]contract.Signer{}
	for _, each := range all {
		if each.Proof.How != "" {
			wanting[each.Name] = each
		}
	}
	if len(wanting) == 0 {
		return nil
	}
	waiting, err := s.store.Replacements.In(ctx, replacement.Waiting)
	if err != nil {
		return err
	}
	tasks, err := s.store.Tasks.Open(ctx)
	if err != nil {
		return err
	}
	signers := map[int64]string{} // of replacements
	for _, r := range waiting {
		signers[r.ID] = r.Signer
	}
	asked := map[[2]string]bool{} // signer and domain, for which a task is open
	for _, t := range tasks {
		for _, domain := range t.Domains.V {
			asked[[2]string{signers[t.ReplacementID], domain}] = true
		}
	}
	for _, r := range waiting {
		signer, wants := wanting[r.Signer]
		if !wants || r.ParcelID == nil || !r.Progress().AtSigner() {
			continue
		}
		if err := (proofs{s}).seekProof(ctx, r, signer, asked); err != nil {
			return fmt.Errorf("seeking the proofs of %s: %w", replacement.Name(r.ID), err)
		}
	}
	return nil
}

func (s proofs) seekProof(ctx context.Context, r store.Replacement, signer contract.Signer,
	asked map[[2]string]bool) error {
	parcel, _, err := s.store.Parcels.Get(ctx, *r.ParcelID)
	if err != nil || parcel.HandedAt.IsZero() {
		return err
	}
	proven, err := s.store.Signers.ProvenTo(ctx, signer.Name)
	if err != nil {
		return err
	}
	var lacking, unasked []string
	for _, domain := range request.Domains(r.Plan.V.Names) {
		p, ok := proven[domain]
		if ok && (!p.At.Before(parcel.HandedAt.Time) || p.At.AddDate(0, 0, signer.Proof.Days).After(s.now())) {
			continue
		}
		lacking = append(lacking, domain)
		if key := [2]string{signer.Name, domain}; !asked[key] {
			asked[key] = true
			unasked = append(unasked, domain)
		}
	}
	switch {
	case len(lacking) == 0 && r.WaitingFor == replacement.Validation:
		_, err = s.Advance(ctx, r.ID, replacement.Event{Kind: replacement.Proven})
	case len(lacking) > 0 && r.WaitingFor == replacement.Signer:
		_, err = s.Advance(ctx, r.ID, replacement.Event{Kind: replacement.WantsProof})
	}
	if err != nil || len(unasked) == 0 {
		return overtaken(err)
	}
	return s.openProof(ctx, r, parcel, signer, unasked)
}

// overtaken ignores that the answer came in the meantime.
func overtaken(err error) error {
	if errors.As(err, new(replacement.Impossible)) {
		return nil
	}
	return err
}

// openProof opens the task to prove domains.
func (s proofs) openProof(ctx context.Context, r store.Replacement, parcel store.Parcel, signer contract.Signer,
	domains []string) error {
	text := signer.Proof.Steps(domains)
	if signer.Proof.Who != "" {
		text += "\nWho does it: " + signer.Proof.Who + "."
	}
	if signer.Notes != "" {
		text += "\n" + signer.Notes
	}
	until := s.now().Add(proofLimit)
	if signer.TurnaroundDays > 0 {
		until = due.WorkingDays(parcel.HandedAt.Time, signer.TurnaroundDays, nil)
	}
	t := &store.Task{DueAt: store.At(until)}
	t.Domains.V = domains
	for _, each := range []answer.Labelled{
		{Label: "Domain", Text: strings.Join(domains, ", ")}, {Label: "Signer", Text: signer.Name},
		{Label: "Contact", Text: signer.Contact},
		{Label: "Parcel", Text: signing.ParcelName(parcel.ID)}, {Label: "Reference", Text: parcel.Reference},
	} {
		if each.Text != "" {
			t.Copy.V = append(t.Copy.V, each)
		}
	}
	_, err := s.store.Journal.BeginStep(ctx, store.Step{ReplacementID: r.ID, Section: string(replacement.Sign),
		Name: fmt.Sprintf("prove %s to %s", strings.Join(domains, ", "), signer.Name),
		Verb: "person", Text: text, Repeatable: true, BeganAt: s.moment(), Task: t})
	if err == nil {
		s.log.Info("a domain is to be proven", "signer", signer.Name, "domains", domains, "replacement",
			replacement.Name(r.ID))
	}
	return err
}

// endProof records that domains are proven.
func (s proofs) endProof(ctx context.Context, row store.Task, by string) error {
	r, err := s.store.Replacements.Get(ctx, row.ReplacementID)
	if err != nil {
		return err
	}
	step := store.Step{ID: row.StepID, ReplacementID: row.ReplacementID, EndedAt: s.moment(), OK: true,
		Output: "done by " + by}
	err = s.store.Tasks.EndProof(ctx, step, r.Signer, slices.Clone(row.Domains.V), by)
	if errors.Is(err, store.ErrNotFound) {
		return taskOver(taskText(row.StepID), row.ReplacementID)
	}
	if err != nil {
		return err
	}
	s.log.Info("domain proven", "signer", r.Signer, "domains", row.Domains.V, "by", by)
	return s.SeekProofs(ctx)
}
