package signing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/store/issuance"
)

// Cautions say what earlier answers of a signer let expect of a request.
func (s *Service) Cautions(ctx context.Context, signer string, plan request.Plan) ([]string, error) {
	habits, err := s.store.Signers.Habits(ctx)
	return habits[signer].Cautions(signer, plan.Names, plan.ClientUse), err
}

// Signers returns all signers: bench, desk, device, and those that were added.
func (s *Service) Signers(ctx context.Context) ([]contract.Signer, error) {
	any, bench := request.AnySigner, s.bench.Load().Terms()
	out := []contract.Signer{
		{Name: contract.BenchSigner, Kind: contract.BenchSigner,
			SignerTerms: contract.SignerTerms{About: fmt.Sprintf("an authority of Fresh Seal's own: signs at once, "+
				"for up to %d days; trusted only where its root is", bench.MaxDays), MaxDays: bench.MaxDays,
				Terms: bench.Request}},
		{Name: contract.DeskSigner, Kind: contract.DeskSigner,
			SignerTerms: contract.SignerTerms{About: "a person: requests go out as a parcel, certificates come " +
				"back as an intake", Terms: any}},
		{Name: contract.DeviceSigner, Kind: contract.DeviceSigner,
			SignerTerms: contract.SignerTerms{About: "the device itself, or its manager: makes and signs the " +
				"certificate without a request; only for families that say so", Terms: any}},
		{Name: contract.OwnKeySigner, Kind: contract.OwnKeySigner,
			SignerTerms: contract.SignerTerms{About: "nobody: a self-signed certificate, for devices that can take " +
				"nothing else and are given their key; no client trusts it but by its fingerprint", Terms: any}},
	}
	rows, err := s.store.Signers.List(ctx)
	if err != nil {
		return nil, err
	}
	issuers, err := s.store.Signers.Issuers(ctx)
	if err != nil {
		return nil, err
	}
	habits, err := s.store.Signers.Habits(ctx)
	for _, row := range rows {
		terms := contract.SignerTerms{About: row.About, Contact: row.Contact, Notes: row.Notes,
			TurnaroundDays: row.TurnaroundDays, MaxDays: row.MaxDays, MinDays: row.MinDays, Terms: row.Terms.V,
			Proof: row.Proof.V, Order: row.Purchase.V}
		out = append(out, contract.Signer{Name: row.Name, Kind: contract.DeskSigner, SignerTerms: terms,
			Issuers: showIssuers(issuers[row.Name]), Habits: habits[row.Name].Texts(), Revision: row.Revision})
	}
	return out, err
}

func (s *Service) signersByName(ctx context.Context) (map[string]contract.Signer, error) {
	all, err := s.Signers(ctx)
	out := map[string]contract.Signer{}
	for _, each := range all {
		out[each.Name] = each
	}
	return out, err
}

// Signer returns the one with this name, or ErrNotFound.
func (s *Service) Signer(ctx context.Context, name string) (contract.Signer, error) {
	all, err := s.Signers(ctx)
	if err != nil {
		return contract.Signer{}, err
	}
	i := slices.IndexFunc(all, func(each contract.Signer) bool { return each.Name == name })
	if i < 0 {
		return contract.Signer{}, problem.New(problem.NotFound, fmt.Sprintf("no signer is called %q", name), "", "",
			next.ListSigners.On(""))
	}
	return all[i], nil
}

// Named returns the signer with this name.
func (s *Service) Named(ctx context.Context, name string) (signer.Signer, error) {
	if name == contract.BenchSigner {
		return s.bench.Load(), nil
	}
	known, err := s.Signer(ctx, name)
	return signer.Desk{Accepts: signer.Terms{Request: known.Terms, MaxDays: known.MaxDays}}, err
}

// maxDomains is the maximum number of domains of a signer.
const maxDomains = 200

// PutSigner adds or changes a signer.
func (s *Service) PutSigner(ctx context.Context, name string, t contract.SignerTerms,
	known problem.Revision) (contract.Signer, error) {
	if err := checkSigner(name, t); err != nil {
		return contract.Signer{}, err
	}
	row := issuance.Signer{Name: name, About: t.About, Contact: t.Contact, Notes: t.Notes,
		TurnaroundDays: t.TurnaroundDays, MaxDays: t.MaxDays, MinDays: t.MinDays, AddedAt: s.moment()}
	row.Terms.V, row.Proof.V, row.Purchase.V = t.Terms, t.Proof, t.Order
	was, err := s.signersByName(ctx)
	if err != nil {
		return contract.Signer{}, err
	}
	audit.Differences(ctx, map[string]string{name: termsText(was[name].SignerTerms)},
		map[string]string{name: termsText(t)})
	defer s.monitor.Forget()
	if err := s.store.Signers.Put(ctx, row, known); err != nil {
		return contract.Signer{}, problem.Outdated(err)
	}
	return s.Signer(ctx, name)
}

// checkSigner checks that a signer may be called that, and that its terms make sense. Domains are brought into one
// form.
func checkSigner(name string, t contract.SignerTerms) error {
	const cannot = "the signer was not kept"
	switch {
	case !naming.Label(name), name == contract.BenchSigner, name == contract.DeskSigner,
		name == contract.DeviceSigner, name == contract.OwnKeySigner:
		return problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", name), naming.Rule+
			"; bench, desk, device and own-key are reserved")
	case t.TurnaroundDays < 0 || t.TurnaroundDays > 365 || t.MaxDays < 0 || t.MaxDays > 36500 || t.MinDays < 0 ||
		t.MaxDays > 0 && t.MinDays > t.MaxDays || t.MinDays > 36500:
		return problem.Reject(cannot, "the turnaround or lifetime is invalid",
			"give a turnaround up to 365 and lifetimes up to 36500, the shortest not longer than the longest")
	}
	if p := t.Proof; p.How != "" && !slices.Contains(request.ProofWays, p.How) || p.Days < 0 || p.Days > 825 {
		return problem.Reject(cannot, fmt.Sprintf("%q for %d days is not a valid domain validation", p.How, p.Days),
			"give mail, dns or file, and days up to 825")
	}
	if why := t.Order.Check(); why != "" {
		return problem.Reject(cannot, why, "correct the order")
	}
	return checkTerms(cannot, t.Terms)
}

// checkTerms checks that what a signer asks of requests makes sense. Domains are brought into one form.
func checkTerms(cannot string, t request.Terms) error {
	if len(t.Domains) > maxDomains {
		return problem.Reject(cannot, fmt.Sprintf("it has %d domains", len(t.Domains)),
			fmt.Sprintf("give at most %d", maxDomains))
	}
	for i, domain := range t.Domains {
		if domain = request.PlainName(domain); !request.IsName(domain) || net.ParseIP(domain) != nil ||
			strings.HasPrefix(domain, "*.") {
			return problem.Reject(cannot, fmt.Sprintf("%q is not a domain", domain),
				"give a domain such as tidewrack.example; the names under it are signed, too")
		}
		t.Domains[i] = domain
	}
	for _, field := range t.Fields {
		if !slices.Contains(request.SubjectFields[1:], field) {
			return problem.Reject(cannot, fmt.Sprintf("%q is not a subject field", field),
				"give organization, unit, locality, state, country or email")
		}
	}
	return nil
}

// RemoveSigner deletes a signer that has no pending request.
func (s *Service) RemoveSigner(ctx context.Context, name string) error {
	defer s.monitor.Forget()
	err := s.store.Signers.Remove(ctx, name)
	if errors.Is(err, store.ErrTaken) {
		return problem.New(problem.Conflict, "the signer cannot be removed", "it has a pending request",
			"take in its answer, or cancel the replacement")
	}
	return problem.Missing(err, next.ListSigners, "no signer is called %q that was added here", name)
}

// termsText returns what is known of a signer on one line, for the audit log.
func termsText(t contract.SignerTerms) string {
	text, _ := json.Marshal(t) // plain fields cannot fail
	return string(text)
}
