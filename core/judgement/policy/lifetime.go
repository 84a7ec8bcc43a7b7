package policy

import (
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// publicMax is how long a publicly trusted server certificate may live, by the
// day from which on it is issued: CA/Browser Forum, Baseline Requirements for
// TLS server certificates, section 6.3.2 (ballot SC-081v3).
var publicMax = []struct {
	from time.Time
	days int
}{
	{time.Date(2029, 3, 15, 0, 0, 0, 0, time.UTC), 47},
	{time.Date(2027, 3, 15, 0, 0, 0, 0, time.UTC), 100},
	{time.Date(2026, 3, 15, 0, 0, 0, 0, time.UTC), 200},
	{time.Time{}, 398},
}

// Maximum is the longest life, in days, of a publicly trusted certificate that is issued from a day on.
type Maximum struct {
	From time.Time // zero: before all others
	Days int
}

// PublicMaxima returns the longest lives, those that come last first.
func PublicMaxima() (out []Maximum) {
	for _, step := range publicMax {
		out = append(out, Maximum{step.from, step.days})
	}
	return out
}

// PublicMaxDays returns the longest life in days of a publicly trusted certificate
// that is issued at a time.
func PublicMaxDays(issued time.Time) int {
	for _, step := range publicMax {
		if !issued.Before(step.from) {
			return step.days
		}
	}
	return 0
}

// Lifetime returns how many days a leaf may be asked for that is issued at a time: the
// least of what the signer issues, the rules allow and, for publicly trusted
// ones, clients take. 0: nobody sets a limit.
func (r Rules) Lifetime(signer int, public bool, issued time.Time) int {
	least := 0
	limits := []int{signer, *r.MaxLifetimeDays}
	if public {
		limits = append(limits, PublicMaxDays(issued))
	}
	for _, days := range limits {
		if days > 0 && (least == 0 || days < least) {
			least = days
		}
	}
	return least
}

// JudgeLife finds a leaf that lives longer than it may, or than its signer said. most is the longest that the signer
// issues in days; 0: not known. One that lives too short is found by core/judgement/answer.
func JudgeLife(leaf *cert.Certificate, signer string, most int, public bool) []finding.Finding {
	days := int((leaf.NotAfter.Sub(leaf.NotBefore) + time.Hour).Hours() / 24)
	switch allowed := PublicMaxDays(leaf.NotBefore); {
	case public && days > allowed:
		return []finding.Finding{finding.LifetimeTooLong.Found("%s lives for %d days; publicly trusted ones of "+
			"that day may live %d", leaf.ShortName(), days, allowed).
			WithRemedy("ask the signer for a shorter one: clients refuse this one")}
	case most > 0 && days > most+1:
		return []finding.Finding{finding.LifetimeTooLong.Found("%s lives for %d days, and %s issues up to %d",
			leaf.ShortName(), days, signer, most).
			WithRemedy("ask the signer whether the right profile was chosen")}
	}
	return nil
}
