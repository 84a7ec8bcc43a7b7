package due

import "time"

// Rhythm is what a slot's next reading depends on.
type Rhythm struct {
	Every     time.Duration // between readings, if nothing is special
	NotAfter  time.Time     // of the leaf; zero: none is known
	Due       time.Time     // from then on a replacement is due; zero: not known
	Installed time.Time     // when a replacement was sealed or reverted; zero: none was
	Misses    int           // readings in a row that showed nothing, this one included
}

const (
	soonest   = time.Minute
	firstMiss = 5 * time.Minute
	closely   = 48 * time.Hour // after a replacement
)

// AfterSeal is how long after a replacement was sealed or reverted its slot is read again, whatever its rhythm is.
var AfterSeal = []time.Duration{time.Minute, 10 * time.Minute, time.Hour}

// Aftermath is how long a change for the worse is reported as one after the seal: until the last of these readings,
// with time to spare.
const Aftermath = 2 * time.Hour

// Next returns how long after a reading at a moment the next one is made. A slot is read four
// times as often from the day on which it is due, and eight times as often in the two days after a
// replacement. One that is unreachable is read again after five minutes, then after twice that, and so on up to
// the usual interval. jitter, from 0 to 1, spreads the slots by a tenth either way.
func (r Rhythm) Next(at time.Time, jitter float64) time.Duration {
	every := r.Every
	switch {
	case r.Misses > 0:
		if again := firstMiss << min(r.Misses-1, 12); again < every {
			every = again
		}
	case !r.Installed.IsZero() && at.Sub(r.Installed) < closely:
		for _, after := range AfterSeal {
			if since := at.Sub(r.Installed); since < after {
				return min(after-since, max(every/8, soonest)) // exactly then: what changed since is reported
			}
		}
		every /= 8
	case !r.Due.IsZero() && at.After(r.Due):
		every /= 4
	}
	every = max(every, min(soonest, r.Every))
	return every + time.Duration((jitter-0.5)/5*float64(every))
}
