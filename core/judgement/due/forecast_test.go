package due_test

import (
	"slices"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
)

const dayLong = 24 * time.Hour

func most(issued time.Time) time.Duration {
	return time.Duration(policy.PublicMaxDays(issued)) * dayLong
}

func total(weeks []due.Week, need func(due.Week) due.Need, hand due.Hand) (n int) {
	for _, w := range weeks {
		n += need(w)[hand]
	}
	return n
}

func today(w due.Week) due.Need  { return w.Today }
func coming(w due.Week) due.Need { return w.Coming }

// A public certificate of a year is replaced once a year now, every 70 days from March 2027, and every month
// from March 2029; a private one stays as it is.
func TestAForecastKnowsWhatIsComing(t *testing.T) {
	from := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	year := due.Life{NotBefore: from.AddDate(0, -6, 0), NotAfter: from.AddDate(0, 6, 0), Due: from.AddDate(0, 5, 0),
		Public: true, Hand: due.Guided}
	private := year
	private.Public, private.Hand = false, due.Automatic
	weeks := due.Forecast(slices.Values([]due.Life{year, private}), from, 4*52, most)
	if a, b := total(weeks, today, due.Guided), total(weeks, today, due.Automatic); a != 4 || b != 4 {
		t.Errorf("as of today %d and %d replacements in four years", a, b)
	}
	if got := total(weeks, coming, due.Automatic); got != 4 {
		t.Errorf("a private certificate is replaced %d times", got)
	}
	in := func(year int) (n int) {
		for _, w := range weeks {
			if w.Begins.Year() == year {
				n += w.Coming[due.Guided]
			}
		}
		return n
	}
	// 100 days less 30 days of renewal period from April 2027 on; 47 days less a third from March 2029 on.
	if in(2027) != 4 || in(2028) != 5 || in(2029) < 11 || in(2029) > 13 {
		t.Errorf("%d in 2027, %d in 2028, %d in 2029", in(2027), in(2028), in(2029))
	}
	late := due.Life{NotBefore: from.AddDate(-2, 0, 0), NotAfter: from.AddDate(-1, 0, 0),
		Due: from.AddDate(-1, -1, 0), Hand: due.Outside}
	none := due.Life{Hand: due.Outside}
	// due after its end
	odd := due.Life{NotBefore: from, NotAfter: from.Add(time.Minute), Due: from.Add(time.Hour), Hand: due.Automatic}
	weeks = due.Forecast(slices.Values([]due.Life{late, none, odd}), from, 10, most)
	if weeks[0].Today[due.Outside] != 1 || total(weeks, today, due.Outside) != 1 ||
		weeks[0].Today[due.Automatic] > 200 {
		t.Errorf("%v", weeks[0])
	}
	if n := len(due.Forecast(slices.Values([]due.Life{late}), from, 1<<40, most)); n != due.MostWeeks {
		t.Errorf("%d weeks", n)
	}
}
