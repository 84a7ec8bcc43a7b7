package sqlite

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

// ErrCursor means that a cursor is none, or of another order.
var ErrCursor = errors.New("this is no cursor of the list")

// ErrSort means that a list has no such order.
var ErrSort = errors.New("the list has no such order")

// List is how a list is read from SQL.
type List[T any] struct {
	Columns string              // what is selected
	From    string              // the tables with their joins
	Orders  map[string][]string // the columns of each order; the last one tells rows apart
	Natural string              // the order where none is asked for
	Keyed   func(T) map[string]any
}

// Narrowing is a condition of a list with what stands for its question marks.
type Narrowing struct {
	condition string
	args      []any
}

// Where returns a narrowing by a condition of SQL.
func Where(condition string, args ...any) Narrowing { return Narrowing{condition, args} }

// Page reads the rows behind a cursor, and the cursor behind them where there
// may be more. It goes by the values of the order's columns, never by counting
// rows, so a page deep in the list costs as much as the first.
func (l List[T]) Page(ctx context.Context, d *DB, p Page, narrowed ...Narrowing) (rows []T, next string, err error) {
	if p.Sort == "" {
		p.Sort = l.Natural
	}
	columns, ok := l.Orders[p.Sort]
	if !ok {
		return nil, "", ErrSort
	}
	where, args := l.where(narrowed)
	query := "SELECT " + l.Columns + where
	way, sign := "", ">"
	if p.Desc {
		way, sign = " DESC", "<"
	}
	if p.After != "" {
		values, err := OpenCursor(p)
		if err != nil || len(values) != len(columns) {
			return nil, "", ErrCursor
		}
		query += fmt.Sprintf(" AND (%s) %s (?%s)", strings.Join(columns, ", "), sign,
			strings.Repeat(", ?", len(columns)-1))
		args = append(args, values...)
	}
	query += " ORDER BY " + strings.Join(columns, way+", ") + way + " LIMIT ? OFFSET ?"
	if err := d.Read.SelectContext(ctx, &rows, query, append(args, p.Most, p.Skip)...); err != nil {
		return nil, "", err
	}
	if len(rows) < p.Most {
		return rows, "", nil
	}
	last := l.Keyed(rows[len(rows)-1])
	var values []any
	for _, column := range columns {
		values = append(values, last[column])
	}
	next, err = SealCursor(p.Sort, p.Desc, values)
	return rows, next, err
}

// SealCursor makes a cursor of an order and the values of a row in it.
func SealCursor(sort string, desc bool, values []any) (string, error) {
	text, err := json.Marshal(append([]any{sort, desc}, values...))
	return base64.RawURLEncoding.EncodeToString(text), err
}

// Count returns how many rows a list has.
func (l List[T]) Count(ctx context.Context, d *DB, narrowed ...Narrowing) (n int, err error) {
	where, args := l.where(narrowed)
	return n, d.Read.GetContext(ctx, &n, "SELECT count(*)"+where, args...)
}

func (l List[T]) where(narrowed []Narrowing) (text string, args []any) {
	text = " FROM " + l.From + " WHERE 1"
	for _, n := range narrowed {
		text += " AND " + n.condition
		args = append(args, n.args...)
	}
	return text, args
}

// OpenCursor returns the values in a cursor, which must be of this very order; else it is ErrCursor.
func OpenCursor(p Page) ([]any, error) {
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

// Narrow makes the narrowings of those pairs whose value is given.
func Narrow(conditions map[string]string) []Narrowing {
	var out []Narrowing
	for condition, value := range conditions {
		if value != "" {
			out = append(out, Narrowing{condition, []any{value}})
		}
	}
	return out
}

// Counts reads rows of name and count.
func (d *DB) Counts(ctx context.Context, query string) (map[string]int, error) {
	var rows []struct {
		Name  string `db:"name"`
		Count int    `db:"count"`
	}
	err := d.Read.SelectContext(ctx, &rows, query)
	out := map[string]int{}
	for _, row := range rows {
		out[row.Name] = row.Count
	}
	return out, err
}
