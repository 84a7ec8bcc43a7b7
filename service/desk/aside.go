package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/cert"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store"
)

// Aside is a leaf that came and that nobody waits for. It is kept, with who is
// nearest to it, until its request turns up or somebody throws it away.
type Aside struct {
	Certificate cert.Facts `json:"certificate" required:"true"`
	Why         string     `json:"why" required:"true"`
	Near        []Near     `json:"near" required:"true"`
	CameAt      time.Time  `json:"came_at" required:"true"`
	CameBy      string     `json:"came_by" required:"true"`
	PEM         string     `json:"pem" required:"true"`
}

// Near is a replacement or slot for which a certificate may be intended.
type Near struct {
	Replacement string   `json:"replacement,omitempty" description:"that waits with another key; none: the slot alone bears the name"`
	Device      string   `json:"device" required:"true"`
	Slot        string   `json:"slot" required:"true"`
	Names       []string `json:"names" required:"true" description:"that both have"`
}

func (n Near) String() string {
	if n.Replacement == "" {
		return fmt.Sprintf("%s/%s is known under %s, and no request of it waits", n.Device, n.Slot, strings.Join(n.Names, ", "))
	}
	return fmt.Sprintf("%s (%s/%s) waits for %s, with another key", n.Replacement, n.Device, n.Slot, strings.Join(n.Names, ", "))
}

const mostNear = 3

// neighbours are those who bear names, by name.
type neighbours map[string][]Near

// neighbours looks at every request that is out, and at every slot.
func (s *Service) neighbours(ctx context.Context) (neighbours, error) {
	out := neighbours{}
	waiting, err := s.store.ReplacementsIn(ctx, replacement.Waiting)
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
			out[name] = append(out[name], Near{Replacement: replacement.Name(r.ID), Device: r.Device, Slot: r.Slot})
		}
	}
	slots, err := s.store.Slots(ctx)
	for _, row := range slots {
		if row.ServerName != "" && !asked[row.Device+"/"+row.Name] {
			out[row.ServerName] = append(out[row.ServerName], Near{Device: row.Device, Slot: row.Name})
		}
	}
	return out, err
}

// of are those that share most names with a leaf, the nearest first.
func (n neighbours) of(leaf *cert.Certificate) []Near {
	found := []Near{}
	for _, name := range leaf.Names() {
		for _, near := range n[strings.ToLower(name)] {
			i := slices.IndexFunc(found, func(f Near) bool { return f.Device == near.Device && f.Slot == near.Slot })
			if i < 0 {
				found, i = append(found, near), len(found)
			}
			found[i].Names = append(slices.Clip(found[i].Names), name)
		}
	}
	slices.SortStableFunc(found, func(a, b Near) int { return len(b.Names) - len(a.Names) })
	return found[:min(len(found), mostNear)]
}

// Asides returns the certificates that match no pending request, newest first.
func (s *Service) Asides(ctx context.Context) ([]Aside, error) {
	rows, err := s.store.Asides(ctx)
	if err != nil || len(rows) == 0 {
		return []Aside{}, err
	}
	near, err := s.neighbours(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Aside, 0, len(rows))
	for _, row := range rows {
		leaf, err := cert.Parse(row.DER)
		if err != nil {
			return nil, err
		}
		out = append(out, Aside{leaf.Facts(), row.Why, near.of(leaf), row.CameAt.Time, row.CameBy, string(leaf.PEM())})
	}
	return out, nil
}

// RemoveAside deletes a certificate that matches no pending request.
func (s *Service) RemoveAside(ctx context.Context, sha256 string) error {
	return problem.Missing(s.store.RemoveAside(ctx, sha256), next.ListAsides, "no certificate without a request begins with %s", sha256)
}

// layAside keeps a leaf that nobody waits for.
func (s *Service) layAside(ctx context.Context, leaf *cert.Certificate, out *Answer, t *taking) error {
	if t.near == nil {
		near, err := s.neighbours(ctx)
		if err != nil {
			return err
		}
		t.near = near
	}
	out.Why, out.Near, out.Aside = "no request here has this leaf's key", t.near.of(leaf), true
	for _, n := range out.Near {
		out.Why += "; " + n.String()
	}
	out.Next = "it is kept; ask the signer to sign the request that was sent, not an older one or one made elsewhere"
	out.Actions = []next.Action{next.ListAsides.On("")}
	return s.store.PutAside(ctx, leaf, store.Aside{Why: out.Why, CameAt: s.moment(), CameBy: t.by})
}
