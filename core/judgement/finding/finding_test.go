package finding_test

import (
	"testing"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
)

// What helps against a finding is named with what it is about; the findings that were
// given are left as they are.
func TestFindingsNameWhatHelps(t *testing.T) {
	given := []finding.Finding{finding.SelfSigned.Found("x"), finding.ChainIncomplete.Found("x"),
		finding.AnchorUnknown.Found("x"), finding.Unreadable.Found("x"), finding.ChainSurplus.Found("x")}
	want := [][]next.Action{{next.Replace.On("gate/web")}, {next.TakeIn.On("")}, {next.AddRoot.On("fleet")},
		{next.TryDevice.On("gate")}, nil}
	for i, f := range finding.On("gate/web", given) {
		if len(f.Actions) != len(want[i]) || len(want[i]) > 0 && f.Actions[0] != want[i][0] {
			t.Errorf("%s: %v, want %v", f.Code, f.Actions, want[i])
		}
		if given[i].Actions != nil {
			t.Errorf("the given %s was changed", f.Code)
		}
	}
}

// Every finding says what it is, why it matters and what to do.
func TestEveryFindingHasItsWords(t *testing.T) {
	for _, code := range finding.Codes() {
		f := code.Found("%s", "seen")
		if f.What != "seen" || f.Why == "" || f.Remedy == "" || f.Severity == "" {
			t.Errorf("%s: %+v", code, f)
		}
		if g := f.As(finding.Note).WithRemedy("do %d", 1); g.Severity != finding.Note || g.Remedy != "do 1" ||
			f.Severity == "" {
			t.Errorf("%s changed: %+v", code, g)
		}
	}
	all := []finding.Finding{finding.ChainSurplus.Found(""), finding.Expired.Found(""), finding.WeakHash.Found("")}
	if wrong := finding.Errors(all); len(wrong) != 2 || wrong[0].Code != finding.Expired {
		t.Errorf("the errors: %v", wrong)
	}
}
