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
