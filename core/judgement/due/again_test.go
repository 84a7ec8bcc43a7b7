package due_test

import (
	"testing"
	"time"

	"freshseal/core/judgement/due"
)

func TestHowSoonASlotIsReadAgain(t *testing.T) {
	at := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	const day = 24 * time.Hour
	for name, c := range map[string]struct {
		rhythm due.Rhythm
		want   time.Duration
	}{
		"quietly":                     {due.Rhythm{Every: day, Due: at.Add(time.Hour)}, day},
		"due":                         {due.Rhythm{Every: day, Due: at.Add(-time.Hour)}, day / 4},
		"after a replacement":         {due.Rhythm{Every: day, Installed: at.Add(-day)}, day / 8},
		"long after it":               {due.Rhythm{Every: day, Installed: at.Add(-3 * day)}, day},
		"unreachable once":            {due.Rhythm{Every: day, Misses: 1}, 5 * time.Minute},
		"unreachable four times":      {due.Rhythm{Every: day, Misses: 4}, 40 * time.Minute},
		"unreachable for long":        {due.Rhythm{Every: day, Misses: 1000}, day},
		"unreachable, and read often": {due.Rhythm{Every: 2 * time.Minute, Misses: 3}, 2 * time.Minute},
		"often, and due":              {due.Rhythm{Every: 2 * time.Minute, Due: at.Add(-1)}, time.Minute},
		"as often as can be": {due.Rhythm{Every: 300 * time.Millisecond, Due: at.Add(-1)},
			300 * time.Millisecond},
	} {
		if got := c.rhythm.Next(at, 0.5); got != c.want {
			t.Errorf("%s: after %s, not %s", name, got, c.want)
		}
		for _, jitter := range []float64{0, 1} {
			if got := c.rhythm.Next(at, jitter); got < c.want*9/10-time.Nanosecond ||
				got > c.want*11/10+time.Nanosecond || got == c.want {
				t.Errorf("%s: spread to %s", name, got)
			}
		}
	}
}
