package service

import (
	"errors"
	"fmt"

	"freshseal/store"
)

// Kind sorts errors by who can mend them.
type Kind string

// The kinds of error.
const (
	Invalid  Kind = "invalid"   // what was asked cannot be done as it was asked
	NotFound Kind = "not-found" // there is nothing of that name
	Conflict Kind = "conflict"  // not now: something else stands in the way
	Stale    Kind = "stale"     // it changed since it was looked at
	Denied   Kind = "denied"    // not without signing in
	Refused  Kind = "refused"   // not with this role
	TooMany  Kind = "too-many"  // not so often
	Outside  Kind = "outside"   // a device or another system did not do its part
)

// Error is an error for people: what, why, and what to do next.
type Error struct {
	Kind Kind
	What string
	Why  string
	Next string
}

func (e *Error) Error() string {
	if e.Why == "" {
		return e.What
	}
	return e.What + ": " + e.Why
}

// notFound turns the store's ErrNotFound into words.
func notFound(err error, next, format string, args ...any) error {
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return &Error{Kind: NotFound, What: fmt.Sprintf(format, args...), Next: next}
}

func invalid(what, why, next string) error { return &Error{Invalid, what, why, next} }

// NoRoom says that an error comes from a disk that is full, read-only or failing.
func NoRoom(err error) bool { return store.NoRoom(err) }
