package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

// living is a box that is replaced again and again.
type living struct {
	renewal
	name, slot string
	box        *standin.Running
	before     []byte // what it serves before a round
	id         string
	fault      string
}

// A life of replacements: boxes of all kinds are replaced round after round, with faults, kills of the service, retries, reverts and exits chosen at
// random. After each round the wire serves what Fresh Seal says, the pins are right, and no device has a replacement without an exit. With
// FRESHSEAL_LIFE=ROUNDS it is a long life; FRESHSEAL_SEED chooses another one.
func TestALifeOfReplacements(t *testing.T) {
	t.Parallel()
	rounds, seed := 2, uint64(47)
	if n, err := strconv.Atoi(os.Getenv("FRESHSEAL_LIFE")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("FRESHSEAL_SEED"), 10, 64); err == nil {
		seed = n
	}
	random := rand.New(rand.NewPCG(seed, seed))
	all := renewals()
	if os.Getenv("FRESHSEAL_LIFE") == "" { // a sample of the kinds
		all = slices.DeleteFunc(all, func(r renewal) bool { return random.IntN(5) > 1 })
	}
	families := []string{}
	for _, r := range all {
		families = append(families, r.family)
	}
	folder, listen := quickFamilies(t, families...), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", t.TempDir(), listen, "--procedures", folder)
	s.login()
	var boxes []*living
	for _, r := range all {
		l := &living{renewal: r, name: r.family + ".tidewrack.example"}
		box, add := r.start(t, standin.Box{Kind: r.kind, Restart: 150 * time.Millisecond, System: l.name})
		add(s, l.name, "quick-"+r.family)
		l.box, l.slot = box, l.name+"/"+slotOfKind(r.kind)
		boxes = append(boxes, l)
	}
	counts := map[string]int{}
	for round := range rounds {
		for _, l := range boxes {
			l.before, l.fault = l.serves(t, l.box), ""
			if known := standin.FaultsOf(l.kind); round > 0 && random.IntN(10) < 6 {
				f := known[random.IntN(len(known))]
				if f.Name != "hangs" { // each step waits for its limit
					l.fault = f.Name
					l.box.SetFaults(f.Faults)
				}
			}
			var r struct{ ID string }
			if out := s.run("", "replace", l.slot, "--signer", "bench", "--as", "json"); json.Unmarshal([]byte(out.stdout), &r) != nil || r.ID == "" {
				t.Fatalf("round %d: %s is not replaced: %s", round, l.name, out.stderr)
			}
			l.id = r.ID
		}
		if random.IntN(3) > 0 { // the service is killed in the middle of it all
			time.Sleep(time.Duration(random.IntN(1500)) * time.Millisecond)
			s.kill()
			again := startAt(t, "serve", s.dir, listen, "--procedures", folder)
			again.config = s.config
			s = again
		}
		for _, l := range boxes {
			counts[l.ends(t, s, random)]++
		}
		if t.Failed() {
			t.Fatalf("in round %d of the life %d", round, seed)
		}
	}
	t.Logf("%d boxes, %d rounds: %v", len(boxes), rounds, counts)
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
		for range 900 {
			if show(); r.State != "running" {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Errorf("%s of %s does not come to rest", l.id, l.name)
	}
	wait()
	l.box.SetFaults(standin.Faults{})
	ended := r.State
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
			t.Errorf("%s of %s (%s) is reverted, and does not serve what stood before", l.id, l.name, l.fault)
		}
		s.run("", "replacement", "retry", l.id)
		l.id = s.newest(l.name)
		wait()
		ended += ", retried, then " + r.State
	}
	now := l.serves(t, l.box)
	sum := sha256.Sum256(now)
	new := hex.EncodeToString(sum[:]) == r.New_sha256
	switch {
	case !slices.Contains([]string{"sealed", "reverted", "cancelled", "closed"}, r.State):
		t.Errorf("%s of %s (%s) is %s: %s", l.id, l.name, l.fault, r.State, r.Why)
	case r.State == "sealed" && !new:
		t.Errorf("%s of %s (%s) is sealed, and does not serve the new certificate", l.id, l.name, l.fault)
	case (r.State == "reverted" || r.State == "cancelled") && !bytes.Equal(now, l.before):
		t.Errorf("%s of %s (%s) is %s, and does not serve what stood before\n%s", l.id, l.name, l.fault, r.State, s.ok("replacement", "show", l.id))
	}
	s.run("", "read", l.slot)
	if c := s.show(l.slot).Condition; c == "stray" || c == "dark" {
		t.Errorf("%s of %s (%s) is %s, and the slot is %s", l.id, l.name, l.fault, r.State, c)
	}
	if out := s.run("", "device", "try", l.name); out.code != 0 && !strings.Contains(out.stderr+out.stdout, "SFTP") {
		t.Errorf("%s cannot be reached after %s (%s): %s", l.name, l.id, l.fault, out.stderr)
	}
	if l.box.IsOff() || l.box.InMaintenance() {
		t.Errorf("%s is left off or in maintenance after %s (%s)", l.name, l.id, l.fault)
	}
	return fmt.Sprint(ended)
}
