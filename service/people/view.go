package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"freshseal/contract"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
)

const (
	mostViews = 100
	mostQuery = 2000 // bytes
)

// Views returns those of a user, by page and name.
func (s *Service) Views(ctx context.Context, who Bearer) ([]contract.View, error) {
	rows, err := s.store.Users.Views(ctx, who.User)
	out := make([]contract.View, 0, len(rows))
	for _, row := range rows {
		out = append(out, contract.View{Page: row.Page, Name: row.Name, Query: row.Query})
	}
	return out, err
}

// PutView stores a view, in the place of one of the same name.
func (s *Service) PutView(ctx context.Context, who Bearer, v contract.View) (contract.View, error) {
	cannot := "the view is not kept"
	v.Name = strings.TrimSpace(v.Name)
	switch {
	case v.Name == "" || utf8.RuneCountInString(v.Name) > 60 ||
		strings.ContainsFunc(v.Name, func(r rune) bool { return r < ' ' }):
		return v, problem.Reject(cannot, fmt.Sprintf("%q is not a name for it", v.Name),
			"give up to 60 printable characters")
	case v.Page == "" || len(v.Page) > 20 || len(v.Query) > mostQuery:
		return v, problem.Reject(cannot, "its page or its filter is too long", "shorten the filter")
	}
	err := s.store.Users.PutView(ctx, accounts.View{User: who.User, Page: v.Page, Name: v.Name, Query: v.Query},
		mostViews)
	if errors.Is(err, store.ErrTaken) {
		return v, problem.Reject(cannot, fmt.Sprintf("you have %d views already", mostViews),
			"remove one that you do not need")
	}
	return v, err
}

// RemoveView removes one.
func (s *Service) RemoveView(ctx context.Context, who Bearer, page, name string) error {
	err := s.store.Users.RemoveView(ctx, who.User, page, name)
	if errors.Is(err, store.ErrNotFound) {
		return problem.New(problem.NotFound, fmt.Sprintf("no view of yours is called %q", name), "", "")
	}
	return err
}
