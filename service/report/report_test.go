package report

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
	"freshseal/store/issuance"
	"freshseal/store/messages"
)

// harbour is what the room asks for, in memory. What a test does not need is nil, and asking for it fails the test.
type harbour struct {
	at           time.Time
	ahead        []store.Ahead
	took         []store.Took
	proofs       []issuance.Proven
	uppers       map[string]int
	certificates map[string]*cert.Certificate
	sessions     []accounts.Session
	then         []store.StateThen
	sealed       []store.Sealed
	months       []store.EndsIn
	weeks        []store.EndsAt
	signers      []contract.Signer
	asked        []string
}

func (h *harbour) AheadOf(_ context.Context, id int64, most int) (out []store.Ahead, err error) {
	for _, row := range h.ahead {
		if row.ID > id && len(out) < most {
			out = append(out, row)
		}
	}
	return out, nil
}

func (h *harbour) TookSince(_ context.Context, since store.Moment, _ int) ([]store.Took, error) {
	h.asked = append(h.asked, "took since "+since.Format(time.DateOnly))
	return h.took, nil
}

func (h *harbour) Proofs(context.Context) ([]issuance.Proven, error) { return h.proofs, nil }
func (h *harbour) Uppers() map[string]int                            { return h.uppers }

func (h *harbour) EndsByMonth(until store.Moment) []store.EndsIn {
	h.asked = append(h.asked, "months until "+until.Format(time.DateOnly))
	return h.months
}

func (h *harbour) EndsByWeek(from store.Moment, weeks int) []store.EndsAt {
	h.asked = append(h.asked, fmt.Sprintf("%d weeks from %s", weeks, from.Format(time.DateTime)))
	return h.weeks
}

func (h *harbour) StatesThen(_ context.Context, then store.Moment, id int64,
	most int) (out []store.StateThen, err error) {
	h.asked = append(h.asked, "states at "+then.Format(time.DateTime))
	for _, row := range h.then {
		if row.SlotID > id && len(out) < most {
			out = append(out, row)
		}
	}
	return out, nil
}

func (h *harbour) SealedBetween(_ context.Context, from, until store.Moment, site string) ([]store.Sealed, error) {
	h.asked = append(h.asked, strings.TrimSpace(fmt.Sprintf("sealed %s to %s %s", from.Format(time.DateTime),
		until.Format(time.DateTime), site)))
	return h.sealed, nil
}

func (h *harbour) Certificates(_ context.Context, of []string) (out []*cert.Certificate, err error) {
	for _, sha256 := range of {
		if c := h.certificates[sha256]; c != nil {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		return nil, store.ErrNotFound
	}
	return out, nil
}

func (h *harbour) ThatEnd(context.Context, store.Moment) ([]accounts.Session, error) {
	return h.sessions, nil
}

func (h *harbour) Signers(context.Context) ([]contract.Signer, error) { return h.signers, nil }

func (h *harbour) LateParcels(context.Context) ([]contract.Parcel, error) {
	return []contract.Parcel{{ID: "b1"}}, nil
}

// rules gives the site Petrel a signer of its own.
func (h *harbour) RulesFor(_ context.Context, row store.Slot) (policy.Rules, error) {
	if row.Site == "Petrel" {
		signer := "public"
		return policy.Rules{Signer: &signer}, nil
	}
	return policy.Rules{}, nil
}

func (h *harbour) Policies(context.Context) ([]contract.Policy, error) {
	yes := true
	return []contract.Policy{{Scope: "fleet"}, {Scope: "device/winch", Rules: policy.Rules{WeakKeys: &yes}}}, nil
}

func (h *harbour) Tally() contract.Tally      { return contract.Tally{Seconds: 7} }
func (h *harbour) Judging() *contract.Judging { return &contract.Judging{Judged: 1, Slots: 2} }

// Procedure knows a family that is automatic, one that a person helps, and a faulty one.
func (h *harbour) Procedure(name string) (library.Source, error) {
	switch name {
	case "gate", "faulty":
		s := library.Source{Procedure: procedure.Procedure{Steps: map[procedure.Section][]procedure.Step{
			procedure.Activate: {{Do: &verb.Run{}}}}}}
		if name == "faulty" {
			s.Faults = []procedure.Fault{{What: "broken"}}
		}
		return s, nil
	case "panel":
		return library.Source{Procedure: procedure.Procedure{Steps: map[procedure.Section][]procedure.Step{
			procedure.Request: {{Do: &verb.Run{}}, {Do: &verb.Hand{}}}}}}, nil
	}
	return library.Source{}, store.ErrNotFound
}

// counts are what is counted of the fleet.
type counts struct {
	err error
}

func (c counts) CountConditions() map[due.Condition]int {
	return map[due.Condition]int{due.Fresh: 5, due.Factory: 2}
}

func (c counts) CountEnds(moments []store.Moment) []int {
	out := make([]int, len(moments)-1)
	for i := range out {
		out[i] = int(moments[i+1].Sub(moments[i].Time).Hours() / 24)
	}
	return out
}

func (c counts) CountBySite() []store.SiteSlots {
	return []store.SiteSlots{{Site: "Petrel", Condition: due.Due, Count: 3},
		{Site: "Petrel", Condition: due.Due, Count: 1}}
}

func (c counts) FirstEnds() map[string]store.Moment {
	return map[string]store.Moment{"Petrel": store.At(time.Date(2026, 7, 1, 0, 0, 0, 0, time.UTC))}
}

func (c counts) Count(context.Context) (map[replacement.State]int, map[replacement.WaitingFor]int, error) {
	return map[replacement.State]int{replacement.Running: 1, replacement.Waiting: 2, replacement.Held: 3},
		map[replacement.WaitingFor]int{replacement.Signer: 2, replacement.Nobody: 9}, c.err
}

func (c counts) CountUnpacked(context.Context) (map[string]int, error) {
	return map[string]int{"desk": 4}, nil
}
func (c counts) CountUpdates(context.Context) (int, error)           { return 6, nil }
func (c counts) CountDue(context.Context, store.Moment) (int, error) { return 8, nil }
func (c counts) Open(context.Context) ([]store.Task, error)          { return make([]store.Task, 2), nil }

type known struct{}

func (known) Get(_ context.Context, name string) (store.Device, error) {
	if name == "gone" {
		return store.Device{}, store.ErrNotFound
	}
	return store.Device{Name: name, Site: map[string]string{"winch": "Petrel"}[name]}, nil
}

func (known) Acknowledgements(context.Context, store.Moment) ([]messages.Acknowledgement, error) {
	day := store.At(time.Date(2026, 6, 2, 0, 0, 0, 0, time.UTC))
	return []messages.Acknowledgement{{Device: "winch", Slot: "web", By: "gull", At: day, Until: day,
		Reason: "in dock"},
		{Device: "gone", Slot: "web", By: "gull", At: day, Until: day, Reason: "sold"}}, nil
}

func (known) List(context.Context) ([]store.Site, error) {
	return []store.Site{{Name: "Petrel", Paused: true}, {Name: "Mainquay"}}, nil
}

func room(t *testing.T) (*Service, *harbour) {
	t.Helper()
	h := &harbour{at: time.Date(2026, 6, 10, 15, 30, 0, 0, time.UTC), certificates: map[string]*cert.Certificate{}}
	c := counts{}
	return &Service{monitor: h, signing: h, fleet: h, clock: func() time.Time { return h.at },
		store: storage{Chains: h, Devices: known{}, Notices: known{}, Parcels: c, Pins: c, Readings: c, Replacements: c,
			Reports: h, Sessions: h, Sites: known{}, Slots: c, Tasks: c}}, h
}

func TestTheOverviewCountsWhatThereIs(t *testing.T) {
	s, _ := room(t)
	o, err := s.Overview(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if o.Slots != 7 || o.UnderWay != 1 || o.Waiting != 2 || o.Held != 3 || o.PendingPins != 6 || len(o.Late) != 1 ||
		!reflect.DeepEqual(o.WaitingFor, map[replacement.WaitingFor]int{replacement.Signer: 2}) ||
		o.Unpacked["desk"] != 4 || o.Judging.Judged != 1 {
		t.Errorf("%+v", o)
	}
	var months []string
	for _, e := range o.Ends {
		months = append(months, fmt.Sprint(e.Month, " ", e.Count))
	}
	// what is left of June, then whole months
	want := "2026-06 20,2026-07 31,2026-08 31,2026-09 30,2026-10 31,2026-11 30,2026-12 31,2027-01 31,2027-02 " +
		"28,2027-03 31," +
		"2027-04 30,2027-05 31"
	if got := strings.Join(months, ","); got != want {
		t.Errorf("%s", got)
	}
	s.store.Replacements = counts{err: errors.New("disk")}
	if _, err := s.Overview(t.Context()); err == nil {
		t.Error("a fault is no count")
	}
}

func TestFiguresNameEveryConditionOfASite(t *testing.T) {
	s, h := room(t)
	f, err := s.Figures(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range due.Conditions {
		want := 0
		if c == due.Due {
			want = 4
		}
		if n, has := f.Slots[contract.SiteCondition{Site: "Petrel", Condition: c}]; !has || n != want {
			t.Errorf("%s: %d, %v", c, n, has)
		}
	}
	if f.Tasks != 2 || f.LateParcels != 1 || f.PendingPins != 6 || f.DueReadings != 8 || f.Readings.Seconds != 7 ||
		f.FirstEnd["Petrel"].Month() != time.July || !f.At.Equal(h.at) || f.WaitingFor[replacement.Signer] != 2 {
		t.Errorf("%+v", f)
	}
	s.store.Replacements = counts{err: errors.New("disk")}
	if _, err := s.Figures(t.Context()); err == nil {
		t.Error("a fault is no figure")
	}
}

func TestWhatElseExpiresIsListedSoonestFirst(t *testing.T) {
	s, h := room(t)
	root := testkit.Root(t, "Quay Root")
	middle := root.Below(t, "Quay Issuing")
	h.certificates = map[string]*cert.Certificate{"root": root.Certificate, "middle": middle.Certificate}
	h.uppers = map[string]int{"root": 5, "middle": 3, "forgotten": 1}
	h.at = testkit.Now
	day := func(n int) store.Moment { return store.At(h.at.AddDate(0, 0, n)) }
	h.signers = []contract.Signer{{Name: "public"}, {Name: "bench"}}
	h.signers[0].Proof.Days = 90
	h.proofs = []issuance.Proven{{Signer: "public", Domain: "quay.example", At: day(-80)},
		{Signer: "bench", Domain: "mole.example", At: day(-80)}}
	h.sessions = []accounts.Session{{Kind: "client", Label: "", User: "gull", EndsAt: day(3)},
		{Kind: "client", Label: "monitoring", User: "gull", EndsAt: day(2)},
		{Kind: EndsCalendar, User: "tern", EndsAt: day(1)},
		{Kind: EndsCalendar, Label: "Petrel", User: "tern", EndsAt: day(5)}}
	list := func(within int, tokens bool) string {
		t.Helper()
		all, err := s.Expiring(t.Context(), within, tokens)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, e := range all {
			out = append(out, fmt.Sprintf("%s %s %d", e.Kind, e.Name, e.Slots))
			if e.Remedy == "" || e.Days != int(e.EndsAt.Sub(h.at).Hours()/24) {
				t.Errorf("%+v", e)
			}
		}
		return strings.Join(out, ", ")
	}
	if got := list(30, true); got != "calendar the whole fleet 0, token monitoring 0, token a client that "+
		"signed in 0, "+
		"calendar Petrel 0, domain quay.example 0" {
		t.Errorf("within 30 days: %s", got)
	}
	if got := list(30, false); got != "domain quay.example 0" {
		t.Errorf("without tokens: %s", got)
	}
	far := list(36500, false)
	if !strings.Contains(far, "root Quay Root 5") || !strings.Contains(far, "intermediate Quay Issuing 3") ||
		strings.Contains(far, "forgotten") {
		t.Errorf("for ever: %s", far)
	}
	for _, within := range []int{-1, 36501} {
		if _, err := s.Expiring(t.Context(), within, true); !invalid(err) {
			t.Errorf("%d days: %v", within, err)
		}
	}
}

func invalid(err error) bool {
	var p *problem.Error
	return errors.As(err, &p) && p.Kind == problem.Invalid
}

func TestExpiriesAreCountedByMonthAndByWeek(t *testing.T) {
	s, h := room(t)
	h.months = []store.EndsIn{{Month: "2026-05", Condition: due.Expired, Count: 2},
		{Month: "2026-06", Condition: due.Due, Count: 3},
		{Month: "2028-05", Condition: due.Fresh, Count: 1}}
	h.weeks = []store.EndsAt{{Site: "Petrel", Week: 0, Count: 1}, {Site: "Petrel", Week: 25, Count: 1},
		{Site: "Mainquay", Week: -1, Count: 4}, {Site: "Aft", Week: 3, Count: 2}}
	e, err := s.Expiries(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if len(e.Months) != 25 || !e.Months[0].Ended || e.Months[0].Conditions[due.Expired] != 2 ||
		e.Months[1].Month != "2026-06" ||
		e.Months[1].Ended || e.Months[1].Conditions[due.Due] != 3 || e.Months[24].Conditions[due.Fresh] != 1 {
		t.Errorf("%+v", e.Months)
	}
	if len(e.Weeks) != 26 || e.Weeks[1].Sub(e.Weeks[0]) != 7*24*time.Hour {
		t.Errorf("%v", e.Weeks)
	}
	var sites []string
	for _, site := range e.Sites { // the fullest first, then by name
		sites = append(sites, fmt.Sprintf("%s %d %d %d", site.Site, site.Ended, site.Weeks[0], site.Weeks[25]))
	}
	if got := strings.Join(sites, ", "); got != "Mainquay 4 0 0, Aft 0 0 0, Petrel 0 1 1" {
		t.Error(got)
	}
	if want := []string{"months until 2028-06-01", "26 weeks from 2026-06-10 00:00:00"}; !slices.Equal(h.asked, want) {
		t.Errorf("%q", h.asked)
	}
}

func TestTheForecastSaysWhoHasToWork(t *testing.T) {
	s, h := room(t)
	day := func(n int) store.Moment { return store.At(h.at.AddDate(0, 0, n)) }
	h.signers = []contract.Signer{{Name: "public"}}
	h.signers[0].Terms.Public = true
	life := func(id int64, site, family string, base due.Condition, before, after int) store.Ahead {
		return store.Ahead{ID: id, Device: fmt.Sprint("box-", id), Site: site, Family: family, Base: base,
			NotBefore: day(before),
			NotAfter:  day(after), DueFrom: day(after - 30)}
	}
	h.ahead = []store.Ahead{life(1, "Mainquay", "gate", due.Fresh, -335, 65),
		life(2, "Petrel", "panel", due.Fresh, -335, 65),
		life(3, "Petrel", "", due.Fresh, -335, 65), life(4, "Petrel", "faulty", due.Factory, -10, 3650),
		life(5, "Mainquay", "gate", due.Flawed, -10, 300)}
	h.took = []store.Took{{Family: "panel", All: 3600_000, Person: 600_000}, {Family: "gate", All: 90_000},
		{Family: "gate", All: 30_000}, {Family: "gate", All: 60_000}, {Family: "gate", All: 1200_000, Person: 1200_000},
		{Family: "panel", All: 7200_000, Person: 900_000}}
	f, err := s.Forecast(t.Context(), 10, "", false)
	if err != nil {
		t.Fatal(err)
	}
	var weeks []string
	for i, w := range f.Weeks {
		if w.Today != (contract.Hands{}) {
			weeks = append(weeks, fmt.Sprintf("%d: %d automatic, %d guided, %d outside", i, w.Today.Automatic,
				w.Today.Guided, w.Today.Outside))
		}
	}
	// What is wrong is replaced in the first week, whatever its certificate says.
	if got := strings.Join(weeks, "; "); got != "0: 1 automatic, 0 guided, 1 outside; 5: 1 automatic, 1 guided, "+
		"1 outside" {
		t.Error(got)
	}
	if f.Slots != 5 || len(f.Rules) != len(policy.PublicMaxima()) || f.Sites[0].Site != "Petrel" ||
		f.Sites[1].Site != "Mainquay" {
		t.Errorf("%d slots, %+v", f.Slots, f.Sites)
	}
	if len(f.Took) != 2 || f.Took[0] != (contract.Took{Hand: due.Automatic, Count: 3, Minutes: 1}) ||
		f.Took[1] != (contract.Took{Hand: due.Guided, Count: 3, Minutes: 60, PersonMinutes: 15}) {
		t.Errorf("%+v", f.Took)
	}
	// Three by hand in ten weeks, a quarter of an hour each.
	if y := f.Years[0]; len(f.Years) != 1 || y.Year != 2026 || y.Weeks != 10 || y.HoursToday != tenth(3*15.0/60/10) {
		t.Errorf("%+v", f.Years)
	}
	if h.asked[0] != "took since 2025-06-10" {
		t.Errorf("%q", h.asked)
	}

	// The policy of Petrel names a public signer: its certificates become short. With all of them counted as public,
	// those of Mainquay too.
	coming := func(site string, all bool) (today, later int) {
		t.Helper()
		f, err := s.Forecast(t.Context(), 208, site, all)
		if err != nil {
			t.Fatal(err)
		}
		for _, each := range f.Sites {
			today, later = today+each.Today, later+each.Coming
		}
		return today, later
	}
	if today, later := coming("Petrel", false); later <= today {
		t.Errorf("Petrel: %d today, %d later", today, later)
	}
	if today, later := coming("Mainquay", false); later != today {
		t.Errorf("Mainquay: %d today, %d later", today, later)
	}
	if today, later := coming("Mainquay", true); later <= today {
		t.Errorf("Mainquay as public: %d today, %d later", today, later)
	}
	if f, err := s.Forecast(t.Context(), 0, "", false); err != nil || len(f.Weeks) != usualWeeks {
		t.Errorf("usually %d weeks, %v", len(f.Weeks), err)
	}
	for _, weeks := range []int{-1, due.MostWeeks + 1} {
		if _, err := s.Forecast(t.Context(), weeks, "", false); !invalid(err) {
			t.Errorf("%d weeks: %v", weeks, err)
		}
	}
	h.took = nil
	if f, _ := s.Forecast(t.Context(), 10, "", false); f.Years[0].HoursToday != tenth(3*guessed/60/10) {
		t.Errorf("where nothing was done yet: %+v", f.Years)
	}
}

func TestSheetsSayWhatWasThenAndWhatWasAllowed(t *testing.T) {
	s, h := room(t)
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.example")
	h.certificates["leaf"] = leaf.Certificate
	h.at = testkit.Now
	row := func(id int64, device, site string, condition due.Condition, chain ...string) store.StateThen {
		r := store.StateThen{SlotID: id, Device: device, Slot: "web", Site: site, Condition: condition}
		r.Chain.V = chain
		return r
	}
	h.then = []store.StateThen{row(1, "gate", "Mainquay", due.Due, "leaf"), row(2, "winch", "Petrel", "", "leaf"),
		row(3, "lamp", "Petrel", "")}
	h.sealed = []store.Sealed{{ID: 7, Device: "gate", Slot: "web", AskedBy: "gull"},
		{ID: 8, Device: "winch", ApprovedBy: "tern"}}
	sheetOf := func(ask contract.AskReport) (string, [][]string) {
		t.Helper()
		f, err := s.Report(t.Context(), ask)
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(f.Content), "\ufeff"))).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		return f.Name, rows
	}
	column := func(rows [][]string, name string) (out []string) {
		at := slices.Index(rows[0], name)
		for _, r := range rows[1:] {
			out = append(out, r[at])
		}
		return out
	}
	today := h.at.Format(time.DateOnly)
	name, rows := sheetOf(contract.AskReport{Kind: "state"})
	if name != "state-"+today+".csv" ||
		!slices.Equal(column(rows, "condition"), []string{"due", "fresh", "unreachable"}) {
		t.Errorf("%s: %q", name, rows)
	}
	left := column(rows, "days_left")
	if want := fmt.Sprint(int(leaf.NotAfter.Sub(h.at.Truncate(24*time.Hour).AddDate(0, 0,
		1)).Hours() / 24)); left[0] != want || left[2] != "" {
		t.Errorf("days left: %q instead of %s", left, want)
	}
	if _, rows := sheetOf(contract.AskReport{Kind: "state", Site: "Petrel"}); !slices.Equal(column(rows, "device"),
		[]string{"winch", "lamp"}) {
		t.Errorf("of a site: %q", rows)
	}
	h.asked = nil
	if _, rows := sheetOf(contract.AskReport{Kind: "replaced", From: "2026-05-01", Until: "2026-05-31",
		Site: "Petrel"}); !slices.Equal(
		column(rows, "replacement"), []string{"r7", "r8"}) ||
		!slices.Equal(column(rows, "approved_by"), []string{"not required", "tern"}) {
		t.Errorf("%q", rows)
	}
	sheetOf(contract.AskReport{Kind: "replaced", Until: "2026-05-31"})
	if want := []string{"sealed 2026-05-01 00:00:00 to 2026-06-01 00:00:00 Petrel",
		"sealed 2026-05-01 00:00:00 to 2026-06-01 00:00:00"}; !slices.Equal(h.asked, want) {
		t.Errorf("%q", h.asked)
	}
	_, rows = sheetOf(contract.AskReport{Kind: "exceptions"})
	if !slices.Equal(column(rows, "what"), []string{"acknowledged", "acknowledged", "weak keys allowed",
		"site paused"}) ||
		!slices.Equal(column(rows, "site"), []string{"Petrel", "", "Petrel", "Petrel"}) {
		t.Errorf("%q", rows)
	}
	if _, rows := sheetOf(contract.AskReport{Kind: "exceptions", Site: "Mainquay"}); len(rows) != 1 {
		t.Errorf("of a site without any: %q", rows)
	}
	for _, ask := range []contract.AskReport{{Kind: "weather"}, {Kind: "state", Day: "yesterday"},
		{Kind: "replaced", From: "x"}, {Kind: "replaced", Until: "2026-02-30"},
		{Kind: "replaced", From: "2026-06-02", Until: "2026-06-01"}} {
		if _, err := s.Report(t.Context(), ask); !invalid(err) {
			t.Errorf("%+v: %v", ask, err)
		}
	}
	if _, err := s.Report(t.Context(), contract.AskReport{Kind: "replaced", From: "2026-06-01",
		Until: "2026-06-01"}); err != nil {
		t.Errorf("a single day: %v", err)
	}
}
