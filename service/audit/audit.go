// Package audit collects what a call changes, for the audit log: names, roles and rules
// before and after, never secrets. A use case says it where it knows it; whoever
// keeps the audit log gives the context that collects it.
package audit

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync"
)

type key struct{}

// Notes are what was said of one call. They are safe for concurrent use.
type Notes struct {
	lock sync.Mutex
	said []string
}

// Collect returns a context in which Say is heard.
func Collect(ctx context.Context) (context.Context, *Notes) {
	d := &Notes{}
	return context.WithValue(ctx, key{}, d), d
}

// Say adds what a call does. Without a collector nothing is kept.
func Say(ctx context.Context, format string, args ...any) {
	d, ok := ctx.Value(key{}).(*Notes)
	if !ok {
		return
	}
	d.lock.Lock()
	defer d.lock.Unlock()
	d.said = append(d.said, fmt.Sprintf(format, args...))
}

// mostText is how much of a call's notes is kept.
const mostText = 2000

// String returns all that was said, cut to a sensible length.
func (d *Notes) String() string {
	d.lock.Lock()
	defer d.lock.Unlock()
	text := strings.Join(d.said, "; ")
	if len(text) > mostText {
		text = strings.ToValidUTF8(text[:mostText], "") + "…"
	}
	return text
}

// Differences says which of some named values differ, and how. Secrets are no values:
// they are named as given alone.
func Differences(ctx context.Context, before, after map[string]string) {
	names := map[string]bool{}
	for name := range before {
		names[name] = true
	}
	for name := range after {
		names[name] = true
	}
	var sorted []string
	for name := range names {
		sorted = append(sorted, name)
	}
	sort.Strings(sorted)
	for _, name := range sorted {
		if before[name] != after[name] {
			Say(ctx, "%s: %q → %q", name, before[name], after[name])
		}
	}
}
