package monitor

import (
	"context"
	"slices"

	"freshseal/core/language/look"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Expect records that a replacement works on slots: from activate on, until Unexpect, they may serve its old or new
// leaf, the certificate from before, or nothing, without an alarm. Their conditions stay unchanged meanwhile; a third
// certificate is reported at once.
func (s *Service) Expect(ctx context.Context, r store.Replacement, targets []store.Target) error {
	if r.Stage.Before(replacement.Activate) && !r.Reverting {
		return nil
	}
	stood, err := s.store.Replacements.Stood(ctx, r.ID)
	leaves := []string{r.NewSHA256, r.OldSHA256}
	for _, t := range targets {
		leaves = append(leaves, t.OldSHA256)
	}
	for _, row := range stood {
		if row.Look == look.Wire {
			leaves = append(leaves, row.Value)
		}
	}
	leaves = slices.DeleteFunc(leaves, func(leaf string) bool { return leaf == "" })
	for _, t := range targets {
		s.expected.Store(t.ID, leaves)
	}
	return err
}

// ExpectAll calls Expect for the replacements that were under way when the service last stopped. It must be called
// before anything is judged.
func (s *Service) ExpectAll(ctx context.Context) error {
	for _, state := range []replacement.State{replacement.Running, replacement.Waiting} {
		under, err := s.store.Replacements.In(ctx, state)
		if err != nil {
			return err
		}
		for _, r := range under {
			targets, err := s.store.Replacements.Targets(ctx, r.ID)
			if err != nil {
				return err
			}
			if err := s.Expect(ctx, r, targets[r.ID]); err != nil {
				return err
			}
		}
	}
	return nil
}

// Unexpect records that the work on slots has ended; they must be judged again after it.
func (s *Service) Unexpect(slots []int64) {
	for _, id := range slots {
		s.expected.Delete(id)
	}
}

// expects reports whether a replacement under way explains what a slot serves; leaf is empty if it serves nothing.
func (s *Service) expects(slot int64, leaf string) bool {
	leaves, under := s.expected.Load(slot)
	return under && (leaf == "" || slices.Contains(leaves.([]string), leaf))
}
