package events

import "context"

// Source is how an act was asked for.
type Source struct {
	Through string // the session or token
	Address string // from which it was used
}

type sourceKey struct{}

// WithSource returns a context in which acts of people are recorded with this source. What the service does under its
// own name is not.
func WithSource(ctx context.Context, s Source) context.Context {
	return context.WithValue(ctx, sourceKey{}, s)
}

// Itself is who acts where nobody asked: the service by its rules.
const Itself = "freshseal"

// sourceOf returns the source of an act of somebody.
func sourceOf(ctx context.Context, who string) Source {
	if who == Itself {
		return Source{}
	}
	s, _ := ctx.Value(sourceKey{}).(Source)
	return s
}
