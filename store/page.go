package store

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// Page asks for a part of a list.
type Page struct {
	Sort  string // the name of an order; empty: the list's own
	Desc  bool
	After string // cursor of the page before; empty for the first
	Skip  int    // how many rows are passed over from there on; costs as much as reading them
	Most  int
}

// ErrCursor says that a cursor is none, or of another order.
var ErrCursor = errors.New("this is no cursor of the list")

// ErrSort says that a list has no such order.
var ErrSort = errors.New("the list has no such order")

// list is how a list is read from SQL.
type list[T any] struct {
	columns string              // what is selected
	from    string              // the tables with their joins
	orders  map[string][]string // the columns of each order; the last one tells rows apart
	natural string              // the order where none is asked for
	keyed   func(T) map[string]any
}

// narrowing is a condition of a list with what stands for its question marks.
type narrowing struct {
	condition string
	args      []any
}

// page reads the rows behind a cursor, and the cursor behind them where there
// may be more. It goes by the values of the order's columns, never by counting
// rows, so a page deep in the list costs as much as the first.
func (l list[T]) page(ctx context.Context, d *db, p Page, narrowed ...narrowing) (rows []T, next string, err error) {
	if p.Sort == "" {
		p.Sort = l.natural
	}
	columns, ok := l.orders[p.Sort]
	if !ok {
		return nil, "", ErrSort
	}
	where, args := l.where(narrowed)
	query := "SELECT " + l.columns + where
	way, sign := "", ">"
	if p.Desc {
		way, sign = " DESC", "<"
	}
	if p.After != "" {
		values, err := openCursor(p)
		if err != nil || len(values) != len(columns) {
			return nil, "", ErrCursor
		}
		query += fmt.Sprintf(" AND (%s) %s (?%s)", strings.Join(columns, ", "), sign,
			strings.Repeat(", ?", len(columns)-1))
		args = append(args, values...)
	}
	query += " ORDER BY " + strings.Join(columns, way+", ") + way + " LIMIT ? OFFSET ?"
	if err := d.read.SelectContext(ctx, &rows, query, append(args, p.Most, p.Skip)...); err != nil {
		return nil, "", err
	}
	if len(rows) < p.Most {
		return rows, "", nil
	}
	last := l.keyed(rows[len(rows)-1])
	var values []any
	for _, column := range columns {
		values = append(values, last[column])
	}
	next, err = sealCursor(p.Sort, p.Desc, values)
	return rows, next, err
}

// sealCursor makes a cursor of an order and the values of a row in it.
func sealCursor(sort string, desc bool, values []any) (string, error) {
	text, err := json.Marshal(append([]any{sort, desc}, values...))
	return base64.RawURLEncoding.EncodeToString(text), err
}

// count says how many rows a list has.
func (l list[T]) count(ctx context.Context, d *db, narrowed ...narrowing) (n int, err error) {
	where, args := l.where(narrowed)
	return n, d.read.GetContext(ctx, &n, "SELECT count(*)"+where, args...)
}

func (l list[T]) where(narrowed []narrowing) (text string, args []any) {
	text = " FROM " + l.from + " WHERE 1"
	for _, n := range narrowed {
		text += " AND " + n.condition
		args = append(args, n.args...)
	}
	return text, args
}

// openCursor gives the values in a cursor, which must be of this very order; else it is ErrCursor.
func openCursor(p Page) ([]any, error) {
	text, err := base64.RawURLEncoding.DecodeString(p.After)
	if err != nil {
		return nil, ErrCursor
	}
	var values []any
	if err := json.Unmarshal(text, &values); err != nil || len(values) < 3 || values[0] != p.Sort ||
		values[1] != p.Desc {
		return nil, ErrCursor
	}
	for _, v := range values {
		switch v.(type) {
		case string, float64, bool:
		default:
			return nil, ErrCursor
		}
	}
	return values[2:], nil
}

// narrow makes the narrowings of those pairs whose value is given.
func narrow(conditions map[string]string) []narrowing {
	var out []narrowing
	for condition, value := range conditions {
		if value != "" {
			out = append(out, narrowing{condition, []any{value}})
		}
	}
	return out
}

// counts reads rows of name and count.
func (s *db) counts(ctx context.Context, query string) (map[string]int, error) {
	var rows []struct {
		Name  string `db:"name"`
		Count int    `db:"count"`
	}
	err := s.read.SelectContext(ctx, &rows, query)
	out := map[string]int{}
	for _, row := range rows {
		out[row.Name] = row.Count
	}
	return out, err
}
