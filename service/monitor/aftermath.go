package monitor

import (
	"context"
	"errors"
	"slices"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Aftermath returns the finding of a slot in a condition that got worse shortly after a replacement was sealed, with
// the offer to revert it; nil if there is none.
func (s *Service) Aftermath(ctx context.Context, row store.Slot, is due.Condition) ([]finding.Finding, error) {
	if !slices.Contains(due.Broken, is) {
		return nil, nil
	}
	after, err := s.store.Replacements.Aftermath(ctx, row.ID, due.Aftermath)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, nil
	case err != nil:
		return nil, err
	}
	return []finding.Finding{finding.AfterSeal(row.Device+"/"+row.Name, replacement.Name(after.ReplacementID),
		after.ChangedAt.Sub(after.SealedAt.Time), string(after.Became), after.Revertible())}, nil
}
