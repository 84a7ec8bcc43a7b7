// Package paging says which part of a list is wanted, for the lists of all rooms.
package paging

import (
	"errors"
	"fmt"

	"freshseal/service/problem"
	"freshseal/store"
)

// Page asks for a part of a list: in which order, from where, how much.
type Page struct {
	Sort   string
	Desc   bool
	Cursor string // of the page before; empty for the first
	Skip   int    // items that are passed over from there on
	Limit  int    // 0: mostItems
}

// NewestFirst returns the page of a list whose own order is by number, the newest first.
func (p Page) NewestFirst() Page {
	if p.Sort == "" {
		p.Desc = true
	}
	return p
}

// mostItems is the size of a page where no smaller one is asked for.
const mostItems = 1000

// Rows returns the page as the store takes it, at most mostItems rows.
func (p Page) Rows() store.Page {
	most := mostItems
	if p.Limit > 0 {
		most = min(p.Limit, mostItems)
	}
	return store.Page{Sort: p.Sort, Desc: p.Desc, After: p.Cursor, Skip: p.Skip, Most: most}
}

// Wrong turns an error of a page into words.
func (p Page) Wrong(err error) error {
	switch {
	case errors.Is(err, store.ErrCursor):
		return problem.Reject("the list cannot be continued", fmt.Sprintf("%q is not a valid cursor", p.Cursor),
			"give the cursor of the previous page and the same sort order, or none")
	case errors.Is(err, store.ErrSort):
		return problem.Reject("the list cannot be sorted", fmt.Sprintf("%q is not a sort order", p.Sort),
			"the sort orders are in /api/v1/openapi.json")
	}
	return err
}
