package roster

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/due"
)

// EndsIn counts the certificates that end in a month, by condition.
type EndsIn struct {
	Month     string // 2027-03
	Condition due.Condition
	Count     int
}

// EndsByMonth counts the slots whose certificates end before a moment (milliseconds since 1970), by month and
// condition.
func (r *Roster) EndsByMonth(until int64) []EndsIn {
	counts := map[EndsIn]int{}
	r.Each(func(_ string, rank int, end int64) {
		if end > 0 && end < until {
			counts[EndsIn{Month: time.UnixMilli(end).UTC().Format("2006-01"), Condition: due.Conditions[rank]}]++
		}
	})
	return tally(counts, func(each *EndsIn, n int) { each.Count = n }, func(x, y EndsIn) int {
		return cmp.Or(strings.Compare(x.Month, y.Month), x.Condition.Rank()-y.Condition.Rank())
	})
}

// EndsAt counts the certificates of a site that end in a week.
type EndsAt struct {
	Site  string
	Week  int // 0: the first
	Count int
}

// EndsByWeek counts the slots whose certificates end within some weeks from a moment on, by site. What has ended
// counts into week -1.
func (r *Roster) EndsByWeek(from int64, weeks int) []EndsAt {
	counts := map[EndsAt]int{}
	r.Each(func(site string, _ int, end int64) {
		switch {
		case end <= 0 || end >= from+int64(weeks)*week:
		case end < from:
			counts[EndsAt{Site: site, Week: -1}]++
		default:
			counts[EndsAt{Site: site, Week: int((end - from) / week)}]++
		}
	})
	return tally(counts, func(each *EndsAt, n int) { each.Count = n }, func(x, y EndsAt) int {
		return cmp.Or(strings.Compare(x.Site, y.Site), x.Week-y.Week)
	})
}

// SiteSlots is how many slots of a site are in a condition.
type SiteSlots struct {
	Site      string
	Condition due.Condition
	Count     int
}

// BySite counts the slots of each site and condition.
func (r *Roster) BySite() []SiteSlots {
	counts := map[SiteSlots]int{}
	r.Each(func(site string, rank int, _ int64) {
		counts[SiteSlots{Site: site, Condition: due.Conditions[rank]}]++
	})
	return tally(counts, func(each *SiteSlots, n int) { each.Count = n }, func(x, y SiteSlots) int {
		return cmp.Or(strings.Compare(x.Site, y.Site), x.Condition.Rank()-y.Condition.Rank())
	})
}

// tally returns the things that were counted, with their counts, in order.
func tally[T comparable](counts map[T]int, put func(each *T, n int), order func(x, y T) int) []T {
	var out []T
	for each, n := range counts {
		put(&each, n)
		out = append(out, each)
	}
	slices.SortFunc(out, order)
	return out
}

// Conditions returns how many slots have each condition.
func (r *Roster) Conditions() map[due.Condition]int {
	out := map[due.Condition]int{}
	r.Each(func(_ string, rank int, _ int64) { out[due.Conditions[rank]]++ })
	return out
}

// EndsBetween counts the slots whose certificates end between each pair of neighbouring moments (milliseconds since
// 1970), which ascend.
func (r *Roster) EndsBetween(moments []int64) []int {
	counts := make([]int, max(0, len(moments)-1))
	r.Each(func(_ string, _ int, end int64) {
		if i := slices.IndexFunc(moments, func(m int64) bool { return end < m }); i > 0 {
			counts[i-1]++
		}
	})
	return counts
}

// FirstEnds returns when the first certificate of each site ends (milliseconds since 1970) whose slots could be read.
func (r *Roster) FirstEnds() map[string]int64 {
	ends := map[string]int64{}
	r.Each(func(site string, _ int, end int64) {
		if first, known := ends[site]; end > 0 && (!known || end < first) {
			ends[site] = end
		}
	})
	return ends
}
