package policy

import "time"

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

// PublicMaxDays is the longest life in days of a publicly trusted certificate
// that is issued at a time.
func PublicMaxDays(issued time.Time) int {
	for _, step := range publicMax {
		if !issued.Before(step.from) {
			return step.days
		}
	}
	return 0
}

// Lifetime is how many days a leaf may be asked for that is issued at a time: the
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
