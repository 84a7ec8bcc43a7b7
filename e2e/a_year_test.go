package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/standin/parts"
)

// living is a box that is replaced again and again.
type living struct {
	renewal
	name, slot string
	box        *standin.Running
	before     []byte // what it serves before a round
	id         string
	fault      standin.Fault
	alarms     int // that are expected in this round
}

// between is how many days go by from one replacement to the next.
const between = 47

// life is a service whose clock is ahead, with boxes that are replaced round after round.
type life struct {
	s               *server
	program         string
	listen          string
	folder, dir     string
	boxes           []*living
	random          *rand.Rand
	told            map[string]bool // notices that were seen
	stranger, notIt []byte          // a certificate that somebody else puts onto boxes, and its key
	counts          map[string]int
	lock            sync.Mutex
}

// A year of replacements: boxes of all kinds are replaced every 47 days by the service's clock, with faults, kills of
// the service, certificates put there by strangers, retries, reverts and exits chosen at random. After each round the
// wire serves what Fresh Seal says, nothing is left on a box but what the last replacement needs for its revert, no
// replacement is open, and the alarms are those of the strangers. FRESHSEAL_YEAR=1 is the whole year with 60 boxes;
// otherwise a sample of the kinds lives for two rounds. FRESHSEAL_SEED chooses another one.
func TestAYearOfReplacements(t *testing.T) {
	t.Parallel()
	rounds, seed, many := 2, uint64(47), 8
	whole := os.Getenv("FRESHSEAL_YEAR") != ""
	if whole {
		rounds, many = 8, 60
	}
	if n, err := strconv.ParseUint(os.Getenv("FRESHSEAL_SEED"), 10, 64); err == nil {
		seed = n
	}
	l := &life{random: rand.New(rand.NewPCG(seed, seed)), dir: t.TempDir(), listen: "127.0.0.1:" +
		daemon.FreePort(t, "127.0.0.1"), told: map[string]bool{}, counts: map[string]int{}}
	l.program = filepath.Join(t.TempDir(), "ahead")
	must(t, "", "go", "build", "-o", l.program, "./ahead")
	stranger := t.TempDir()
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
		"-keyout", filepath.Join(stranger, "key"), "-out", filepath.Join(stranger, "pem"), "-days", "1000", "-subj",
		"/O=Corvane/CN=service technician")
	l.stranger, l.notIt = []byte(read(t, filepath.Join(stranger, "pem"))),
		[]byte(read(t, filepath.Join(stranger, "key")))

	all, families := renewals(), []string{}
	for _, r := range all {
		families = append(families, r.family)
	}
	l.random.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	l.folder = quickFamilies(t, families...)
	l.start(t, 0)
	l.s.login()
	var made struct{ Secret string }
	l.s.json(&made, "token", "add", "a-year", "--role", "admin", "--days", "700",
		"--final")
	before, _, _ := strings.Cut(read(t, l.s.config), "token: ")
	write(t, l.s.config, before+"token: "+made.Secret+"\n")
	l.s.ok("channel", "set", "log", "--syslog", "127.0.0.1:9", "--pin", strings.Repeat("ab", 32))
	today := 0
	for i := range many {
		r := all[i%len(all)]
		b := &living{renewal: r, name: fmt.Sprintf("%s-%d.tidewrack.example", r.family, i)}
		box, add := r.start(t, standin.Box{Kind: r.kind, Restart: 150 * time.Millisecond, System: b.name,
			Now: func() time.Time {
				return time.Now().AddDate(0, 0, today)
			}})
		add(l.s, b.name, "quick-"+r.family)
		b.box, b.slot = box, b.name+"/"+slotOfKind(r.kind)
		l.boxes = append(l.boxes, b)
	}
	for round := range rounds {
		if round == 1 { // what the boxes were delivered with is gone
			l.s.ok("notice", "rule", "broken", "--condition", "unreachable", "--condition", "expired", "--condition",
				"unexpected", "--to", "log")
		}
		if today = round * between; round > 0 {
			l.s.kill()
			l.start(t, today)
		}
		l.round(t, round)
		if t.Failed() {
			t.Fatalf("in round %d of the life %d", round, seed)
		}
	}
	t.Logf("%d boxes, %d rounds: %v", len(l.boxes), rounds, l.counts)
}

// start starts the service with a clock that is some days ahead.
func (l *life) start(t *testing.T, days int) {
	t.Helper()
	cmd := exec.Command(l.program, "serve", "--dir", l.dir, "--listen", l.listen, "--procedures", l.folder)
	cmd.Env = append(os.Environ(), "FRESHSEAL_READ_EVERY=0", "AHEAD="+(time.Duration(days)*24*time.Hour).String())
	l.s = launch(t, l.dir, cmd)
}

// round replaces every box once.
func (l *life) round(t *testing.T, round int) {
	t.Helper()
	for _, b := range l.boxes {
		b.alarms, b.fault = 0, standin.Fault{}
		if round > 0 && l.random.IntN(10) == 0 { // somebody was there
			if err := b.box.Meddle(l.stranger, l.notIt); err != nil {
				t.Fatal(err)
			}
			if l.s.run("", "read", b.slot); l.s.show(b.slot).Condition == "unexpected" {
				b.alarms++
			}
			if b.box.WebUser != "" { // an unknown certificate stops the work until a person says that it is right
				sum := sha256.Sum256(leafAt(t, b.box.TLSAddr))
				l.s.okWith(b.box.WebPassword, "device", "edit", b.name, "--pin", hex.EncodeToString(sum[:]),
					"--password-file", "-")
			}
		}
		b.before = b.serves(t, b.box)
		if known := standin.FaultsOf(b.kind); round > 0 && l.random.IntN(10) < 6 {
			if f := known[l.random.IntN(len(known))]; f.Name != "hangs" { // each step waits for its limit
				b.fault = f
				b.box.SetFaults(f.Faults)
			}
		}
		var r struct{ ID string }
		if out := l.s.run("", append([]string{"replace", b.slot, "--signer", "bench", "--as", "json"},
			b.agree...)...); json.Unmarshal([]byte(out.stdout), &r) != nil || r.ID == "" {
			t.Fatalf("round %d: %s is not replaced: %s", round, b.name, out.stderr)
		}
		b.id = r.ID
	}
	if l.random.IntN(3) > 0 { // the service is killed in the middle of it all
		time.Sleep(time.Duration(l.random.IntN(1500)) * time.Millisecond)
		l.s.kill()
		l.start(t, round*between)
	}
	t.Run(fmt.Sprintf("round %d", round), func(t *testing.T) {
		boxes := newAbreast(t, 8)
		defer boxes.Wait()
		for _, b := range l.boxes {
			chance := rand.New(rand.NewPCG(uint64(round), l.random.Uint64()))
			boxes.run(b.name, func(t *testing.T) {
				s := *l.s
				s.t = t
				ended := b.ends(t, &s, chance)
				l.lock.Lock()
				defer l.lock.Unlock()
				l.counts[ended]++
			})
		}
	})
	if open := l.s.ok("replacement", "list", "--state", "held"); strings.Contains(open, "held") {
		t.Errorf("these have no end:\n%s", open)
	}
	l.alarms(t)
}

// alarms compares the notices of a round with what strangers did in it.
func (l *life) alarms(t *testing.T) {
	t.Helper()
	time.Sleep(time.Second) // they are made in the background
	var all []struct{ ID, Slot, Stage, Kind, Why, At string }
	l.s.json(&all, "notice", "list", "--most", "500")
	seen := map[string][]string{}
	for _, n := range all {
		if n.Kind == "notice" && !l.told[n.ID] {
			l.told[n.ID] = true
			seen[n.Slot] = append(seen[n.Slot], n.Stage+" at "+n.At+": "+n.Why)
		}
	}
	for _, b := range l.boxes {
		if len(seen[b.slot]) != b.alarms {
			t.Errorf("%s of %s (%s): the alarms are %q, and %d are due", b.id, b.slot, b.fault.Name, seen[b.slot],
				b.alarms)
		}
	}
}

// ends brings a round of a box to its end, and sees that what is said is true. It returns how it ended.
func (l *living) ends(t *testing.T, s *server, random *rand.Rand) string {
	t.Helper()
	var r struct {
		State, Stage, New_sha256, Why string
		Kept                          *struct{ Until string }
	}
	show := func() { s.json(&r, "replacement", "show", l.id) }
	wait := func() {
		if !within(2*time.Minute, func() bool { return s.progress(l.id).State != "running" }) {
			t.Errorf("%s of %s does not come to rest", l.id, l.name)
		}
		show()
	}
	wait()
	l.box.SetFaults(standin.Faults{})
	ended, folder := r.State, l.id
	if r.State == "held" { // a person looks, and takes an exit
		var full struct{ Actions []struct{ Do string } }
		s.json(&full, "replacement", "show", l.id)
		dos := []string{}
		for _, a := range full.Actions {
			dos = append(dos, a.Do)
		}
		if slices.Contains(dos, "resume-again") {
			s.run("", "replacement", "resume", l.id, "--step", "repeat")
			wait()
		} else if slices.Contains([]string{"survey", "request", "backup"}, r.Stage) && random.IntN(2) == 0 {
			s.run("", "replacement", "cancel", l.id)
			wait()
		} else {
			s.run("", "replacement", "revert", l.id, "--yes")
			wait()
		}
		if r.State == "held" {
			s.run("", "replacement", "resume", l.id)
			wait()
		}
		if r.State == "held" {
			s.run("", "replacement", "close", l.id, "--as", "neither", "--reason", "a person has looked")
			show()
		}
		ended += ", then " + r.State
	}
	if r.State == "reverted" && r.Kept != nil && random.IntN(2) == 0 {
		if now := l.serves(t, l.box); !bytes.Equal(now, l.before) {
			t.Errorf("%s of %s (%s) is reverted, and does not serve what stood before", l.id, l.name, l.fault.Name)
		}
		s.run("", "replacement", "retry", l.id)
		folder = l.id // it goes on in the folder of the first try
		l.id = s.newest(l.name)
		wait()
		ended += ", retried, then " + r.State
	}
	if f := l.fault.Faults; strings.HasPrefix(ended, "held") && (f.ThirdCertificate || f.NeverBack) {
		l.alarms++ // that is seen, and nobody can do anything about it but a person
	}
	l.saysTheTruth(t, s, r.State, r.New_sha256, r.Why)
	if r.State != "sealed" { // and every box gets its certificate before the old one expires
		if out := s.run("", append([]string{"replace", l.slot, "--signer", "bench", "--watch"},
			l.agree...)...); out.code != 0 {
			t.Errorf("%s after %s (%s), which is %s, cannot be replaced: %s", l.name, l.id, l.fault.Name, r.State,
				out.stderr)
			return ended
		}
		l.id = s.newest(l.name)
		folder = l.id
		show()
		l.saysTheTruth(t, s, r.State, r.New_sha256, r.Why)
	}
	held, err := l.box.Holds("/var/lib/freshseal")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
	for file := range held { // what a revert of the last one needs
		if !strings.Contains(file, "/"+folder+"-") {
			t.Errorf("%s is left on %s after %s (%s), %s", file, l.name, l.id, l.fault.Name, ended)
		}
	}
	return ended
}

// saysTheTruth checks that a replacement is over, that the wire serves what is said, and that nothing is left on the
// box.
func (l *living) saysTheTruth(t *testing.T, s *server, state, new_sha256, why string) {
	t.Helper()
	now := l.serves(t, l.box)
	sum := sha256.Sum256(now)
	new := hex.EncodeToString(sum[:]) == new_sha256
	switch {
	case !slices.Contains([]string{"sealed", "reverted", "cancelled", "closed"}, state):
		t.Errorf("%s of %s (%s) is %s: %s", l.id, l.name, l.fault.Name, state, why)
	case state == "sealed" && !new:
		t.Errorf("%s of %s (%s) is sealed, and does not serve the new certificate", l.id, l.name, l.fault.Name)
	case (state == "reverted" || state == "cancelled") && !bytes.Equal(now, l.before):
		t.Errorf("%s of %s (%s) is %s, and does not serve what stood before\n%s", l.id, l.name, l.fault.Name, state,
			s.ok("replacement", "show", l.id))
	}
	s.run("", "read", l.slot)
	// a way back may lead to what a stranger put there
	if c := s.show(l.slot).Condition; c == "unreachable" || c == "unexpected" && (l.alarms == 0 || state == "sealed") {
		t.Errorf("%s of %s (%s) is %s, and the slot is %s", l.id, l.name, l.fault.Name, state, c)
	}
	if out := s.run("", "device", "try", l.name); out.code != 0 && !strings.Contains(out.stderr+out.stdout, "SFTP") {
		t.Errorf("%s cannot be reached after %s (%s): %s", l.name, l.id, l.fault.Name, out.stdout+out.stderr)
	}
	if parts.IsOff(l.box) || l.box.InMaintenance() {
		t.Errorf("%s is left off or in maintenance after %s (%s)", l.name, l.id, l.fault.Name)
	}
}
