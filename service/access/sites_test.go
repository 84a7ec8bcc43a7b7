package access_test

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/standin"
	"freshseal/store"
	"freshseal/store/faulty"
	"freshseal/strongbox"
	"freshseal/wire"
)

// quay is the room with a dialer that notes whom it reaches.
type quay struct {
	*access.Service
	db     *store.Store
	disk   *faulty.Disk
	dialed []string
}

func newQuay(t *testing.T) *quay {
	t.Helper()
	q := &quay{}
	q.db, q.disk = faulty.Open(t)
	box, err := strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key"))
	if err != nil {
		t.Fatal(err)
	}
	q.Service = access.New(q.db, box, func(ctx context.Context, network, address string) (net.Conn, error) {
		q.dialed = append(q.dialed, address)
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}, func() time.Time { return testkit.Now })
	t.Cleanup(q.Close)
	return q
}

// echo answers every connection with what it is sent.
func echo(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer conn.Close(); io.Copy(conn, conn) }()
		}
	}()
	return l.Addr().String()
}

// says reports whether what is sent through a connection comes back.
func says(t *testing.T, conn net.Conn, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	answer := make([]byte, 5)
	if _, err := conn.Write([]byte("ahoy!")); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(conn, answer); err != nil || string(answer) != "ahoy!" {
		t.Errorf("%q, %v", answer, err)
	}
}

// jumpHost is a box that lets connections through.
func jumpHost(t *testing.T) *standin.Running {
	t.Helper()
	box, err := standin.Start(standin.Box{Dir: t.TempDir(), User: "keeper", Password: "correct horse",
		Address: "127.0.0.1",
		Forward: func(address string) (net.Conn, error) { return net.Dial("tcp", address) }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

func port(t *testing.T, address string) int {
	t.Helper()
	at, err := net.ResolveTCPAddr("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	return at.Port
}

func (q *quay) add(t *testing.T, n contract.NewSite) {
	t.Helper()
	if _, err := q.Sites.AddSite(t.Context(), n); err != nil {
		t.Fatal(err)
	}
}

// The ways into sites: directly, through a jump host, through a proxy, and through both in a row.
func TestTheWaysIntoSites(t *testing.T) {
	q := newQuay(t)
	behind := echo(t)
	dial := func(site string) (net.Conn, error) { return q.Way(site)(t.Context(), "tcp", behind) }
	conn, err := dial("of no record")
	says(t, conn, err)
	q.add(t, contract.NewSite{Name: "Mainquay", Way: "direct"})
	conn, err = dial("Mainquay")
	says(t, conn, err)
	box := jumpHost(t)
	jump := contract.NewSite{Name: "Saltmere", Way: "jump", Address: "127.0.0.1", Port: port(t, box.SSHAddr),
		User: "keeper",
		Pin:  box.HostKey(), Secrets: contract.Secrets{Password: "correct horse"}}
	q.add(t, jump)
	for range 2 { // the second goes over the link of the first
		conn, err = dial("Saltmere")
		says(t, conn, err)
	}
	if n := len(slices.DeleteFunc(slices.Clone(q.dialed), func(a string) bool { return a != box.SSHAddr })); n != 1 {
		t.Errorf("the jump host was dialled %d times", n)
	}
	box.Drop() // the link is lost, and made again
	conn, err = dial("Saltmere")
	says(t, conn, err)
	socks, err := standin.StartSocks("127.0.0.1", 0, func(address string) (net.Conn, error) {
		return net.Dial("tcp", address)
	})
	if err != nil {
		t.Fatal(err)
	}
	defer socks.Close()
	q.add(t, contract.NewSite{Name: "Petrel", Way: "socks", Address: "127.0.0.1", Port: port(t, socks.Addr),
		Behind: "Saltmere"})
	conn, err = dial("Petrel")
	says(t, conn, err)
	if slices.Contains(q.dialed[1:], socks.Addr) {
		t.Error("the proxy behind the jump host was dialled directly")
	}
	if _, err := q.Way("Petrel")(t.Context(), "udp", behind); err == nil || !strings.Contains(err.Error(), "UDP") {
		t.Errorf("UDP: %v", err)
	}
	wrong := jump
	wrong.Name, wrong.Secrets.Password = "Turnstone", "wrong"
	q.add(t, wrong)
	if _, err = dial("Turnstone"); err == nil || !strings.Contains(err.Error(), "through the jump host of Turnstone") {
		t.Errorf("with a wrong password: %v", err)
	}
	another := jump
	another.Name, another.Pin = "Sanderling", pin
	q.add(t, another)
	if _, err = dial("Sanderling"); err == nil || !strings.Contains(err.Error(), "host key") {
		t.Errorf("with another host key: %v", err)
	}
}

// What a site must be is said before it is kept; a way that leads to itself is none.
func TestWhatASiteMustBe(t *testing.T) {
	q := newQuay(t)
	jump := contract.NewSite{Name: "Saltmere", Way: "jump", Address: "192.0.2.1", User: "keeper", Pin: pin,
		Secrets: contract.Secrets{Password: "x"}}
	with := func(change func(*contract.NewSite)) contract.NewSite { n := jump; change(&n); return n }
	for why, n := range map[string]contract.NewSite{
		"is not a valid name":       with(func(n *contract.NewSite) { n.Name = "" }),
		"is not a way":              with(func(n *contract.NewSite) { n.Way = "tunnel" }),
		"not an address and a port": with(func(n *contract.NewSite) { n.Address = "two words" }),
		"not a valid number":        with(func(n *contract.NewSite) { n.MostLinks = 5000 }),
		"a window cannot be read":   with(func(n *contract.NewSite) { n.Presence = []string{"on Tuesdays"} }),
		"calendar of holidays":      with(func(n *contract.NewSite) { n.Holidays = "Christmas" }),
		"cannot be behind another":  {Name: "Northholm", Way: "direct", Behind: "Saltmere"},
		"reached through itself":    with(func(n *contract.NewSite) { n.Behind = "Saltmere" }),
		"no site is called":         with(func(n *contract.NewSite) { n.Behind = "Atlantis" }),
		"host key":                  with(func(n *contract.NewSite) { n.Pin = "" }),
		"user":                      with(func(n *contract.NewSite) { n.User = "" }),
		"more than 50 windows":      with(func(n *contract.NewSite) { n.Presence = slices.Repeat([]string{"x"}, 51) }),
		"neither a password nor":    with(func(n *contract.NewSite) { n.Password = "" }),
		"two letters":               with(func(n *contract.NewSite) { n.Subject.Country = "Norway" }),
	} {
		if s, err := q.Sites.AddSite(t.Context(), n); err == nil {
			t.Errorf("%s: it was added: %+v", why, s)
		} else if kindOf(err) == "" {
			t.Errorf("%s: %v", why, err)
		}
	}
	q.add(t, jump)
	if _, err := q.Sites.AddSite(t.Context(), jump); kindOf(err) != problem.Conflict {
		t.Errorf("twice: %v", err)
	}
	for i, name := range []string{"a", "b", "c"} {
		q.add(t, with(func(n *contract.NewSite) { n.Name, n.Behind = name, []string{"Saltmere", "a", "b"}[i] }))
	}
	if _, err := q.Sites.AddSite(t.Context(),
		with(func(n *contract.NewSite) { n.Name, n.Behind = "d", "c" })); err == nil {
		t.Error("five jump hosts stand in a row")
	}
	c := "c"
	if _, err := q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Behind: &c}, store.Any); err == nil {
		t.Error("a way leads around")
	}
}

const christmas = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\n" +
	"DTSTAMP:20260101T000000Z\r\n" +
	"DTSTART;VALUE=DATE:20261225\r\nDTEND;VALUE=DATE:20261227\r\nSUMMARY:Christmas\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

func TestASiteIsChangedAndRemoved(t *testing.T) {
	q := newQuay(t)
	told := 0
	q.OnTimes(func(context.Context) error { told++; return nil })
	q.add(t, contract.NewSite{Name: "Saltmere", Way: "jump", Address: "192.0.2.1", User: "keeper", Pin: pin,
		Secrets: contract.Secrets{Password: "x"}, Holidays: christmas})
	yes, nobody, address := true, "", "192.0.2.9"
	s, err := q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Paused: &yes}, store.Any)
	if err != nil || !s.Paused {
		t.Errorf("%+v, %v", s, err)
	}
	// a stored password is never sent to another address unseen
	if _, err := q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Address: &address},
		store.Any); err == nil {
		t.Error("the stored secret goes to another address")
	}
	word := "another word"
	if s, err = q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Address: &address, Password: &word,
		Pin: text(pin)},
		store.Any); err != nil || s.Address != address {
		t.Errorf("with the password: %+v, %v", s, err)
	}
	if s, err = q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Holidays: &nobody,
		Presence: []string{"DTSTART;TZID=Europe/Oslo:20261201T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H"}},
		store.Any); err != nil || len(s.Presence) != 1 {
		t.Errorf("%+v, %v", s, err)
	}
	if told != 2 {
		t.Errorf("those who count with its times were told %d times", told)
	}
	if _, err = q.Sites.EditSite(t.Context(), "Saltmere", contract.SiteChange{Paused: &yes},
		1); kindOf(err) != problem.Stale {
		t.Errorf("of an older revision: %v", err)
	}
	times, err := q.Sites.Times(t.Context())
	if err != nil || len(times) == 0 {
		t.Errorf("%+v, %v", times, err)
	}
	all, err := q.Sites.Sites(t.Context())
	if err != nil || len(all) != 1 || all[0].Name != "Saltmere" {
		t.Errorf("%+v, %v", all, err)
	}
	if err := q.Sites.RemoveSite(t.Context(), "Saltmere"); err != nil {
		t.Fatal(err)
	}
	if err := q.Sites.RemoveSite(t.Context(), "Saltmere"); kindOf(err) != problem.NotFound {
		t.Errorf("twice: %v", err)
	}
	if _, err := q.Sites.Site(t.Context(), "Saltmere"); kindOf(err) != problem.NotFound {
		t.Errorf("it is shown: %v", err)
	}
}

// No more links go into a site at once than it may have, readings and work counted apart.
func TestAFullSiteLetsNobodyIn(t *testing.T) {
	q := newQuay(t)
	q.add(t, contract.NewSite{Name: "Mainquay", Way: "direct", MostLinks: 1})
	readings := access.Readings{Service: q.Service}
	leave, ok := readings.Try(t.Context(), "Mainquay")
	if !ok {
		t.Fatal("nobody is there")
	}
	if _, ok := readings.Try(t.Context(), "Mainquay"); ok {
		t.Error("two read at once")
	}
	work, err := q.Enter(t.Context(), "link", "Mainquay")
	if err != nil {
		t.Fatal("work waits for readings")
	}
	work()
	waiting, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := readings.Enter(waiting, "Mainquay"); err == nil {
		t.Error("it does not wait")
	}
	leave()
	if again, err := readings.Enter(t.Context(), "Mainquay"); err != nil {
		t.Error(err)
	} else {
		again()
	}
}

// Host keys and certificates are asked for before anything secret is sent.
func TestPinsAreAskedFor(t *testing.T) {
	q := newQuay(t)
	box := jumpHost(t)
	if got, err := q.AskPin(t.Context(), "ssh", "", "127.0.0.1", port(t, box.SSHAddr)); err != nil ||
		got != box.HostKey() {
		t.Errorf("%q, %v", got, err)
	}
	for _, link := range []string{"ssh", "https"} {
		if got, err := q.AskPin(t.Context(), link, "", "127.0.0.1", port(t, echo(t))); kindOf(err) != problem.Outside {
			t.Errorf("%s: %q, %v", link, got, err)
		}
	}
}

// A shared credential is replaced everywhere at once, and cannot be removed while it is used.
func TestASharedCredential(t *testing.T) {
	q := newQuay(t)
	change := contract.CredentialChange{User: "keeper", Secrets: contract.Secrets{Password: "x"}}
	if _, err := q.AddCredential(t.Context(),
		contract.NewCredential{Name: "keepers", CredentialChange: change}); err != nil {
		t.Fatal(err)
	}
	if _, err := q.AddCredential(t.Context(),
		contract.NewCredential{Name: "keepers", CredentialChange: change}); kindOf(err) != problem.Conflict {
		t.Errorf("twice: %v", err)
	}
	change.User = "warden"
	if c, err := q.ReplaceCredential(t.Context(), "keepers", change, store.Any); err != nil || c.User != "warden" {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := q.ReplaceCredential(t.Context(), "others", change, store.Any); kindOf(err) != problem.NotFound {
		t.Errorf("of nobody: %v", err)
	}
	if all, err := q.Credentials(t.Context()); err != nil || len(all) != 1 {
		t.Errorf("%d, %v", len(all), err)
	}
	if err := q.RemoveCredential(t.Context(), "keepers"); err != nil {
		t.Error(err)
	}
	if err := q.RemoveCredential(t.Context(), "keepers"); kindOf(err) != problem.NotFound {
		t.Errorf("twice: %v", err)
	}
}

func kindOf(err error) problem.Kind {
	var p *problem.Error
	if errors.As(err, &p) {
		return p.Kind
	}
	return ""
}

// What no connection may go to is not reached through a jump host or a proxy either, by whatever name; a name that
// cannot be resolved here is not asked for there.
func TestForbiddenAddressesAreNotReachedThroughOthers(t *testing.T) {
	q := newQuay(t)
	behind := echo(t)
	_, number, _ := net.SplitHostPort(behind)
	guard := wire.Guard{Never: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	box := jumpHost(t)
	asked := 0
	socks, err := standin.StartSocks("127.0.0.1", 0, func(string) (net.Conn, error) {
		asked++
		return net.Dial("tcp", behind)
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { socks.Close() })
	q.add(t, contract.NewSite{Name: "Saltmere", Way: "jump", Address: "127.0.0.1", Port: port(t, box.SSHAddr),
		User: "keeper", Pin: box.HostKey(), Secrets: contract.Secrets{Password: "correct horse"}})
	q.add(t, contract.NewSite{Name: "Petrel", Way: "socks", Address: "127.0.0.1", Port: port(t, socks.Addr)})
	for _, site := range []string{"Saltmere", "Petrel"} {
		conn, err := q.Way(site)(t.Context(), "tcp", behind)
		says(t, conn, err) // nothing is forbidden yet
	}
	q.Forbid(guard.Refuses)
	before := asked
	for _, site := range []string{"Saltmere", "Petrel"} {
		for _, host := range []string{"127.0.0.1", "::ffff:127.0.0.1", "64:ff9b::127.0.0.1", "localhost",
			"nowhere.invalid"} {
			conn, err := q.Way(site)(t.Context(), "tcp", net.JoinHostPort(host, number))
			if err == nil {
				conn.Close()
				t.Errorf("%s is reached through %s", host, site)
			}
		}
	}
	if asked != before {
		t.Errorf("the proxy was asked %d times", asked-before)
	}
	q.Forbid(wire.Guard{Never: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}.Refuses)
	conn, err := q.Way("Petrel")(t.Context(), "tcp", net.JoinHostPort("localhost", number))
	says(t, conn, err)
}
