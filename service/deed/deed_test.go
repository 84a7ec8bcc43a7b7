package deed_test

import (
	"context"
	"strings"
	"testing"

	"freshseal/service/deed"
)

func TestWhatACallChangesIsCollected(t *testing.T) {
	ctx, deeds := deed.Collect(t.Context())
	deed.Differences(ctx, map[string]string{"owner": "harbour", "site": "Mainquay", "gone": "x"}, map[string]string{"owner": "tickets", "site": "Mainquay", "new": "y"})
	deed.Say(context.WithoutCancel(ctx), "password given")
	if got, want := deeds.String(), `gone: "x" → ""; new: "" → "y"; owner: "harbour" → "tickets"; password given`; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	deed.Say(t.Context(), "nobody listens")
	deed.Say(ctx, "%s", strings.Repeat("ä", 5000))
	if got := deeds.String(); len(got) > 2100 || !strings.HasSuffix(got, "…") {
		t.Errorf("%d bytes are kept", len(got))
	}
}
