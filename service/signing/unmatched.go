package signing

import (
	"context"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store/issuance"
)

const mostNear = 3

// neighbours are the pending requests and slots by name.
type neighbours map[string][]contract.Near

// neighbours collects every pending request and every slot.
func (s *Service) neighbours(ctx context.Context) (neighbours, error) {
	out := neighbours{}
	waiting, err := s.store.Replacements.In(ctx, replacement.Waiting)
	if err != nil {
		return nil, err
	}
	asked := map[string]bool{}
	for _, r := range waiting {
		if !r.Progress().AtSigner() {
			continue
		}
		asked[r.Device+"/"+r.Slot] = true
		for _, name := range r.Plan.V.Names {
			out[name] = append(out[name], contract.Near{Replacement: replacement.Name(r.ID), Device: r.Device,
				Slot: r.Slot})
		}
	}
	slots, err := s.store.Slots.List(ctx)
	for _, row := range slots {
		if row.ServerName != "" && !asked[row.Device+"/"+row.Name] {
			out[row.ServerName] = append(out[row.ServerName], contract.Near{Device: row.Device, Slot: row.Name})
		}
	}
	return out, err
}

// of returns those that share the most names with a leaf, the nearest first.
func (n neighbours) of(leaf *cert.Certificate) []contract.Near {
	found := []contract.Near{}
	for _, name := range leaf.Names() {
		for _, near := range n[strings.ToLower(name)] {
			i := slices.IndexFunc(found, func(f contract.Near) bool {
				return f.Device == near.Device && f.Slot == near.Slot
			})
			if i < 0 {
				found, i = append(found, near), len(found)
			}
			found[i].Names = append(slices.Clip(found[i].Names), name)
		}
	}
	slices.SortStableFunc(found, func(a, b contract.Near) int { return len(b.Names) - len(a.Names) })
	return found[:min(len(found), mostNear)]
}

// Unmatched returns the certificates that match no pending request, newest first.
func (s *Service) Unmatched(ctx context.Context) ([]contract.Unmatched, error) {
	rows, err := s.store.Signers.Unmatched(ctx)
	if err != nil || len(rows) == 0 {
		return []contract.Unmatched{}, err
	}
	near, err := s.neighbours(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]contract.Unmatched, 0, len(rows))
	for _, row := range rows {
		leaf, err := cert.Parse(row.DER)
		if err != nil {
			return nil, err
		}
		out = append(out, contract.Unmatched{Certificate: leaf.Facts(), Why: row.Why, Near: near.of(leaf),
			CameAt: row.CameAt.Time, CameBy: row.CameBy, PEM: string(leaf.PEM())})
	}
	return out, nil
}

// RemoveUnmatched deletes a certificate that matches no pending request.
func (s *Service) RemoveUnmatched(ctx context.Context, sha256 string) error {
	return problem.Missing(s.store.Signers.RemoveUnmatched(ctx, sha256), next.ListUnmatched,
		"no certificate without a request begins with %s", sha256)
}

// keepUnmatched stores a leaf that matches no pending request.
func (s *Service) keepUnmatched(ctx context.Context, leaf *cert.Certificate, out *contract.Answer, t *taking) error {
	if t.near == nil {
		near, err := s.neighbours(ctx)
		if err != nil {
			return err
		}
		t.near = near
	}
	out.Why, out.Near, out.Unmatched = "no request here has this leaf's key", t.near.of(leaf), true
	for _, n := range out.Near {
		out.Why += "; " + n.String()
	}
	out.Next = "it is kept; ask the signer to sign the request that was sent, not an older one or one made elsewhere"
	out.Actions = []next.Action{next.ListUnmatched.On("")}
	return s.store.Signers.PutUnmatched(ctx, leaf, issuance.Unmatched{Why: out.Why, CameAt: s.moment(), CameBy: t.by})
}
