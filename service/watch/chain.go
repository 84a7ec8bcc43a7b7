package watch

import (
	"context"
	"time"

	"freshseal/core/cert"
	"freshseal/core/chain"
)

// Link is one certificate of a drawn chain: as served, or known here and not served.
type Link struct {
	cert.Facts
	Role   string `json:"role" required:"true" enum:"leaf,intermediate,anchor,root,surplus" description:"an anchor is a root that the fleet trusts"`
	Served bool   `json:"served" required:"true"`
	PEM    string `json:"pem" required:"true"`
}

// Draw draws a chain: the path leaf first, then what is served besides.
func Draw(path chain.Path, served []*cert.Certificate) []Link {
	isServed := map[string]bool{}
	for _, c := range served {
		isServed[c.SHA256] = true
	}
	var out []Link
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
		out = append(out, Link{c.Facts(), role, isServed[c.SHA256], string(c.PEM())})
	}
	for _, c := range served {
		if !onPath[c.SHA256] {
			out = append(out, Link{c.Facts(), "surplus", true, string(c.PEM())})
		}
	}
	return out
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
