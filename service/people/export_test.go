package people

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/auditfile"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/events"
)

// Exported parts of the audit log join, whatever the periods are: with entries, without, and beyond the ends.
func TestExportedPeriodsJoin(t *testing.T) {
	o := newOffice(t)
	day := func(n int) string { return o.at.AddDate(0, 0, n).Format(time.DateOnly) }
	for i := range 9 { // on the days 0, 2, 4, …
		o.entries = append(o.entries, events.AuditEntry{ID: int64(i + 1), At: store.At(o.at.AddDate(0, 0, 2*i)),
			Who: "ann", What: "did", About: fmt.Sprint(i), Hash: "ab"})
	}
	export := func(from, until string) auditfile.Part {
		t.Helper()
		var out bytes.Buffer
		if err := o.Log.Export(t.Context(), &out, contract.AuditFilter{From: from, Until: until}); err != nil {
			t.Fatal(from, until, err)
		}
		part, err := auditfile.Verify(&out, nil)
		if err != nil {
			t.Fatal(from, until, err)
		}
		return part
	}
	whole := export("", "")
	if whole.First != 1 || whole.Entries != 9 || whole.Before != auditfile.Start {
		t.Errorf("the whole: %+v", whole)
	}
	for name, days := range map[string][]string{"weeks": {"", day(-9), day(-1), day(6), day(13), day(60), ""},
		"days":        {"", day(-1), day(0), day(1), day(2), day(3), ""},
		"beyond":      {"", day(40), day(50), ""},
		"all of it":   {"", ""},
		"before some": {"", day(-3), ""}} {
		before := auditfile.Part{}
		entries := int64(0)
		for i, until := range days[1:] {
			from := ""
			if days[i] != "" { // the day behind the one that was included
				at, _ := time.Parse(time.DateOnly, days[i])
				from = at.AddDate(0, 0, 1).Format(time.DateOnly)
			}
			part := export(from, until)
			if part.Before != before.Chain || part.First != before.Last+1 {
				t.Errorf("%s, %s to %s: %+v does not follow %+v", name, from, until, part, before)
			}
			before, entries = part, entries+part.Entries
		}
		if entries != 9 || before.Chain != whole.Chain {
			t.Errorf("%s: %d entries, %+v", name, entries, before)
		}
	}
	err := o.Log.Export(t.Context(), new(bytes.Buffer), contract.AuditFilter{Who: "ann"})
	refused(t, err, problem.Invalid, "a filter")
	for len(o.entries) <= mostOfSheet {
		o.entries = append(o.entries, events.AuditEntry{ID: int64(len(o.entries) + 1), At: store.At(o.at)})
	}
	err = o.Log.Export(t.Context(), new(bytes.Buffer), contract.AuditFilter{})
	refused(t, err, problem.Invalid, "too many")
	if err == nil || !strings.Contains(err.Error(), "200000") {
		t.Error(err)
	}
}
