package finding_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
)

// Every code is listed once; which of them make an answer wait for a person is part of it.
func TestCodesAndDoubts(t *testing.T) {
	codes := finding.Codes()
	if len(codes) < 40 || !slices.IsSorted(codes) || len(slices.Compact(slices.Clone(codes))) != len(codes) {
		t.Errorf("%d codes: %v", len(codes), codes)
	}
	all := []finding.Finding{finding.LifetimeTooShort.Found("a"), finding.Expired.Found("b"),
		finding.LifetimeTooShort.Found("c")}
	doubts := finding.Doubts(all)
	if len(doubts) != 2 || doubts[0].What != "a" || doubts[1].What != "c" {
		t.Errorf("%+v", doubts)
	}
	if len(finding.Doubts(all[1:2])) != 0 || finding.Expired.Doubt() || !finding.LifetimeTooShort.Doubt() {
		t.Error("an expired certificate is no doubt, a short life is one")
	}
	if on := finding.On("gate/web", all); len(on) != 3 || on[1].What != "b" {
		t.Errorf("%+v", on)
	}
}

func TestAFailureSaysWhetherThereIsTLSAtAll(t *testing.T) {
	for code, none := range map[string]bool{"refused": true, "no-tls": true, "no-starttls": true, "silent": false,
		"alert": false, "": false} {
		f := finding.Failure{Code: code, What: "it is " + code}
		if f.NoTLS() != none || f.Error() != "it is "+code {
			t.Errorf("%s: %v, %s", code, f.NoTLS(), f.Error())
		}
	}
}

// What happened after a seal is told with its time, and a revert is offered if there is one.
func TestAChangeAfterTheSealOffersTheRevert(t *testing.T) {
	for after, want := range map[time.Duration]string{59 * time.Second: "less than a minute after r7",
		time.Minute:      "1m after r7",
		90 * time.Minute: "1h30m after r7"} {
		for _, revertible := range []bool{true, false} {
			f := finding.AfterSeal("gate/web", "r7", after, "unexpected", revertible)
			if !strings.HasPrefix(f.What, want+" was sealed") || !strings.HasSuffix(f.What, "became unexpected") {
				t.Errorf("%s: %s", after, f.What)
			}
			first, says := next.Replace.On("gate/web"), "find out who"
			if revertible {
				first, says = next.Revert.On("r7"), "a revert of r7"
			}
			if f.Actions[0] != first || !strings.Contains(f.Remedy, says) {
				t.Errorf("%v: %+v", revertible, f)
			}
		}
	}
}
