package sqlite

import (
	"reflect"
	"strings"
	"testing"

	"freshseal/core/judgement/finding"
)

// What a code says by itself is not kept, and is there again when the finding is read; what was said instead of it is.
func TestFindingsAreKeptBrief(t *testing.T) {
	all := Findings{V: []finding.Finding{
		finding.SelfSigned.Found("the certificate of %s is self-signed", "gate"),
		finding.WeakKey.Found("1,024 bits").As(finding.Note).WithRemedy("ask the maker"),
		finding.AfterSeal("gate/web", "r1", 0, "expired", true),
	}}
	text, err := all.Value()
	if err != nil {
		t.Fatal(err)
	}
	if usual := finding.SelfSigned.Found(""); strings.Contains(text.(string), usual.Why) ||
		strings.Contains(text.(string), usual.Remedy) || !strings.Contains(text.(string), "ask the maker") {
		t.Errorf("kept: %s", text)
	}
	for _, from := range []any{text, []byte(text.(string))} {
		var again Findings
		if err := again.Scan(from); err != nil || !reflect.DeepEqual(again, all) {
			t.Errorf("%v\n%+v\n%+v", err, again, all)
		}
	}
	var before Findings // whole, as earlier builds kept them
	if err := before.Scan(`[{"code":"expired","severity":"note","what":"x","why":"y","remedy":"z"}]`); err != nil ||
		!reflect.DeepEqual(before.V[0], finding.Finding{Code: "expired", Severity: "note", What: "x",
			Why: "y", Remedy: "z"}) {
		t.Errorf("%v %+v", err, before)
	}
}
