package replace

import (
	"context"

	"freshseal/contract"
	"freshseal/service/fleet"
	"freshseal/service/paging"
)

// Replacements returns a page of the replacements, newest first, and the cursor of
// the next page or nothing.
func (s *Service) Replacements(ctx context.Context, f fleet.ReplacementFilter,
	p paging.Page) (out []contract.Replacement, next string, err error) {
	p = p.NewestFirst()
	rows, next, err := s.store.Replacements.Page(ctx, f, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	targets, err := s.store.Replacements.Targets(ctx, ids...)
	out = make([]contract.Replacement, 0, len(rows))
	for _, row := range rows {
		out = append(out, showReplacement(row, targets[row.ID]))
	}
	return out, next, err
}

// CountReplacements returns how many replacements fit a filter.
func (s *Service) CountReplacements(ctx context.Context, f fleet.ReplacementFilter) (int, error) {
	return s.store.Replacements.CountOf(ctx, f)
}
