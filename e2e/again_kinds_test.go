package e2e

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/standin"
)

// renewal is a built-in family whose boxes are replaced again and again.
type renewal struct {
	family string
	kind   standin.Kind
	agree  []string // flags that its replacements need
	start  func(*testing.T, standin.Box) (box *standin.Running, add func(s *server, name, family string))
	leaf   func(*testing.T, *standin.Running) []byte // nil: what its web port serves
}

// overSSH starts a box that is worked on over SSH.
func overSSH(settings func(*standin.Running) []string) func(*testing.T, standin.Box) (*standin.Running, func(*server, string, string)) {
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

// renewals are all built-in families that have a way back.
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
			for name, value := range standin.SiteSettings {
				more = append(more, "--setting", name+"="+value)
			}
			return more
		})},
		{family: "router-by-netconf", kind: standin.Router, start: func(t *testing.T, b standin.Box) (*standin.Running, func(*server, string, string)) {
			box := kind(t, b)
			return box, func(s *server, name, family string) { s.addRouter(name, family, box) }
		}},
	}
	for family, kind := range map[string]standin.Kind{
		"voice-manager": standin.VoiceManager, "conference-bridge": standin.ConferenceBridge, "wireless-manager": standin.WirelessManager, "host-with-page": standin.HostWithPage,
		"sign-on-server": standin.SignOnServer, "encryption-appliance": standin.EncryptionAppliance, "load-balancer": standin.LoadBalancer, "traversal-peer": standin.TraversalPeer,
		"building-controller": standin.BuildingController, "access-control-pair": standin.AccessServer, "reporting-gateway": standin.ReportingGateway, "firewall": standin.Firewall, "wan-controller": standin.WANController,
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
		if box.Kind == standin.AccessServer {
			leaf = leafOf(t, box)
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
	lock sync.Mutex
	rows []outcome
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

// twice replaces a box once without any fault, then again with one: the second way back, and the third after a revert, are
// what a box's life consists of.
func (r renewal) twice(t *testing.T, s *server, f standin.Fault) {
	faults, name := f.Faults, r.family+"-"+f.Name+".saltmere.tidewrack.example"
	box, add := r.start(t, standin.Box{Kind: r.kind, Restart: 200 * time.Millisecond, System: name})
	add(s, name, "quick-"+r.family)
	slot := name + "/" + slotOfKind(r.kind)
	factory := r.serves(t, box)
	s.ok(append([]string{"replace", slot, "--signer", "bench", "--watch"}, r.agree...)...)
	first := r.serves(t, box)
	if bytes.Equal(first, factory) {
		t.Fatal("the first replacement changed nothing")
	}
	before := heldBy(t, box)

	box.SetFaults(faults)
	out := s.run("", append([]string{"replace", slot, "--signer", "bench", "--watch"}, r.agree...)...)
	box.SetFaults(standin.Faults{})
	id := s.newest(name)
	state := s.rests(id, "sealed", "reverted", "held")
	said := out.stdout + out.stderr
	now := r.serves(t, box)
	switch {
	case bytes.Equal(now, factory):
		t.Errorf("the second replacement is %s, and the box is back at its factory certificate:\n%s", state, said)
	case state == "sealed" && bytes.Equal(now, first):
		t.Errorf("it is sealed, and serves the old certificate")
	case state == "reverted" && !bytes.Equal(now, first):
		t.Errorf("it is reverted, and does not serve the certificate that stood before:\n%s", said)
	}
	record(outcome{r.family, f.Name, state, which(now, factory, first, state)})
	if state == "held" && faults.ThirdCertificate {
		s.ok("replacement", "close", id, "--as", "neither", "--reason", "somebody put another one there")
		return
	}
	var shown struct {
		Stage string
		Kept  *struct{ Until string }
	}
	s.json(&shown, "replacement", "show", id)
	if state == "held" && slices.Contains([]string{"survey", "request", "sign", "gate", "backup"}, shown.Stage) { // nothing was touched: it goes on
		s.run("", "replacement", "resume", id)
		if s.rests(id, "sealed", "held", "reverted") != "sealed" {
			t.Errorf("it is not sealed although nothing is wrong any more:\n%s", s.ok("replacement", "show", id))
		}
		return
	}
	if state == "held" { // the cause is mended, and the way back is tried once more
		s.run("", "replacement", "revert", id, "--yes")
		state = s.rests(id, "reverted", "held")
		if state == "held" {
			t.Errorf("it is held although nothing is wrong any more:\n%s", s.ok("replacement", "show", id))
			return
		}
	}
	if state == "reverted" {
		if err := box.PowerCycle(); err != nil {
			t.Errorf("it does not come up again: %v", err)
		}
		if after := r.serves(t, box); !bytes.Equal(after, first) {
			t.Errorf("it is reverted, and after its next restart it serves %s", which(after, factory, first, ""))
		}
		for file, content := range heldBy(t, box) {
			if old, known := before[file]; !known || old != content {
				if strings.HasPrefix(file, "/etc/webui/tls/before") || strings.HasSuffix(file, ".before") || strings.HasPrefix(file, "/etc/vista/") {
					continue // its own memory of what was in use
				}
				t.Errorf("it is reverted, and %s is not as it was", file)
			}
		}
	}
	if s.json(&shown, "replacement", "show", id); state == "sealed" || shown.Kept == nil {
		return
	}
	// What was signed is used for another try, and then it is sealed.
	var again struct{ ID, State string }
	tried := s.run("", "replacement", "retry", id, "--as", "json")
	json.Unmarshal([]byte(tried.stdout), &again)
	if tried.code != 0 || s.rests(s.newest(name), "sealed", "held", "reverted") != "sealed" {
		t.Errorf("the retry is not sealed:\n%s%s", tried.stderr, s.ok("replacement", "show", s.newest(name)))
		return
	}
	third := r.serves(t, box)
	if bytes.Equal(third, first) || bytes.Equal(third, factory) {
		t.Errorf("the retry is sealed, and the box serves %s", which(third, factory, first, ""))
	}
	// And back from there, after the seal: to the certificate that stood before it, not to any other.
	s.ok("replacement", "revert", s.newest(name), "--yes")
	if back := r.serves(t, box); !bytes.Equal(back, first) {
		t.Errorf("a revert after the seal ends with %s", which(back, factory, first, ""))
	}
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

// A second replacement that a box refuses, takes back or drops ends on the very certificate that stood before it, on the wire, in
// its files and after its next restart; what was signed is used for another try. With FRESHSEAL_KINDS=all every
// kind meets every fault, and the table of docs/kinds.md is written.
func TestASecondReplacementGoesBackToTheFirst(t *testing.T) {
	t.Parallel()
	families := []string{}
	for _, r := range renewals() {
		families = append(families, r.family)
	}
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", quickFamilies(t, families...))
	s.login()
	everything := os.Getenv("FRESHSEAL_KINDS") == "all"
	t.Run("kinds", func(t *testing.T) { everyKind(t, s, everything) })
	if everything && !t.Failed() {
		writeOutcomes(t, "../docs/kinds.md")
	}
}

// everyKind has kinds meet their faults: all of them, or a sample.
func everyKind(t *testing.T, s *server, everything bool) {
	for i, r := range renewals() {
		n := 0
		for _, f := range standin.FaultsOf(r.kind) {
			if n++; !everything && n != 1+i%2 { // a sample: the first or the second that it knows
				continue
			}
			t.Run(r.family+" "+f.Name, func(t *testing.T) {
				t.Parallel()
				s := *s
				s.t = t
				r.twice(t, &s, f)
			})
		}
	}
}

// The table of docs/kinds.md stands between these lines.
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
	b.WriteString("| family | fault | ends | serves |\n| --- | --- | --- | --- |\n")
	for _, o := range outcomes.rows {
		b.WriteString("| `" + o.Family + "` | `" + o.Fault + "` | " + o.Ends + " | " + o.Serves + " |\n")
	}
	if err := os.WriteFile(file, []byte(before+tableStart+b.String()+tableEnd+after), 0o644); err != nil {
		t.Fatal(err)
	}
}
