package report

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/service/problem"
	"freshseal/store"
)

const (
	usualWeeks   = 104
	aheadAtOnce  = 5000
	lookBack     = 365 * 24 * time.Hour // for how long replacements took
	mostLookBack = 2000
	usualLead    = 30 * 24 * time.Hour
	usualLife    = 398 * 24 * time.Hour // of what was read before its life was kept
)

func handsOf(n due.Need) contract.Hands {
	return contract.Hands{Automatic: n[due.Automatic], Guided: n[due.Guided], Outside: n[due.Outside]}
}

func plusHands(h contract.Hands, o contract.Hands) contract.Hands {
	return contract.Hands{Automatic: h.Automatic + o.Automatic, Guided: h.Guided + o.Guided,
		Outside: h.Outside + o.Outside}
}

// guessed are the minutes of a person if nothing was done by hand yet.
const (
	guessed    = 30.0
	hoursAWeek = 20.0 // that somebody has for certificates, beside all else
)

// Forecast counts the replacements of the coming weeks, at a site or everywhere. Certificates are publicly trusted
// where their signer is, or all of them where public says so.
func (s *Service) Forecast(ctx context.Context, weeks int, site string, public bool) (contract.Forecast, error) {
	if weeks == 0 {
		weeks = usualWeeks
	}
	if weeks < 1 || weeks > due.MostWeeks {
		return contract.Forecast{},
			problem.Reject("there is no forecast", fmt.Sprintf("%d weeks are out of bounds", weeks),
				fmt.Sprintf("give 1 to %d", due.MostWeeks))
	}
	out := contract.Forecast{Site: site, Weeks: []contract.ForecastWeek{}, Years: []contract.ForecastYear{},
		Sites: []contract.ForecastSite{}, Took: []contract.Took{}, Rules: []contract.Maximum{}}
	for _, step := range policy.PublicMaxima() {
		out.Rules = append(out.Rules, contract.Maximum{From: step.From, Days: step.Days})
	}
	lives, err := s.lives(ctx, site, public)
	if err != nil {
		return out, err
	}
	from := s.now().Truncate(24 * time.Hour)
	most := func(issued time.Time) time.Duration {
		return time.Duration(policy.PublicMaxDays(issued)) * 24 * time.Hour
	}
	all := func(yield func(due.Life) bool) {
		for _, at := range lives {
			for _, l := range at {
				if !yield(l) {
					return
				}
			}
		}
	}
	for _, w := range due.Forecast(all, from, weeks, most) {
		out.Weeks = append(out.Weeks, contract.ForecastWeek{Begins: w.Begins, Today: handsOf(w.Today),
			Coming: handsOf(w.Coming)})
	}
	for name, at := range lives {
		out.Slots += len(at)
		one := contract.ForecastSite{Site: name}
		for _, w := range due.Forecast(slices.Values(at), from, weeks, most) {
			one.Today += sum(w.Today)
			one.Coming += sum(w.Coming)
		}
		out.Sites = append(out.Sites, one)
	}
	slices.SortFunc(out.Sites, func(a, b contract.ForecastSite) int {
		return cmp.Or(cmp.Compare(b.Coming, a.Coming), strings.Compare(a.Site, b.Site))
	})
	if out.Took, err = s.took(ctx); err != nil {
		return out, err
	}
	out.Years = years(out.Weeks, out.Took)
	return out, nil
}

func sum(n due.Need) (all int) {
	for _, count := range n {
		all += count
	}
	return all
}

// lives returns the slots' certificates, by site.
func (s *Service) lives(ctx context.Context, site string, all bool) (map[string][]due.Life, error) {
	signers, err := s.signing.Signers(ctx)
	if err != nil {
		return nil, err
	}
	public := map[string]bool{}
	for _, each := range signers {
		public[each.Name] = each.Terms.Public
	}
	out := map[string][]due.Life{}
	for row, err := range s.ahead(ctx) {
		if err != nil {
			return nil, err
		}
		if site != "" && row.Site != site {
			continue
		}
		signer := row.Signer
		if rules, err := s.monitor.RulesFor(ctx, store.Slot{Site: row.Site, Device: row.Device,
			Signer: row.Signer}); err == nil && rules.Signer != nil {
			signer = *rules.Signer
		}
		l := due.Life{NotBefore: row.NotBefore.Time, NotAfter: row.NotAfter.Time, Due: row.DueFrom.Time,
			Public: all || public[signer], Hand: s.hand(row.Family)}
		if row.NotBefore.IsZero() {
			l.NotBefore = l.NotAfter.Add(-usualLife)
		}
		// what is wrong is replaced now; what was delivered for ten years is followed by a usual one
		if row.Base != due.Fresh {
			if l.Due = s.now(); l.NotAfter.Sub(l.NotBefore) > usualLife {
				l.NotAfter = l.Due.Add(usualLead)
				l.NotBefore = l.NotAfter.Add(-usualLife)
			}
		}
		out[row.Site] = append(out[row.Site], l)
	}
	return out, nil
}

// ahead goes through all slots that serve a certificate.
func (s *Service) ahead(ctx context.Context) iter.Seq2[store.Ahead, error] {
	return func(yield func(store.Ahead, error) bool) {
		for last := int64(0); ; {
			rows, err := s.store.Reports.AheadOf(ctx, last, aheadAtOnce)
			if err != nil {
				yield(store.Ahead{}, err)
				return
			}
			for _, row := range rows {
				if last = row.ID; !yield(row, nil) {
					return
				}
			}
			if len(rows) < aheadAtOnce {
				return
			}
		}
	}
}

// hand returns what it takes to replace a certificate of a family's device.
func (s *Service) hand(family string) due.Hand {
	if family == "" {
		return due.Outside
	}
	source, err := s.fleet.Procedure(family)
	if err != nil || !source.Usable() {
		return due.Outside
	}
	for _, steps := range source.Steps {
		if slices.ContainsFunc(steps, func(step procedure.Step) bool {
			_, byHand := step.Do.(*verb.Hand)
			return byHand
		}) {
			return due.Guided
		}
	}
	return due.Automatic
}

// took returns how long replacements took in the last year.
func (s *Service) took(ctx context.Context) ([]contract.Took, error) {
	rows, err := s.store.Reports.TookSince(ctx, store.At(s.now().Add(-lookBack)), mostLookBack)
	if err != nil {
		return nil, err
	}
	whole, person := map[due.Hand][]int64{}, map[due.Hand][]int64{}
	for _, row := range rows {
		hand := s.hand(row.Family)
		if row.Person > 0 {
			hand = due.Guided
		}
		whole[hand], person[hand] = append(whole[hand], row.All), append(person[hand], row.Person)
	}
	out := []contract.Took{}
	for _, hand := range []due.Hand{due.Automatic, due.Guided} {
		if n := len(whole[hand]); n > 0 {
			out = append(out, contract.Took{Hand: hand, Count: n, Minutes: minutes(whole[hand]),
				PersonMinutes: minutes(person[hand])})
		}
	}
	return out, nil
}

// minutes returns the median of milliseconds, in minutes to a tenth.
func minutes(all []int64) float64 {
	slices.Sort(all)
	return float64(all[len(all)/2]/6000) / 10
}

// years sums weeks up.
func years(weeks []contract.ForecastWeek, took []contract.Took) []contract.ForecastYear {
	each := guessed
	for _, t := range took {
		if t.Hand == due.Guided && t.PersonMinutes > 0 {
			each = t.PersonMinutes
		}
	}
	out := []contract.ForecastYear{}
	for _, w := range weeks {
		if n := len(out); n == 0 || out[n-1].Year != w.Begins.Year() {
			out = append(out, contract.ForecastYear{Year: w.Begins.Year()})
		}
		y := &out[len(out)-1]
		y.Weeks, y.Today, y.Coming = y.Weeks+1, plusHands(y.Today, w.Today), plusHands(y.Coming, w.Coming)
	}
	for i := range out {
		y := &out[i]
		hours := func(h contract.Hands) float64 {
			return tenth(float64(h.Guided+h.Outside) * each / 60 / float64(y.Weeks))
		}
		y.HoursToday, y.HoursComing = hours(y.Today), hours(y.Coming)
		y.PeopleComing = tenth(y.HoursComing / hoursAWeek)
	}
	return out
}

func tenth(x float64) float64 { return float64(int(x*10+0.5)) / 10 }
