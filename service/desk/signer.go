package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"freshseal/core/answer"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/request"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
)

// The signers that are always there.
const (
	BenchSigner  = signer.BenchName
	DeskSigner   = signer.DeskName
	DeviceSigner = signer.DeviceName
	OwnKeySigner = signer.OwnKeyName
)

// Signer is a person or authority that signs requests.
type Signer struct {
	Name string `json:"name" required:"true"`
	Kind string `json:"kind" required:"true" enum:"bench,desk,device,own-key"`
	SignerTerms
	Habits   []string         `json:"habits,omitempty" description:"what it leaves out of what it is asked for, learnt from its answers"`
	Issuers  []SignerIssuer   `json:"issuers,omitempty" description:"the certification authorities with which it signs; an answer under another one waits for a person"`
	Revision problem.Revision `json:"revision" required:"true"`

	habits answer.Habits
}

// Cautions say what earlier answers of the signer let expect of a request.
func (s Signer) Cautions(plan request.Plan) []string {
	return s.habits.Cautions(s.Name, plan.Names, plan.ClientUse)
}

// SignerTerms describe a signer.
type SignerTerms struct {
	About          string        `json:"about" required:"true"`
	Contact        string        `json:"contact,omitempty"`
	Notes          string        `json:"notes,omitempty" description:"the steps of its portal, who validates the domain and how"`
	TurnaroundDays int           `json:"turnaround_days,omitempty" description:"working days"`
	MaxDays        int           `json:"max_days,omitempty" description:"the longest certificate that it issues; 0: not known"`
	MinDays        int           `json:"min_days,omitempty" description:"the shortest certificate that it issues; a shorter one waits for a person; 0: not known"`
	Terms          request.Terms `json:"terms" required:"true"`
	Proof          request.Proof `json:"proof" required:"true" description:"how it has domains proven before it signs"`
	Order          request.Order `json:"order" required:"true" description:"the purchase by which it signs"`
}

// Signers returns all signers: bench, desk, device, and those that were added.
func (s *Service) Signers(ctx context.Context) ([]Signer, error) {
	any, bench := request.AnySigner, s.bench.Load().Terms()
	out := []Signer{
		{Name: BenchSigner, Kind: BenchSigner, SignerTerms: SignerTerms{About: fmt.Sprintf("an authority of Fresh Seal's own: signs at once, for up to %d days; trusted only where its root is", bench.MaxDays), MaxDays: bench.MaxDays, Terms: bench.Request}},
		{Name: DeskSigner, Kind: DeskSigner, SignerTerms: SignerTerms{About: "a person: requests go out as a parcel, certificates come back as an intake", Terms: any}},
		{Name: DeviceSigner, Kind: DeviceSigner, SignerTerms: SignerTerms{About: "the device itself, or its manager: makes and signs the certificate without a request; only for families that say so", Terms: any}},
		{Name: OwnKeySigner, Kind: OwnKeySigner, SignerTerms: SignerTerms{About: "nobody: a self-signed certificate, for devices that can take nothing else and are given their key; no client trusts it but by its fingerprint", Terms: any}},
	}
	rows, err := s.store.Signers(ctx)
	if err != nil {
		return nil, err
	}
	issuers, err := s.store.SignerIssuers(ctx)
	if err != nil {
		return nil, err
	}
	habits, err := s.store.SignerHabits(ctx)
	for _, row := range rows {
		terms := SignerTerms{About: row.About, Contact: row.Contact, Notes: row.Notes, TurnaroundDays: row.TurnaroundDays, MaxDays: row.MaxDays, MinDays: row.MinDays, Terms: row.Terms.V, Proof: row.Proof.V, Order: row.Purchase.V}
		out = append(out, Signer{Name: row.Name, Kind: DeskSigner, SignerTerms: terms, Issuers: showIssuers(issuers[row.Name]), Habits: habits[row.Name].Texts(), Revision: row.Revision, habits: habits[row.Name]})
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

// Signer returns the one with this name, or ErrNotFound.
func (s *Service) Signer(ctx context.Context, name string) (Signer, error) {
	all, err := s.Signers(ctx)
	if err != nil {
		return Signer{}, err
	}
	i := slices.IndexFunc(all, func(each Signer) bool { return each.Name == name })
	if i < 0 {
		return Signer{}, problem.New(problem.NotFound, fmt.Sprintf("no signer is called %q", name), "", "", next.ListSigners.On(""))
	}
	return all[i], nil
}

// Named returns the signer with this name.
func (s *Service) Named(ctx context.Context, name string) (signer.Signer, error) {
	if name == BenchSigner {
		return s.bench.Load(), nil
	}
	known, err := s.Signer(ctx, name)
	return signer.Desk{Accepts: signer.Terms{Request: known.Terms, MaxDays: known.MaxDays}}, err
}

// maxDomains is the maximum number of domains of a signer.
const maxDomains = 200

// PutSigner adds or changes a signer.
func (s *Service) PutSigner(ctx context.Context, name string, t SignerTerms, known problem.Revision) (Signer, error) {
	cannot := "the signer was not kept"
	switch {
	case !naming.Label(name), name == BenchSigner, name == DeskSigner, name == DeviceSigner, name == OwnKeySigner:
		return Signer{}, problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", name), naming.Rule+"; bench, desk, device and own-key are reserved")
	case t.TurnaroundDays < 0 || t.TurnaroundDays > 365 || t.MaxDays < 0 || t.MaxDays > 36500 || t.MinDays < 0 || t.MaxDays > 0 && t.MinDays > t.MaxDays || t.MinDays > 36500:
		return Signer{}, problem.Reject(cannot, "the turnaround or lifetime is invalid", "give a turnaround up to 365 and lifetimes up to 36500, the shortest not longer than the longest")
	}
	if p := t.Proof; p.How != "" && !slices.Contains(request.ProofWays, p.How) || p.Days < 0 || p.Days > 825 {
		return Signer{}, problem.Reject(cannot, fmt.Sprintf("%q for %d days is not a valid domain validation", p.How, p.Days), "give mail, dns or file, and days up to 825")
	}
	if why := t.Order.Check(); why != "" {
		return Signer{}, problem.Reject(cannot, why, "correct the order")
	}
	if len(t.Terms.Domains) > maxDomains {
		return Signer{}, problem.Reject(cannot, fmt.Sprintf("it has %d domains", len(t.Terms.Domains)), fmt.Sprintf("give at most %d", maxDomains))
	}
	for i, domain := range t.Terms.Domains {
		if domain = request.PlainName(domain); !request.IsName(domain) || net.ParseIP(domain) != nil || strings.HasPrefix(domain, "*.") {
			return Signer{}, problem.Reject(cannot, fmt.Sprintf("%q is not a domain", domain), "give a domain such as tidewrack.example; the names under it are signed, too")
		}
		t.Terms.Domains[i] = domain
	}
	for _, field := range t.Terms.Fields {
		if !slices.Contains(request.SubjectFields[1:], field) {
			return Signer{}, problem.Reject(cannot, fmt.Sprintf("%q is not a subject field", field), "give organization, unit, locality, state, country or email")
		}
	}
	row := store.Signer{Name: name, About: t.About, Contact: t.Contact, Notes: t.Notes, TurnaroundDays: t.TurnaroundDays, MaxDays: t.MaxDays, MinDays: t.MinDays, AddedAt: s.moment()}
	row.Terms.V, row.Proof.V, row.Purchase.V = t.Terms, t.Proof, t.Order
	was, err := s.signersByName(ctx)
	if err != nil {
		return Signer{}, err
	}
	deed.Differences(ctx, map[string]string{name: termsText(was[name].SignerTerms)}, map[string]string{name: termsText(t)})
	defer s.watch.Forget()
	if err := s.store.PutSigner(ctx, row, known); err != nil {
		return Signer{}, problem.Outdated(err)
	}
	return s.Signer(ctx, name)
}

// RemoveSigner deletes a signer that has no pending request.
func (s *Service) RemoveSigner(ctx context.Context, name string) error {
	defer s.watch.Forget()
	err := s.store.RemoveSigner(ctx, name)
	if errors.Is(err, store.ErrTaken) {
		return problem.New(problem.Conflict, "the signer cannot be removed", "it has a pending request", "take in its answer, or cancel the replacement")
	}
	return problem.Missing(err, next.ListSigners, "no signer is called %q that was added here", name)
}

// termsText is what is known of a signer on one line, for the ledger.
func termsText(t SignerTerms) string {
	text, _ := json.Marshal(t) // plain fields cannot fail
	return string(text)
}
