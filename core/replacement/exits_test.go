package replacement_test

import (
	"fmt"
	"testing"

	"freshseal/core/replacement"
)

// Whatever happens, in whatever order: no state is without an exit that a person can take, and that ends the
// replacement.
func TestEveryStateHasAnExit(t *testing.T) {
	var events []replacement.Event
	for _, kind := range []replacement.EventKind{replacement.Done, replacement.Already, replacement.Arrived,
		replacement.WantsProof, replacement.Proven, replacement.Expired, replacement.Failed, replacement.Stopped,
		replacement.Unknown,
		replacement.Restored, replacement.AskedCancel, replacement.AskedRevert, replacement.AskedResume,
		replacement.AskedAgain, replacement.AskedClose, replacement.Interrupted, replacement.ClearedAway,
		replacement.NotClearable, replacement.ClearWaits} {
		events = append(events, replacement.Event{Kind: kind, Why: "why"})
	}
	for _, whom := range replacement.WaitingFors {
		events = append(events, replacement.Event{Kind: replacement.Waits, Waiting: whom})
	}
	begun, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		t.Fatal(err)
	}
	plain := func(p replacement.Progress) replacement.Progress { p.Why, p.Back = "", ""; return p }
	seen := map[replacement.Progress]bool{plain(begun): true}
	for queue := []replacement.Progress{plain(begun)}; len(queue) > 0; queue = queue[1:] {
		for _, e := range events {
			after, _, err := queue[0].On(e)
			if err != nil || seen[plain(after)] {
				continue
			}
			seen[plain(after)] = true
			queue = append(queue, plain(after))
		}
	}
	if len(seen) < 80 {
		t.Fatalf("only %d states are reached", len(seen))
	}
	for p := range seen {
		if p.State.Over() && p.State != replacement.Sealed {
			continue
		}
		if p.State == replacement.Held {
			if after, _, err := p.On(replacement.Event{Kind: replacement.AskedClose, Why: "by hand"}); err != nil ||
				after.State != replacement.Closed || !after.State.Over() {
				t.Errorf("%+v cannot be closed: %+v %v", p, after, err)
			}
			continue
		}
		if !ends(p, 4) {
			t.Errorf("%+v has no exit", p)
		}
	}
}

// ends reports whether a person's wishes, and what becomes of them at worst, end a replacement.
func ends(p replacement.Progress, depth int) bool {
	if p.State.Over() {
		return true
	}
	if depth == 0 {
		return false
	}
	if p.State == replacement.Held {
		return true // it can be closed, see above
	}
	var wishes []replacement.EventKind
	switch p.State {
	case replacement.Running: // the action in hand fails, or goes on for ever
		wishes = []replacement.EventKind{replacement.Failed, replacement.NotClearable, replacement.AskedCancel,
			replacement.AskedRevert}
	case replacement.Waiting: // for a person who does not come
		wishes = []replacement.EventKind{replacement.AskedCancel, replacement.AskedRevert, replacement.Expired}
	}
	for _, wish := range wishes {
		if after, _, err := p.On(replacement.Event{Kind: wish, Why: "why"}); err == nil && after != p &&
			ends(after, depth-1) {
			return true
		}
	}
	return false
}

// The first reason of a held replacement stays in front; why the way back did not come to its end is beside it.
func TestTheFirstReasonStays(t *testing.T) {
	p := replacement.Progress{Stage: replacement.Activate, State: replacement.Running}
	for _, e := range []replacement.Event{{Kind: replacement.Failed, Why: "the box refused"},
		{Kind: replacement.Failed, Why: "the way back is blocked"}} {
		p, _, _ = p.On(e)
	}
	if p.State != replacement.Held || p.Why != "the box refused" || p.Back != "the way back is blocked" {
		t.Errorf("%+v", p)
	}
	p, _, _ = p.On(replacement.Event{Kind: replacement.AskedRevert, Why: "ada asked for it"})
	if p.Why != "the box refused; then ada asked for it" || p.Back != "" {
		t.Errorf("%+v", p)
	}
	if text := fmt.Sprint(p.State); text != "running" {
		t.Error(text)
	}
}
