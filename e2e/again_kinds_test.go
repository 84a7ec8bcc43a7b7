package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/standin/kinds/site"
)

// renewal is a built-in family whose boxes are replaced again and again.
type renewal struct {
	family string
	kind   standin.Kind
	agree  []string // flags that its replacements need
	signs  bool     // the device, or its manager, signs itself
	start  func(*testing.T, standin.Box) (box *standin.Running, add func(s *server, name, family string))
	leaf   func(*testing.T, *standin.Running) []byte // nil: what its web port serves
	faults []standin.Fault                           // nil: all that its kind knows
}

// oneWay reports whether the family has no way back.
func (r renewal) oneWay() bool { return slices.Contains(r.agree, "--one-way") }

// asks returns the flags with which a replacement of this family is asked for.
func (r renewal) asks() []string {
	if r.signs {
		return r.agree
	}
	return append([]string{"--signer", "bench"}, r.agree...)
}

// meetsFaults returns the faults that the boxes of this family meet.
func (r renewal) meetsFaults() []standin.Fault {
	if r.faults != nil {
		return r.faults
	}
	return standin.FaultsOf(r.kind)
}

// oneWays are the families that have no way back: their managers, or they themselves, keep no earlier key. What is
// faulty is the manager, what serves is the host.
func oneWays() []renewal {
	under := func(b standin.Box, t *testing.T) (standin.Box, *standin.Running) {
		host := kindAt(t, standin.Box{}, "127.20.81.1", 0)
		b.Hosts = func(string) *standin.Running { return host }
		return b, host
	}
	add := func(s *server, name, family, link, user, password, pin string, host *standin.Running) {
		at, port, _ := net.SplitHostPort(link)
		address, slot, _ := net.SplitHostPort(host.TLSAddr)
		s.okWith(password, "device", "add", name, "--address", address, "--slot", "web="+slot, "--family", family,
			"--setting", "host="+name,
			"--link-address", at, "--port", port, "--user", user, "--password-file", "-", "--pin", pin)
	}
	hostsLeaf := func(t *testing.T, box *standin.Running) []byte { return leafAt(t, box.Hosts("").TLSAddr) }
	return []renewal{
		{family: "host-under-manager", kind: standin.MenuManager, agree: []string{"--one-way"}, signs: true,
			leaf: hostsLeaf, faults: []standin.Fault{
				{Name: "refuses", Faults: standin.Faults{FailTest: true}},
				{Name: "keeps-serving", Faults: standin.Faults{KeepServing: true}},
				{Name: "signed-by-another", Faults: standin.Faults{RollBack: true}},
				{Name: "silent", Faults: standin.Faults{Silent: true}},
			}, start: func(t *testing.T, b standin.Box) (*standin.Running, func(*server, string, string)) {
				b, host := under(b, t)
				box := kind(t, b)
				return box, func(s *server, name, family string) {
					add(s, name, family, box.SSHAddr, box.User, box.Password, box.HostKey(), host)
				}
			}},
		{family: "host-by-manager-api", kind: standin.HostManager, agree: []string{"--one-way"}, signs: true,
			leaf: hostsLeaf, start: func(t *testing.T, b standin.Box) (*standin.Running,
				func(*server, string, string)) {
				b, host := under(b, t)
				box := webKind(t, b)
				pin := sha256.Sum256(leafAt(t, box.TLSAddr))
				return box, func(s *server, name, family string) {
					add(s, name, family, box.TLSAddr, box.WebUser, box.WebPassword, hex.EncodeToString(pin[:]), host)
				}
			}},
		{family: "board-by-redfish", kind: standin.ServerBoard, agree: []string{"--one-way"}, start: overWeb,
			leaf: leafOf},
	}
}

// overSSH starts a box that is worked on over SSH.
func overSSH(settings func(*standin.Running) []string) func(*testing.T, standin.Box) (*standin.Running, func(*server,
	string, string)) {
	return func(t *testing.T, b standin.Box) (*standin.Running, func(*server, string, string)) {
		box := kind(t, b)
		return box, func(s *server, name, family string) {
			more := []string{}
			if settings != nil {
				more = settings(box)
			}
			s.addKind(name, family, box, more...)
		}
	}
}

// overWeb starts a box that is worked on over its web interface.
func overWeb(t *testing.T, b standin.Box) (*standin.Running, func(*server, string, string)) {
	box, more := webBox(t, b)
	return box, func(s *server, name, family string) { s.addWeb(name, family, box, more...) }
}

// renewals are all built-in families that have a way back, and the families of the examples. The one that a person
// works by hand and Fresh Seal's own are not among them.
func renewals() []renewal {
	setting := func(name string) func(*standin.Running) []string {
		return func(box *standin.Running) []string { return []string{"--setting", name + "=" + box.Secret} }
	}
	all := []renewal{
		{family: "manager-by-menu", kind: standin.MenuManager, start: overSSH(setting("menu_password"))},
		{family: "network-gear", kind: standin.NetworkGear, start: overSSH(setting("secret_word"))},
		{family: "bare-host", kind: standin.BareHost, start: overSSH(nil)},
		{family: "plant-controller", kind: standin.PlantRoom, start: overSSH(nil)},
		{family: "server-to-be-stopped", kind: standin.StopServer, start: overSSH(nil)},
		{family: "collector", kind: standin.Collector, start: overSSH(nil)},
		{family: "staged-by-menu", kind: standin.StagedVault, start: overSSH(nil)},
		{family: "dashboard-of-nodes", kind: standin.Dashboard, start: overSSH(nil)},
		{family: "web-files-ssh", start: overSSH(nil)},
		{family: "web-files-given-ssh", start: overSSH(nil)},
		{family: "web-site-ssh", kind: standin.SiteServer, start: overSSH(func(*standin.Running) []string {
			more := []string{}
			for name, value := range site.SiteSettings {
				more = append(more, "--setting", name+"="+value)
			}
			return more
		})},
		{family: "router-by-netconf", kind: standin.Router,
			start: func(t *testing.T, b standin.Box) (*standin.Running, func(*server, string, string)) {
				box := kind(t, b)
				return box, func(s *server, name, family string) { s.addRouter(name, family, box) }
			}},
	}
	// Boxes that no built-in family is for are taught by examples of the documents.
	all = append(all, renewal{family: "tide-gauge", kind: standin.TideGauge, start: overSSH(nil)},
		renewal{family: "signal-mast", kind: standin.SignalMast, start: overSSH(func(box *standin.Running) []string {
			return []string{"--setting", "page=" + box.TLSAddr}
		})},
		renewal{family: "ticket-office", kind: standin.TicketOffice, start: overWeb, leaf: leafOf})
	for family, kind := range map[string]standin.Kind{
		"voice-manager": standin.VoiceManager, "conference-bridge": standin.ConferenceBridge,
		"wireless-manager": standin.WirelessManager, "host-with-page": standin.HostWithPage,
		"sign-on-server": standin.SignOnServer, "encryption-appliance": standin.EncryptionAppliance,
		"load-balancer": standin.LoadBalancer, "traversal-peer": standin.TraversalPeer,
		"building-controller": standin.BuildingController, "access-control-pair": standin.AccessServer,
		"reporting-gateway": standin.ReportingGateway, "firewall": standin.Firewall,
		"wan-controller": standin.WANController,
	} {
		all = append(all, renewal{family: family, kind: kind, start: overWeb, leaf: leafOf})
	}
	slices.SortFunc(all, func(a, b renewal) int { return strings.Compare(a.family, b.family) })
	return all
}

func (r renewal) serves(t *testing.T, box *standin.Running) []byte {
	t.Helper()
	for range 60 { // it may be restarting
		var leaf []byte
		if r.leaf != nil {
			leaf = r.leaf(t, box)
		} else {
			leaf = leafAt(t, box.TLSAddr)
		}
		if leaf != nil {
			return leaf
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil
}

// outcome is a row of the table.
type outcome struct{ Family, Fault, Ends, Serves string }

var outcomes struct {
	lock   sync.Mutex
	rows   []outcome
	killed map[string]string // how the replacements ended during which the service was killed, by family and fault
}

func recordKilled(family, fault string, ends []string) {
	outcomes.lock.Lock()
	defer outcomes.lock.Unlock()
	if outcomes.killed == nil {
		outcomes.killed = map[string]string{}
	}
	outcomes.killed[family+" "+fault] = strings.Join(ends, ", ")
}

func record(o outcome) {
	outcomes.lock.Lock()
	defer outcomes.lock.Unlock()
	outcomes.rows = append(outcomes.rows, o)
}

// heldBy is what a box holds that a way back must leave as it was.
func heldBy(t *testing.T, box *standin.Running) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, folder := range []string{"/etc", "/srv/tally/tls"} {
		files, err := box.Holds(folder)
		if err != nil {
			t.Fatal(err)
		}
		maps.Copy(out, files)
	}
	return out
}

// trial is a box that was replaced once without any fault.
type trial struct {
	renewal
	s              *server
	box            *standin.Running
	name, slot     string
	factory, first []byte // what it served when it was delivered, and what stands
	before         map[string]string
}

// begin starts a box and replaces its factory certificate.
func (r renewal) begin(t *testing.T, s *server, about string) *trial {
	t.Helper()
	name := r.family + "-" + about + ".saltmere.tidewrack.example"
	box, add := r.start(t, standin.Box{Kind: r.kind, Restart: 200 * time.Millisecond, System: name})
	add(s, name, "quick-"+r.family)
	c := &trial{renewal: r, s: s, box: box, name: name, slot: name + "/" + slotOfKind(r.kind),
		factory: r.serves(t, box)}
	s.ok(append([]string{"replace", c.slot, "--watch"}, r.asks()...)...)
	if c.progress(t); bytes.Equal(c.first, c.factory) {
		t.Fatal("the first replacement changed nothing")
	}
	return c
}

// stands takes what the box serves and holds for what must stand from now on.
func (c *trial) progress(t *testing.T) {
	t.Helper()
	c.first, c.before = c.serves(t, c.box), heldBy(t, c.box)
}

// meets replaces the certificate while the box has faults; where kill is not negative, the service is killed after
// that time and started again.
func (c *trial) meets(t *testing.T, f standin.Fault, kill time.Duration) (id, state string) {
	t.Helper()
	c.box.SetFaults(f.Faults)
	ask := append([]string{"replace", c.slot}, c.asks()...)
	var out result
	if kill < 0 {
		out = c.s.run("", append(ask, "--watch")...)
		c.box.SetFaults(standin.Faults{})
	} else {
		out = c.s.run("", append(ask, "--as", "json")...)
		time.Sleep(kill)
		c.s.kill()
		again := launch(t, c.s.dir, cmdAgain(c.s))
		again.config = c.s.config
		c.s = again
	}
	id = c.s.newest(c.name)
	state = c.s.rests(id, "sealed", "reverted", "held")
	c.box.SetFaults(standin.Faults{})
	now := c.serves(t, c.box)
	switch {
	case bytes.Equal(now, c.factory):
		t.Errorf("the replacement is %s, and the box is back at its factory certificate:\n%s%s", state,
			out.stdout+out.stderr, c.s.ok("replacement", "show", id))
	case state == "sealed" && bytes.Equal(now, c.first):
		t.Errorf("it is sealed, and serves the old certificate")
	case state == "reverted" && !bytes.Equal(now, c.first):
		t.Errorf("it is reverted, and does not serve the certificate that stood before:\n%s",
			c.s.ok("replacement", "show", id))
	}
	return id, state
}

// comesOut takes an exit from where a replacement rests, now that nothing is wrong any more, and sees that the box is
// as it was where it went back. It returns the state that is reached.
func (c *trial) comesOut(t *testing.T, id, state string, f standin.Fault) string {
	t.Helper()
	if state == "held" && f.Faults.ThirdCertificate {
		c.s.ok("replacement", "close", id, "--as", "neither", "--reason", "somebody put another one there")
		return "closed"
	}
	var shown struct{ Stage string }
	c.s.json(&shown, "replacement", "show", id)
	// nothing was touched: it goes on
	if state == "held" && slices.Contains([]string{"survey", "request", "sign", "gate", "backup"}, shown.Stage) {
		if out := c.s.run("", "replacement", "resume", id); strings.Contains(out.stderr, "--step") {
			c.s.run("", "replacement", "resume", id, "--step", "repeat")
		}
		if state = c.s.rests(id, "sealed", "held", "reverted"); state != "sealed" {
			t.Errorf("it is not sealed although nothing is wrong any more:\n%s", c.s.ok("replacement", "show", id))
		}
		return state
	}
	if state == "held" && c.oneWay() { // the cause is mended: it goes on, or a person says what stands
		c.s.run("", "replacement", "resume", id)
		if state = c.s.rests(id, "sealed", "held", "reverted"); state != "held" {
			return state
		}
		as := "neither"
		if bytes.Equal(c.serves(t, c.box), c.first) {
			as = "old"
		}
		if out := c.s.run("", "replacement", "close", id, "--as", as, "--reason",
			"the manager was looked at"); out.code != 0 {
			t.Errorf("it cannot be closed as %s:\n%s%s", as, out.stdout+out.stderr, c.s.ok("replacement", "show", id))
		}
		return "closed"
	}
	if state == "held" { // the cause is mended, and the way back is tried once more
		c.s.run("", "replacement", "revert", id, "--yes")
		if state = c.s.rests(id, "reverted", "held"); state == "held" {
			t.Errorf("it is held although nothing is wrong any more:\n%s", c.s.ok("replacement", "show", id))
		}
	}
	if state != "reverted" {
		return state
	}
	if err := c.box.PowerCycle(); err != nil {
		t.Errorf("it does not come up again: %v", err)
	}
	if after := c.serves(t, c.box); !bytes.Equal(after, c.first) {
		t.Errorf("it is reverted, and after its next restart it serves %s", which(after, c.factory, c.first, ""))
	}
	for file, content := range heldBy(t, c.box) {
		if old, known := c.before[file]; !known || old != content {
			if strings.HasPrefix(file, "/etc/webui/tls/before") || strings.HasSuffix(file, ".before") ||
				strings.HasPrefix(file, "/etc/vista/") {
				continue // its own memory of what was in use
			}
			t.Errorf("it is reverted, and %s is not as it was", file)
		}
	}
	return state
}

// twice replaces a box once without any fault, then again with one: the second way back, and the third after a
// revert, are what a box's life consists of.
func (r renewal) twice(t *testing.T, s *server, f standin.Fault) {
	c := r.begin(t, s, f.Name)
	id, state := c.meets(t, f, -1)
	record(outcome{r.family, f.Name, state, which(c.serves(t, c.box), c.factory, c.first, state)})
	if state = c.comesOut(t, id, state, f); state != "reverted" {
		return
	}
	if id, state = c.meets(t, f, -1); c.comesOut(t, id, state, f) != "reverted" { // the third, after a revert
		return
	}
	var shown struct {
		Kept *struct{ Until string }
	}
	if s.json(&shown, "replacement", "show", id); shown.Kept == nil {
		return
	}
	// What was signed is used for another try, and then it is sealed.
	tried := s.run("", "replacement", "retry", id, "--as", "json")
	if tried.code != 0 || s.rests(s.newest(c.name), "sealed", "held", "reverted") != "sealed" {
		t.Errorf("the retry is not sealed:\n%s%s", tried.stderr, s.ok("replacement", "show", s.newest(c.name)))
		return
	}
	third := c.serves(t, c.box)
	if bytes.Equal(third, c.first) || bytes.Equal(third, c.factory) {
		t.Errorf("the retry is sealed, and the box serves %s", which(third, c.factory, c.first, ""))
	}
	if c.oneWay() {
		return
	}
	// And back from there, after the seal: to the certificate that stood before it, not to any other.
	s.ok("replacement", "revert", s.newest(c.name), "--yes")
	if back := c.serves(t, c.box); !bytes.Equal(back, c.first) {
		t.Errorf("a revert after the seal ends with %s", which(back, c.factory, c.first, ""))
	}
}

// killed has a box meet a fault again and again, the service being killed in the middle each time: from the second
// replacement on, and from the third after a revert.
func (r renewal) killed(t *testing.T, families string, f standin.Fault, kills []time.Duration) {
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"), "--procedures", families)
	s.login()
	c := r.begin(t, s, f.Name)
	var ends []string
	for _, kill := range kills {
		id, state := c.meets(t, f, kill)
		ends = append(ends, state)
		switch c.comesOut(t, id, state, f) {
		case "sealed":
			if now := c.serves(t, c.box); bytes.Equal(now, c.first) {
				t.Errorf("killed after %s: it is sealed, and serves the old certificate", kill)
			}
			c.progress(t)
		case "closed":
			c.progress(t)
		}
		if t.Failed() {
			t.Fatalf("killed after %s", kill)
		}
	}
	recordKilled(r.family, f.Name, ends)
}

func which(now, factory, first []byte, state string) string {
	switch {
	case now == nil:
		return "nothing"
	case bytes.Equal(now, factory):
		return "the factory certificate"
	case bytes.Equal(now, first):
		return "what stood before"
	case state == "sealed":
		return "the new certificate"
	}
	return "another certificate"
}

// A second replacement that a box refuses, takes back or drops ends on the very certificate that stood before it, on
// the wire, in its files and after its next restart, and so does a third; what was signed is used for another try. With
// FRESHSEAL_KINDS=all every kind meets every fault, with kills of the service and without, and the table of
// docs/kinds.md is written.
func TestASecondReplacementGoesBackToTheFirst(t *testing.T) {
	t.Parallel()
	names := []string{}
	for _, r := range slices.Concat(renewals(), oneWays()) {
		names = append(names, r.family)
	}
	families := quickFamilies(t, names...)
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", families)
	s.login()
	t.Run("kinds", func(t *testing.T) { everyKind(t, s, families) })
	if everything && !t.Failed() {
		writeOutcomes(t, "../docs/kinds.md")
	}
}

// everyKind has kinds meet their faults: all of them, or a sample.
func everyKind(t *testing.T, s *server, families string) {
	all := newAbreast(t, 4)
	defer all.Wait()
	random := rand.New(rand.NewPCG(21, 47))
	for i, r := range slices.Concat(renewals(), oneWays()) {
		for n, f := range r.meetsFaults() {
			kills := []time.Duration{time.Duration(random.IntN(700)) * time.Millisecond,
				time.Duration(random.IntN(2000)) * time.Millisecond,
				time.Duration(random.IntN(5000)) * time.Millisecond}
			if everything || i%2 == 0 && n == i/2%2 { // every other kind, the first or the second that it knows
				all.run(r.family+" "+f.Name, func(t *testing.T) {
					s := *s
					s.t = t
					r.twice(t, &s, f)
				})
			}
			if everything || i%8 == 0 && n == 2 {
				all.run("killed "+r.family+" "+f.Name, func(t *testing.T) {
					r.killed(t, families, f, kills)
				})
			}
		}
	}
}

// The table of docs/kinds.md is between these lines.
const (
	tableStart = "<!-- outcomes: written by make kinds -->\n"
	tableEnd   = "<!-- end of outcomes -->\n"
)

// writeOutcomes writes the table of what became of each kind and fault into a document.
func writeOutcomes(t *testing.T, file string) {
	t.Helper()
	text := read(t, file)
	before, rest, ok := strings.Cut(text, tableStart)
	_, after, closed := strings.Cut(rest, tableEnd)
	if !ok || !closed {
		t.Fatalf("%s has no place for the table", file)
	}
	slices.SortFunc(outcomes.rows, func(a, b outcome) int {
		return strings.Compare(a.Family+"\x00"+a.Fault, b.Family+"\x00"+b.Fault)
	})
	var b strings.Builder
	b.WriteString("| family | fault | ends | serves | with kill -9, three times |\n| --- | --- | --- | --- | --- |\n")
	for _, o := range outcomes.rows {
		b.WriteString("| `" + o.Family + "` | `" + o.Fault + "` | " + o.Ends + " | " + o.Serves + " | " +
			outcomes.killed[o.Family+" "+o.Fault] + " |\n")
	}
	if err := os.WriteFile(file, []byte(before+tableStart+b.String()+tableEnd+after), 0o644); err != nil {
		t.Fatal(err)
	}
}
