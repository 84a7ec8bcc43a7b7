package sqlite

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"time"
)

// Moment is a time kept as milliseconds since 1970; the zero time is 0.
type Moment struct{ time.Time }

// At makes a Moment.
func At(t time.Time) Moment { return Moment{t.UTC().Truncate(time.Millisecond)} }

// Value writes the moment for SQL.
func (m Moment) Value() (driver.Value, error) { return m.Milliseconds(), nil }

// Milliseconds returns the moment as it is stored.
func (m Moment) Milliseconds() int64 {
	if m.IsZero() {
		return 0
	}
	return m.UnixMilli()
}

// Scan reads the moment from SQL.
func (m *Moment) Scan(from any) error {
	ms, ok := from.(int64)
	if !ok {
		return fmt.Errorf("a time is kept as %T", from)
	}
	m.Time = time.Time{}
	if ms != 0 {
		m.Time = time.UnixMilli(ms).UTC()
	}
	return nil
}

// JSON is a value kept as JSON text.
type JSON[T any] struct{ V T }

// Value writes the value for SQL.
func (j JSON[T]) Value() (driver.Value, error) { return j.Text() }

// Text returns the value as it is kept.
func (j JSON[T]) Text() (string, error) {
	text, err := json.Marshal(j.V)
	return string(text), err
}

// Scan reads the value from SQL.
func (j *JSON[T]) Scan(from any) error {
	switch text := from.(type) {
	case string:
		return json.Unmarshal([]byte(text), &j.V)
	case []byte:
		return json.Unmarshal(text, &j.V)
	}
	return fmt.Errorf("JSON is kept as %T", from)
}
