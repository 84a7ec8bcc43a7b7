package audit_test

import (
	"context"
	"strings"
	"testing"

	"freshseal/service/audit"
)

func TestWhatACallChangesIsCollected(t *testing.T) {
	ctx, notes := audit.Collect(t.Context())
	audit.Differences(ctx, map[string]string{"owner": "harbour", "site": "Mainquay", "gone": "x"},
		map[string]string{"owner": "tickets", "site": "Mainquay", "new": "y"})
	audit.Say(context.WithoutCancel(ctx), "password given")
	if got, want := notes.String(),
		`gone: "x" → ""; new: "" → "y"; owner: "harbour" → "tickets"; password given`; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	audit.Say(t.Context(), "nobody listens")
	audit.Say(ctx, "%s", strings.Repeat("ä", 5000))
	if got := notes.String(); len(got) > 2100 || !strings.HasSuffix(got, "…") {
		t.Errorf("%d bytes are kept", len(got))
	}
}
