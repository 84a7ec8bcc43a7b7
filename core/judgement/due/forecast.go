package due

import (
	"iter"
	"time"
)

// Hand is what it takes to replace a certificate.
type Hand string

// The hands.
const (
	Automatic Hand = "automatic" // a procedure does all of it
	Guided    Hand = "guided"    // a person does some of its steps
	Outside   Hand = "outside"   // no procedure is known: somebody does it elsewhere
)

// Life is a slot with the certificate that it has now.
type Life struct {
	NotBefore, NotAfter time.Time
	Due                 time.Time // when the next replacement begins
	Public              bool      // clients set the longest life
	Hand                Hand
}

// Need is how many replacements are needed, by hand.
type Need map[Hand]int

// Week is a week of a forecast.
type Week struct {
	Begins time.Time
	Today  Need // as long as the certificates of now live
	Coming Need // as long as clients will take at the time
}

// Bounds of a forecast.
const (
	MostWeeks   = 520
	mostPerSlot = 10_000 // replacements: a life of a few hours would be a program's
)

const week = 7 * 24 * time.Hour

// Forecast counts the replacements of each week. Each slot is replaced when it is due, by a certificate that lives as
// long as the one before or, in Coming, at most as long as most says for its day. What is due already falls
// into the first week.
func Forecast(slots iter.Seq[Life], from time.Time, weeks int, most func(issued time.Time) time.Duration) []Week {
	out := make([]Week, min(max(weeks, 0), MostWeeks))
	for i := range out {
		out[i] = Week{from.Add(time.Duration(i) * week), Need{}, Need{}}
	}
	for life := range slots {
		life.count(from, len(out), func(time.Time) time.Duration { return 0 }, func(i int) {
			out[i].Today[life.Hand]++
		})
		limit := func(time.Time) time.Duration { return 0 }
		if life.Public {
			limit = most
		}
		life.count(from, len(out), limit, func(i int) { out[i].Coming[life.Hand]++ })
	}
	return out
}

// count goes from replacement to replacement.
func (l Life) count(from time.Time, weeks int, most func(time.Time) time.Duration, one func(week int)) {
	whole, lead := l.NotAfter.Sub(l.NotBefore), l.NotAfter.Sub(l.Due)
	if whole <= 0 || l.NotAfter.IsZero() {
		return
	}
	at := l.Due
	for range mostPerSlot {
		if at.Before(from) {
			at = from
		}
		i := int(at.Sub(from) / week)
		if i >= weeks {
			return
		}
		one(i)
		lives := whole
		if limit := most(at); limit > 0 && limit < lives {
			lives = limit
		}
		before := lead
		if before > lives/2 || before < 0 {
			before = lives / 3 // as Stand counts for short lives
		}
		at = at.Add(max(lives-before, time.Hour))
	}
}
