package monitor

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
)

// Draw draws a chain: the path leaf first, then what is served besides.
func Draw(path chain.Path, served []*cert.Certificate) []contract.Link {
	isServed := map[string]bool{}
	for _, c := range served {
		isServed[c.SHA256] = true
	}
	var out []contract.Link
	onPath := map[string]bool{}
	for i, c := range path.Certificates {
		role := "intermediate"
		switch {
		case i == 0:
			role = "leaf"
		case i == len(path.Certificates)-1 && path.Anchored:
			role = "anchor"
		case i == len(path.Certificates)-1 && path.Complete:
			role = "root"
		}
		onPath[c.SHA256] = true
		out = append(out, linkOf(c, role, isServed[c.SHA256]))
	}
	for _, c := range served {
		if !onPath[c.SHA256] {
			out = append(out, linkOf(c, "surplus", true))
		}
	}
	return out
}

func linkOf(c *cert.Certificate, role string, served bool) contract.Link {
	return contract.Link{Facts: c.Facts(), Role: role, Served: served, PEM: string(c.PEM()), Extensions: c.Extensions()}
}

// Pools are the certificates from which paths are completed.
type Pools struct {
	Anchors *chain.Pool     // the fleet's trusted roots
	Pool    *chain.Pool     // authorities that came with some pile; trusted by nobody for that
	Tried   map[string]bool // addresses from which nothing could be had
}

// Path completes the path of a served leaf from what was served, the pool and
// the fleet's anchors.
func (p Pools) Path(served []*cert.Certificate, at time.Time) chain.Path {
	p.Pool.Add(served[1:]...)
	return chain.Complete(served[0], p.Pool, p.Anchors, at)
}

func (s *Service) Pools(ctx context.Context) (Pools, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return Pools{}, err
	}
	return Pools{Anchors: snapshot.Anchors, Pool: snapshot.Authorities.With(), Tried: map[string]bool{}}, nil
}
