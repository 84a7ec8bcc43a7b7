package access

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/calendar"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// The ways into a site.
const (
	wayDirect = "direct"
	wayJump   = "jump"
	waySocks  = "socks"
)

// AddSite adds a site. It applies to the devices that name it from now on.
func (s *Sites) AddSite(ctx context.Context, n contract.NewSite) (contract.Site, error) {
	cannot := "the site cannot be added"
	if n.Port == 0 {
		n.Port = map[string]int{wayJump: 22, waySocks: 1080}[n.Way]
	}
	row := store.Site{Name: n.Name, Way: n.Way, Address: n.Address, Port: n.Port, User: n.User, Pin: hostKeyOf(n.Pin),
		MostLinks: n.MostLinks, Behind: n.Behind, Paused: n.Paused, Holidays: n.Holidays, AddedAt: s.moment()}
	row.Subject.V, row.Presence.V = n.Subject, append([]string{}, n.Presence...)
	if err := s.checkSite(ctx, cannot, row); err != nil {
		return contract.Site{}, err
	}
	if n.Way == wayJump {
		if err := checkCredential((contract.CredentialChange{User: n.User, Secrets: n.Secrets}), cannot); err != nil {
			return contract.Site{}, err
		}
		if err := checkHostKey(cannot, hostKeyOf(n.Pin)); err != nil {
			return contract.Site{}, err
		}
	}
	err := s.store.Sites.Add(ctx, row, s.seal("site/"+n.Name, n.Secrets))
	s.sites.changed()
	if errors.Is(err, store.ErrTaken) {
		return contract.Site{}, problem.New(problem.Conflict, cannot, n.Name+" already exists",
			"change that one, or choose another name", next.ChangeSite.On(n.Name))
	}
	if err == nil && (row.Holidays != "" || len(row.Presence.V) > 0) {
		err = s.timesChanged(ctx)
	}
	return s.showSite(row), err
}

func (s *Sites) checkSite(ctx context.Context, cannot string, n store.Site) error {
	switch {
	case n.Name == "" || len(n.Name) > 64 || strings.ContainsFunc(n.Name, func(r rune) bool {
		return r < ' ' || r == 0x7f
	}):
		return problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", n.Name), "give up to 64 printable "+
			"characters")
	case n.Way != wayDirect && n.Way != wayJump && n.Way != waySocks:
		return problem.Reject(cannot, fmt.Sprintf("%q is not a way", n.Way), "give direct, jump or socks")
	case n.Way != wayDirect && (request.AddressFlaw(n.Address) != "" || n.Port < 1 || n.Port > 65535):
		return problem.Reject(cannot, fmt.Sprintf("%q and %d are not an address and a port", n.Address, n.Port),
			"give those of the jump host or the proxy")
	case n.MostLinks < 0 || n.MostLinks > 1000:
		return problem.Reject(cannot, fmt.Sprintf("%d is not a valid number of links", n.MostLinks),
			"give one from 1 to 1000, or 0 for no limit")
	}
	if len(n.Presence.V) > mostPresence {
		return problem.Reject(cannot, fmt.Sprintf("it has more than %d windows", mostPresence), "join some of them")
	}
	if _, err := window.ParseAll(n.Presence.V); err != nil {
		return problem.Reject(cannot, "a window cannot be read: "+err.Error(), "write it as "+
			"DTSTART;TZID=Europe/Oslo:20261201T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H",
			next.Give.On("presence"))
	}
	if n.Holidays != "" {
		if _, err := calendar.Holidays(n.Holidays, s.clock(), s.clock().AddDate(holidayYears, 0, 0)); err != nil {
			return problem.Reject(cannot, "the calendar of holidays cannot be used: "+err.Error(),
				"give an iCalendar file (.ics) with all-day events", next.Give.On("holidays"))
		}
	}
	if wrong := n.Subject.V.Check(); len(wrong) > 0 {
		return problem.Reject(cannot, wrong[0].What, wrong[0].Remedy)
	}
	return s.checkBehind(ctx, cannot, n)
}

// holidayYears is how many years of holidays are counted with.
const holidayYears = 11

// mostPresence is how many windows a site may have.
const mostPresence = 50

// mostBehind is how many jump hosts may stand in a row.
const mostBehind = 4

// checkBehind checks that the way to a site begins somewhere.
func (s *Sites) checkBehind(ctx context.Context, cannot string, n store.Site) error {
	if n.Behind != "" && n.Way == wayDirect {
		return problem.Reject(cannot, "a site that is reached directly cannot be behind another site",
			"give it a jump host or a proxy, or no site before it")
	}
	before := n.Behind
	for row := 1; before != ""; row++ {
		if before == n.Name {
			return problem.Reject(cannot, "it would be reached through itself", "name another site")
		}
		if row >= mostBehind {
			return problem.Reject(cannot, fmt.Sprintf("more than %d jump hosts would stand in a row", mostBehind),
				"find a shorter way")
		}
		site, err := s.store.Sites.Get(ctx, before)
		if err != nil {
			return noSite(err, before)
		}
		before = site.Behind
	}
	return nil
}

// EditSite changes a site. Links that are open stay as they are.
func (s *Sites) EditSite(ctx context.Context, name string, c contract.SiteChange,
	known problem.Revision) (contract.Site, error) {
	row, err := s.store.Sites.NamedSite(ctx, name)
	if err != nil {
		return contract.Site{}, noSite(err, name)
	}
	was := row
	if row.Implied {
		row.AddedAt = s.moment()
	}
	set(&row.Way, c.Way)
	set(&row.Address, c.Address)
	set(&row.Port, c.Port)
	set(&row.User, c.User)
	set(&row.Pin, c.Pin)
	row.Pin = hostKeyOf(row.Pin)
	set(&row.Subject.V, c.Subject)
	set(&row.MostLinks, c.MostLinks)
	set(&row.Behind, c.Behind)
	set(&row.Paused, c.Paused)
	set(&row.Holidays, c.Holidays)
	if c.Presence != nil {
		row.Presence.V = slices.DeleteFunc(c.Presence, func(text string) bool { return strings.TrimSpace(text) == "" })
	}
	cannot := name + " cannot be changed"
	if err := s.checkSite(ctx, cannot, row); err != nil {
		return contract.Site{}, err
	}
	var secrets map[string][]byte
	if c.Password != nil {
		secrets = s.seal("site/"+name, contract.Secrets{Password: *c.Password})
	}
	if row.Way == wayJump && len(secrets) == 0 && (was.Address != row.Address || was.Port != row.Port ||
		was.Pin != row.Pin) {
		return contract.Site{}, problem.Reject(cannot, "its password was given for another address, port or host key",
			"give the password again", next.Give.On("password"))
	}
	if row.Way == wayJump {
		if err := checkHostKey(cannot, row.Pin); err != nil {
			return contract.Site{}, err
		}
	}
	if err := s.store.Sites.Change(ctx, row, secrets, known); errors.Is(err, store.ErrTaken) {
		return contract.Site{}, problem.New(problem.Conflict, cannot, "somebody else set it just now",
			"look at it, and try again", next.ChangeSite.On(name))
	} else if err != nil {
		return contract.Site{}, noSite(problem.Outdated(err), name)
	}
	s.sites.changed()
	s.ways.forget(name)
	if was.Holidays != row.Holidays || !slices.Equal(was.Presence.V, row.Presence.V) {
		if err := s.timesChanged(ctx); err != nil {
			return contract.Site{}, err
		}
	}
	after, err := s.Site(ctx, name)
	audit.Differences(ctx, siteFacts(s.showSite(was)), siteFacts(after))
	if len(secrets) > 0 {
		audit.Say(ctx, "a new password")
	}
	return after, err
}

func noSite(err error, name string) error {
	return problem.Missing(err, next.ListSites, "no site is called %q", name)
}

// Site shows one site.
func (s *Sites) Site(ctx context.Context, name string) (contract.Site, error) {
	row, err := s.store.Sites.NamedSite(ctx, name)
	return s.showSite(row), noSite(err, name)
}

func (s *Sites) showSite(row store.Site) contract.Site {
	windows, _ := window.ParseAll(row.Presence.V) // they were checked when they were given
	today := s.clock().UTC().Truncate(24 * time.Hour)
	return contract.Site{Holidays: s.holidays(row, today, today.AddDate(1, 0, 0)), Name: row.Name, Way: row.Way,
		Address: row.Address, Port: row.Port, User: row.User, Pin: row.Pin, Subject: row.Subject.V,
		MostLinks: row.MostLinks, Behind: row.Behind,
		Paused: row.Paused, Presence: append([]string{}, row.Presence.V...), Away: away(windows, s.clock()),
		Implied: row.Implied, Revision: row.Revision}
}

// holidays returns those of a site in a period; they were checked when they were given.
func (s *Service) holidays(row store.Site, from, until time.Time) []calendar.Holiday {
	out := []calendar.Holiday{}
	if row.Holidays == "" {
		return out
	}
	days, err := calendar.Holidays(row.Holidays, from, until)
	if err != nil {
		return out
	}
	return append(out, days...)
}

// Times returns those of the sites that have windows or holidays, by name.
func (s *Service) Times(ctx context.Context) (map[string]policy.Times, error) {
	rows, err := s.store.Sites.List(ctx)
	out := map[string]policy.Times{}
	from := s.clock().AddDate(-1, 0, 0)
	for _, row := range rows {
		var t policy.Times
		t.Windows, _ = window.ParseAll(row.Presence.V)
		for _, day := range s.holidays(row, from, from.AddDate(holidayYears+1, 0, 0)) {
			if t.Holidays == nil {
				t.Holidays = due.Days{}
			}
			t.Holidays[day.Date] = true
		}
		if len(t.Windows) > 0 || t.Holidays != nil {
			out[row.Name] = t
		}
	}
	return out, err
}

// away reports whether a moment is outside all windows of a site that has some.
func away(windows window.Windows, at time.Time) bool { return len(windows) > 0 && !windows.Holds(at) }

// Away reports whether a site cannot be expected to be reached at a moment: what is unreachable there is
// no alarm.
func (s *Service) Away(ctx context.Context, name string, at time.Time) bool {
	found, err := s.lookUp(ctx, name)
	return err == nil && away(found.windows, at)
}

// Resting returns the sites whose slots are not read by themselves at a moment: those that are paused,
// and those that cannot be reached.
func (s *Service) Resting(ctx context.Context, at time.Time) ([]string, error) {
	rows, err := s.store.Sites.List(ctx)
	var out []string
	for _, row := range rows {
		if row.Paused || s.Away(ctx, row.Name, at) {
			out = append(out, row.Name)
		}
	}
	return out, err
}

// siteFacts returns what people say of a site, for the audit log.
func siteFacts(s contract.Site) map[string]string {
	return map[string]string{"way": s.Way, "at": net.JoinHostPort(s.Address, strconv.Itoa(s.Port)), "user": s.User,
		"pin": s.Pin, "subject": s.Subject.String(), "links": strconv.Itoa(s.MostLinks), "behind": s.Behind,
		"paused": strconv.FormatBool(s.Paused), "presence": strings.Join(s.Presence, "; "),
		"holidays in a year": strconv.Itoa(len(s.Holidays))}
}

// Sites returns all sites by name, those included that only devices name.
func (s *Sites) Sites(ctx context.Context) ([]contract.Site, error) {
	rows, err := s.store.Sites.NamedSites(ctx)
	out := make([]contract.Site, 0, len(rows))
	for _, row := range rows {
		out = append(out, s.showSite(row))
	}
	return out, err
}

// RemoveSite deletes a site; its devices are reached directly from then on.
func (s *Sites) RemoveSite(ctx context.Context, name string) error {
	all, err := s.store.Sites.List(ctx)
	if err != nil {
		return err
	}
	for _, other := range all {
		if other.Behind == name {
			return problem.New(problem.Conflict, name+" was not removed", other.Name+" is reached through it",
				"give that site another way first", next.ChangeSite.On(other.Name))
		}
	}
	err = s.store.Sites.Remove(ctx, name, purposes("site/"+name)...)
	s.sites.changed()
	s.ways.forget(name)
	if err == nil {
		err = s.timesChanged(ctx)
	}
	return noSite(err, name)
}

func set[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

// sites are the sites that were looked up, so that a reading looks up nothing. Those that
// do not exist are remembered as well.
type sites struct {
	lock  sync.Mutex
	known map[string]knownSite
}

type knownSite struct {
	store.Site
	windows window.Windows
	err     error
}

// site finds a site by its name, or store.ErrNotFound.
func (s *Service) site(ctx context.Context, name string) (store.Site, error) {
	found, err := s.lookUp(ctx, name)
	return found.Site, err
}

func (s *Service) lookUp(ctx context.Context, name string) (knownSite, error) {
	s.sites.lock.Lock()
	defer s.sites.lock.Unlock()
	if found, ok := s.sites.known[name]; ok {
		return found, found.err
	}
	row, err := s.store.Sites.Get(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return knownSite{Site: row}, err
	}
	if s.sites.known == nil {
		s.sites.known = map[string]knownSite{}
	}
	windows, _ := window.ParseAll(row.Presence.V) // they were checked when they were given
	found := knownSite{row, windows, err}
	s.sites.known[name] = found
	return found, err
}

// changed deletes what was looked up, once a change is kept.
func (s *sites) changed() {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.known = nil
}
