// Package problem holds the errors that people see: what failed, why, and what to
// do next. The API writes them as problem documents (RFC 9457).
package problem

import (
	"errors"
	"fmt"

	"freshseal/core/next"
	"freshseal/store"
	"freshseal/store/sqlite"
)

// Kind classifies errors by who can correct them.
type Kind string

// The kinds of error.
const (
	Invalid  Kind = "invalid"   // what was asked cannot be done as it was asked
	NotFound Kind = "not-found" // there is nothing of that name
	Conflict Kind = "conflict"  // not now: something else stands in the way
	Stale    Kind = "stale"     // it changed since it was looked at
	Blind    Kind = "unguarded" // it is not said which revision is changed
	TooLong  Kind = "too-long"  // more than is taken
	Denied   Kind = "denied"    // not without signing in
	Refused  Kind = "refused"   // not with this role
	TooMany  Kind = "too-many"  // not so often
	Outside  Kind = "outside"   // a device or another system did not do its part
	Unready  Kind = "unready"   // the service itself cannot do its work now

	NeedsCode   Kind = "needs-code"  // not without the code of a second factor
	Unconfirmed Kind = "unconfirmed" // not without a password or code that was given just now
)

// Error is an error for people: what, why, and what to do next.
type Error struct {
	Kind    Kind
	What    string
	Why     string
	Next    string        // in words, without commands or labels of one interface
	Actions []next.Action // that help, the best first
}

// New returns an error of these parts.
func New(kind Kind, what, why, say string, actions ...next.Action) *Error {
	return &Error{kind, what, why, say, actions}
}

func (e *Error) Error() string {
	if e.Why == "" {
		return e.What
	}
	return e.What + ": " + e.Why
}

// Missing turns the store's ErrNotFound into words; look lists what there is.
func Missing(err error, look next.Do, format string, args ...any) error {
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return New(NotFound, fmt.Sprintf(format, args...), "", "", look.On(""))
}

// Reject returns an error for what cannot be done as it was asked.
func Reject(what, why, say string, actions ...next.Action) error {
	return New(Invalid, what, why, say, actions...)
}

// Revision is how often something was changed by people; see store.Revision.
type Revision = int64

// Any is every revision.
const Any = store.Any

// Outdated turns the store's ErrStale into words.
func Outdated(err error) error {
	if !errors.Is(err, store.ErrStale) {
		return err
	}
	return New(Stale, "nothing was changed", "somebody else changed it since you looked",
		"look again, then decide")
}

// NoRoom reports whether an error comes from a disk that is full, read-only or failing.
func NoRoom(err error) bool { return sqlite.NoRoom(err) }

// Busy reports whether an error comes from another program that holds the database for longer than the service waits.
func Busy(err error) bool { return sqlite.Busy(err) }
