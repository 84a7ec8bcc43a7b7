package fleet

import (
	"context"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/store"
)

// mostPast is the maximum number of lines of a history.
const mostPast = 50

// Readings returns a slot's history, newest first: a line whenever something changed.
func (s *Lists) Readings(ctx context.Context, device, name string) ([]contract.PastReading, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return nil, err
	}
	past, err := s.store.Readings.Of(ctx, row.ID, mostPast+1)
	if err != nil {
		return nil, err
	}
	made, err := s.store.Replacements.Installs(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out := make([]contract.PastReading, 0, len(past))
	until := &row.ReadAt.Time
	leaf := "" // the one before, going forward
	for _, p := range slices.Backward(past) {
		line := contract.PastReading{At: p.At.Time, Version: p.Version, Failure: p.Failure.V, Change: "none"}
		if len(p.Chain.V) > 0 {
			found, err := s.store.Chains.Certificates(ctx, p.Chain.V[:1])
			if err != nil {
				return nil, err
			}
			line.SHA256, line.Subject = found[0].SHA256, found[0].ShortName()
			switch r := behind(made, p.At.Time, line.SHA256); {
			case line.SHA256 == leaf:
			case leaf == "" && r.NewSHA256 != line.SHA256: // what a replacement found there
				line.Change = "first"
			case r.ID != 0:
				line.Change, line.Replacement = "replacement", replacement.Name(r.ID)
			default:
				line.Change = "unexpected"
			}
			leaf = line.SHA256
		}
		out = append(out, line)
	}
	slices.Reverse(out)
	for i := range out {
		out[i].Until, until = until, &out[i].At
	}
	return out[:min(len(out), mostPast)], nil
}

// noticed is how long after the end of a replacement its change may first be seen: the next reading may come later.
const noticed = 10 * time.Minute

// behind returns the replacement that installed a leaf on a slot, or restored it; the zero value if none did.
func behind(made []store.Install, at time.Time, sha256 string) store.Install {
	for _, r := range made {
		if (r.NewSHA256 == sha256 || r.OldSHA256 == sha256) && !at.Before(r.StartedAt.Time) &&
			(!r.State.Over() || at.Before(r.ChangedAt.Add(noticed))) {
			return r
		}
	}
	return store.Install{}
}
