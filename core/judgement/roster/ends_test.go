package roster_test

import (
	"fmt"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/roster"
)

// What is counted of a fleet, at the edges of its months, weeks and spans: a slot that could not be read has no end.
func TestCountsOfEnds(t *testing.T) {
	at := func(text string) int64 {
		day, err := time.Parse(time.RFC3339, text+"Z")
		if err != nil {
			t.Fatal(err)
		}
		return day.UnixMilli()
	}
	var c roster.Change
	for i, site := range []string{"Petrel", "Mainquay"} {
		c.Devices = append(c.Devices, roster.Device{ID: int64(i + 1), Name: site, Site: site})
	}
	for i, s := range []struct {
		site int64
		is   due.Condition
		ends int64
	}{
		{1, due.Unreachable, 0},
		{1, due.Expired, at("2026-11-30T23:59:59")},
		{1, due.Due, at("2026-12-01T00:00:00")},
		{2, due.Due, at("2026-12-31T23:59:59")},
		{2, due.Fresh, at("2027-01-01T00:00:00")},
		{2, due.Fresh, at("2027-01-01T00:00:01")},
	} {
		c.Slots = append(c.Slots, roster.Slot{ID: int64(i + 1), Device: s.site, Name: fmt.Sprint("s", i),
			Seen: roster.Seen{Rank: s.is.Rank(), NotAfter: s.ends}})
	}
	r := roster.New()
	r.Put(c)
	from := at("2026-12-01T00:00:00")
	for what, c := range map[string]struct {
		got  any
		want string
	}{
		"conditions": {r.Conditions(), "map[due:2 expired:1 fresh:2 unreachable:1]"},
		"by site": {r.BySite(), "[{Mainquay due 1} {Mainquay fresh 2} {Petrel unreachable 1} {Petrel expired 1} " +
			"{Petrel due 1}]"},
		"by month": {r.EndsByMonth(at("2027-01-01T00:00:01")),
			"[{2026-11 expired 1} {2026-12 due 2} {2027-01 fresh 1}]"},
		"by week":  {r.EndsByWeek(from, 5), "[{Mainquay 4 3} {Petrel -1 1} {Petrel 0 1}]"},
		"one week": {r.EndsByWeek(from, 1), "[{Petrel -1 1} {Petrel 0 1}]"},
		"between": {r.EndsBetween([]int64{0, from, at("2027-01-01T00:00:00"), at("2027-01-01T00:00:01")}),
			"[2 2 1]"},
		"no span": {r.EndsBetween(nil), "[]"},
		"first": {r.FirstEnds(), fmt.Sprintf("map[Mainquay:%d Petrel:%d]", at("2026-12-31T23:59:59"),
			at("2026-11-30T23:59:59"))},
	} {
		if got := fmt.Sprint(c.got); got != c.want {
			t.Errorf("%s: %s, want %s", what, got, c.want)
		}
	}
}
