package work

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"freshseal/core/due"
	"freshseal/core/policy"
	"freshseal/core/procedure"
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

// Forecast is how many replacements are to come.
type Forecast struct {
	Site  string         `json:"site,omitempty" description:"empty: the whole fleet"`
	Slots int            `json:"slots" required:"true" description:"that serve a certificate"`
	Weeks []ForecastWeek `json:"weeks" required:"true"`
	Years []ForecastYear `json:"years" required:"true" description:"calendar years; the first and the last are parts of one"`
	Sites []ForecastSite `json:"sites" required:"true" description:"the whole period, the busiest first"`
	Took  []Took         `json:"took" required:"true" description:"how long sealed replacements of the last year took, by hand"`
	Rules []Maximum      `json:"rules" required:"true" description:"the longest lives of publicly trusted certificates that are counted with"`
}

// ForecastWeek is a week that begins on a day.
type ForecastWeek struct {
	Begins time.Time `json:"begins" required:"true"`
	Today  Hands     `json:"today" required:"true" description:"if certificates live as long as now"`
	Coming Hands     `json:"coming" required:"true" description:"under the coming longest lives"`
}

// ForecastYear is a calendar year.
type ForecastYear struct {
	Year         int     `json:"year" required:"true"`
	Weeks        int     `json:"weeks" required:"true" description:"of the forecast that are in it"`
	Today        Hands   `json:"today" required:"true"`
	Coming       Hands   `json:"coming" required:"true"`
	HoursToday   float64 `json:"hours_a_week_today" required:"true" description:"of people, for guided replacements and those without a procedure; by the median of those that were done"`
	HoursComing  float64 `json:"hours_a_week_coming" required:"true"`
	PeopleComing float64 `json:"people_coming" required:"true" description:"with 20 hours a week each"`
}

// ForecastSite is a site.
type ForecastSite struct {
	Site   string `json:"site" required:"true"`
	Today  int    `json:"today" required:"true"`
	Coming int    `json:"coming" required:"true"`
}

// Hands are numbers of replacements, by what it takes.
type Hands struct {
	Automatic int `json:"automatic" required:"true"`
	Guided    int `json:"guided" required:"true"`
	Outside   int `json:"outside" required:"true" description:"of devices without a procedure"`
}

func handsOf(n due.Need) Hands { return Hands{n[due.Automatic], n[due.Guided], n[due.Outside]} }

func (h Hands) plus(o Hands) Hands {
	return Hands{h.Automatic + o.Automatic, h.Guided + o.Guided, h.Outside + o.Outside}
}

// Took is how long replacements of a hand took.
type Took struct {
	Hand          due.Hand `json:"hand" required:"true" enum:"automatic,guided"`
	Count         int      `json:"count" required:"true"`
	Minutes       float64  `json:"median_minutes" required:"true" description:"from the beginning to the seal, waiting included"`
	PersonMinutes float64  `json:"median_person_minutes" required:"true" description:"in which a step by hand was open"`
}

// Maximum is the longest life of publicly trusted certificates from a day on.
type Maximum struct {
	From time.Time `json:"from" required:"true"`
	Days int       `json:"days" required:"true"`
}

// guessed are the minutes of a person where nothing was done by hand yet.
const (
	guessed    = 30.0
	hoursAWeek = 20.0 // that somebody has for certificates, beside all else
)

// Forecast counts the replacements of the coming weeks, at a site or everywhere. Certificates are publicly trusted where their signer
// is, or all of them where public says so.
func (s *Service) Forecast(ctx context.Context, weeks int, site string, public bool) (Forecast, error) {
	if weeks == 0 {
		weeks = usualWeeks
	}
	if weeks < 1 || weeks > due.MostWeeks {
		return Forecast{}, problem.Reject("there is no forecast", fmt.Sprintf("%d weeks are out of bounds", weeks), fmt.Sprintf("give 1 to %d", due.MostWeeks))
	}
	out := Forecast{Site: site, Weeks: []ForecastWeek{}, Years: []ForecastYear{}, Sites: []ForecastSite{}, Took: []Took{}, Rules: []Maximum{}}
	for _, step := range policy.PublicMaxima() {
		out.Rules = append(out.Rules, Maximum{step.From, step.Days})
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
		out.Weeks = append(out.Weeks, ForecastWeek{w.Begins, handsOf(w.Today), handsOf(w.Coming)})
	}
	for name, at := range lives {
		out.Slots += len(at)
		one := ForecastSite{Site: name}
		for _, w := range due.Forecast(slices.Values(at), from, weeks, most) {
			one.Today += sum(w.Today)
			one.Coming += sum(w.Coming)
		}
		out.Sites = append(out.Sites, one)
	}
	slices.SortFunc(out.Sites, func(a, b ForecastSite) int {
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

// lives are the slots' certificates, by site.
func (s *Service) lives(ctx context.Context, site string, all bool) (map[string][]due.Life, error) {
	signers, err := s.desk.Signers(ctx)
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
		if rules, err := s.watch.RulesFor(ctx, store.Slot{Site: row.Site, Device: row.Device, Signer: row.Signer}); err == nil && rules.Signer != nil {
			signer = *rules.Signer
		}
		l := due.Life{NotBefore: row.NotBefore.Time, NotAfter: row.NotAfter.Time, Due: row.DueFrom.Time, Public: all || public[signer], Hand: s.hand(row.Family)}
		if row.NotBefore.IsZero() {
			l.NotBefore = l.NotAfter.Add(-usualLife)
		}
		if row.Standing != due.Fresh { // what is wrong is replaced now; what was delivered for ten years is followed by a usual one
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
			rows, err := s.store.AheadOf(ctx, last, aheadAtOnce)
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

// hand is what it takes to replace a certificate of a family's device.
func (s *Service) hand(family string) due.Hand {
	if family == "" {
		return due.Outside
	}
	source, err := s.fleet.Procedure(family)
	if err != nil || !source.Usable() {
		return due.Outside
	}
	for _, steps := range source.Steps {
		if slices.ContainsFunc(steps, func(step procedure.Step) bool { _, byHand := step.Do.(*procedure.Hand); return byHand }) {
			return due.Guided
		}
	}
	return due.Automatic
}

// took is how long replacements took in the last year.
func (s *Service) took(ctx context.Context) ([]Took, error) {
	rows, err := s.store.TookSince(ctx, store.At(s.now().Add(-lookBack)), mostLookBack)
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
	out := []Took{}
	for _, hand := range []due.Hand{due.Automatic, due.Guided} {
		if n := len(whole[hand]); n > 0 {
			out = append(out, Took{hand, n, minutes(whole[hand]), minutes(person[hand])})
		}
	}
	return out, nil
}

// minutes is the median of milliseconds, in minutes to a tenth.
func minutes(all []int64) float64 {
	slices.Sort(all)
	return float64(all[len(all)/2]/6000) / 10
}

// years sums weeks up.
func years(weeks []ForecastWeek, took []Took) []ForecastYear {
	each := guessed
	for _, t := range took {
		if t.Hand == due.Guided && t.PersonMinutes > 0 {
			each = t.PersonMinutes
		}
	}
	out := []ForecastYear{}
	for _, w := range weeks {
		if n := len(out); n == 0 || out[n-1].Year != w.Begins.Year() {
			out = append(out, ForecastYear{Year: w.Begins.Year()})
		}
		y := &out[len(out)-1]
		y.Weeks, y.Today, y.Coming = y.Weeks+1, y.Today.plus(w.Today), y.Coming.plus(w.Coming)
	}
	for i := range out {
		y := &out[i]
		hours := func(h Hands) float64 { return tenth(float64(h.Guided+h.Outside) * each / 60 / float64(y.Weeks)) }
		y.HoursToday, y.HoursComing = hours(y.Today), hours(y.Coming)
		y.PeopleComing = tenth(y.HoursComing / hoursAWeek)
	}
	return out
}

func tenth(x float64) float64 { return float64(int(x*10+0.5)) / 10 }
