package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshseal/core/request"
	"freshseal/signer"
	"freshseal/store"
)

// The signers that are always there.
const (
	BenchSigner = "bench"
	DeskSigner  = "desk"
)

// benchLifetime is what is asked of bench.
const benchLifetime = signer.BenchLeaf

// Signer is somebody who signs requests.
type Signer struct {
	Name string `json:"name" required:"true"`
	Kind string `json:"kind" required:"true" enum:"bench,desk"`
	SignerTerms
}

// SignerTerms are what is known of a signer.
type SignerTerms struct {
	About          string        `json:"about" required:"true"`
	Contact        string        `json:"contact,omitempty"`
	Notes          string        `json:"notes,omitempty" description:"the steps of its portal, who validates the domain and how"`
	TurnaroundDays int           `json:"turnaround_days,omitempty" description:"working days"`
	MaxDays        int           `json:"max_days,omitempty" description:"the longest certificate that it issues; 0: not known"`
	Terms          request.Terms `json:"terms" required:"true"`
	Proof          request.Proof `json:"proof" required:"true" description:"how it has domains proven before it signs"`
}

// Signers are all signers: bench, desk, and those that were added.
func (s *Service) Signers(ctx context.Context) ([]Signer, error) {
	any := request.AnySigner
	out := []Signer{
		{BenchSigner, BenchSigner, SignerTerms{About: "an authority of Fresh Seal's own, for labs: signs at once, for up to 90 days; trusted only where its root is", MaxDays: 90, Terms: any}},
		{DeskSigner, DeskSigner, SignerTerms{About: "a person: requests go out as a parcel, certificates come back as an intake", Terms: any}},
	}
	rows, err := s.store.Signers(ctx)
	for _, row := range rows {
		out = append(out, Signer{row.Name, DeskSigner, SignerTerms{row.About, row.Contact, row.Notes, row.TurnaroundDays, row.MaxDays, row.Terms.V, row.Proof.V}})
	}
	return out, err
}

func (s *Service) signersByName(ctx context.Context) (map[string]Signer, error) {
	all, err := s.Signers(ctx)
	out := map[string]Signer{}
	for _, each := range all {
		out[each.Name] = each
	}
	return out, err
}

// signer finds one by its name.
func (s *Service) signer(ctx context.Context, name string) (Signer, error) {
	all, err := s.Signers(ctx)
	if err != nil {
		return Signer{}, err
	}
	i := slices.IndexFunc(all, func(each Signer) bool { return each.Name == name })
	if i < 0 {
		return Signer{}, &Error{NotFound, fmt.Sprintf("no signer is called %q", name), "", "see: freshseal signer list"}
	}
	return all[i], nil
}

// PutSigner adds a person or office that signs, or changes what is known of it.
func (s *Service) PutSigner(ctx context.Context, name string, t SignerTerms) (Signer, error) {
	cannot := "the signer was not kept"
	switch {
	case !credentialName.MatchString(name), name == BenchSigner, name == DeskSigner:
		return Signer{}, invalid(cannot, fmt.Sprintf("%q is no name for it", name), nameRule+"; bench and desk are taken")
	case t.TurnaroundDays < 0 || t.TurnaroundDays > 365 || t.MaxDays < 0 || t.MaxDays > 36500:
		return Signer{}, invalid(cannot, "its days are not right", "give a turnaround up to 365 and a lifetime up to 36500")
	}
	if p := t.Proof; p.How != "" && !slices.Contains(request.ProofWays, p.How) || p.Days < 0 || p.Days > 825 {
		return Signer{}, invalid(cannot, fmt.Sprintf("%q for %d days is no way of proving a domain", p.How, p.Days), "give mail, dns or file, and days up to 825")
	}
	for _, field := range t.Terms.Fields {
		if !slices.Contains([]string{"organization", "unit", "locality", "state", "country"}, field) {
			return Signer{}, invalid(cannot, fmt.Sprintf("%q is no field of a subject", field), "give organization, unit, locality, state or country")
		}
	}
	row := store.Signer{Name: name, About: t.About, Contact: t.Contact, Notes: t.Notes, TurnaroundDays: t.TurnaroundDays, MaxDays: t.MaxDays, AddedAt: s.moment()}
	row.Terms.V, row.Proof.V = t.Terms, t.Proof
	defer s.forget()
	if err := s.store.PutSigner(ctx, row); err != nil {
		return Signer{}, err
	}
	return s.signer(ctx, name)
}

// RemoveSigner forgets a signer that no request waits for.
func (s *Service) RemoveSigner(ctx context.Context, name string) error {
	defer s.forget()
	err := s.store.RemoveSigner(ctx, name)
	if errors.Is(err, store.ErrTaken) {
		return &Error{Conflict, "the signer cannot be removed", "a request waits for it", "take in its answer, or cancel the replacement"}
	}
	return notFound(err, "see: freshseal signer list", "no signer is called %q that was added here", name)
}
