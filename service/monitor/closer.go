package monitor

import (
	"context"
	"math/rand/v2"
	"slices"
	"time"

	"freshseal/core/judgement/judge"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/store"
	"freshseal/wire"
)

const (
	lookEvery = 24 * time.Hour  // a closer look at each slot
	lookSoon  = 5 * time.Minute // after the leaf changed
)

// ReadCloser reads a slot with a closer look: for a second certificate, the device's clock, and its stapled OCSP
// response.
func (s *Service) ReadCloser(ctx context.Context, slot store.Slot) (Sight, error) {
	sight, err := s.sight(ctx, slot, wire.Target{Closer: true})
	if err != nil {
		return sight, err
	}
	return sight, s.record(ctx, slot, sight)
}

// wantsLook reports whether a reading at a moment is a closer one.
func wantsLook(row store.SlotToRead, at time.Time) bool {
	return !row.LookAt.IsZero() && !at.Before(row.LookAt.Time)
}

// looked records the results of a closer look in a slot, and when the next one is due: soon after a change of its leaf.
func (s *closeReader) looked(row *store.Slot, sight Sight) {
	switch {
	case sight.Closer != nil:
		look := s.meaning(*sight.Closer, sight.Chain)
		row.Closer.V = &look
		row.LookAt = store.At(sight.At.Add(lookEvery + time.Duration((rand.Float64()-0.5)/5*float64(lookEvery))))
	case sight.Why == nil && !slices.Equal(row.Chain.V, fingerprints(sight.Chain)):
		row.LookAt = store.At(sight.At.Add(lookSoon))
	}
}

// meaning returns the results of a closer look.
func (s *closeReader) meaning(look wire.Closer, served []*cert.Certificate) judge.Closer {
	out := judge.Closer{Second: fingerprints(look.Second)}
	if look.Clock != nil {
		out.Clock, out.Ahead = true, int(look.Clock.Seconds())
	}
	if len(look.Staple) > 0 && len(served) > 1 {
		answer, err := revocation.Response(look.Staple, served[0], served[1], s.now())
		if err != nil {
			out.Failed = err.Error()
		} else {
			out.Staple = &answer
		}
	}
	return out
}

func fingerprints(chain []*cert.Certificate) (out []string) {
	for _, c := range chain {
		out = append(out, c.SHA256)
	}
	return out
}
