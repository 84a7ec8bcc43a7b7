package e2e

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/notice"
	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
	"freshseal/notify"
	"freshseal/standin/demo"
)

// BenchmarkSoak lets the real program watch 10,000 slots for as many minutes as FRESHSEAL_SOAK_MINUTES says (1), while
// certificates are exchanged, slots fall silent and come back, and the program is killed now and then. At the end
// every slot's reading is what it serves, every change is in its history, nothing was told by two notices, and
// neither memory nor goroutines grew. FRESHSEAL_SOAK_SLOTS is another number of slots.
func BenchmarkSoak(b *testing.B) {
	minutes, slots := 1, 10_000
	if n, err := strconv.Atoi(os.Getenv("FRESHSEAL_SOAK_MINUTES")); err == nil {
		minutes = n
	}
	if n, err := strconv.Atoi(os.Getenv("FRESHSEAL_SOAK_SLOTS")); err == nil {
		slots = n
	}
	for b.Loop() {
		soak(b, slots, time.Duration(minutes)*time.Minute)
	}
}

func soak(b *testing.B, slots int, long time.Duration) {
	sinks, err := demo.StartSinks("127.0.0.1", "", notify.Signature)
	if err != nil {
		b.Fatal(err)
	}
	defer sinks.Close()
	q := newQuay(b, "127.20.96.1", slots)
	dir := b.TempDir()
	s := startAt(b, "serve", dir, "127.0.0.1:0")
	s.login()
	s.fill(slots, slots, q)
	s.ok("channel", "set", "hook", "--webhook", "https://"+sinks.Hook+"/", "--pin", sinks.Certificate,
		"--secret-file", write(b, filepath.Join(b.TempDir(), "key"), sinks.Key))
	s.ok("notice", "rule", "unreachable", "--condition", "unreachable", "--to", "hook", "--recovery")
	s.ok("sweep")
	root := testkit.Root(b, "Another Root")
	random := rand.New(rand.NewPCG(3, 5))
	change := func() {
		name := fmt.Sprintf("gate-%d.tidewrack.example", random.IntN(slots))
		leaf := root.Leaf(b, name)
		q.lock.Lock()
		defer q.lock.Unlock()
		if random.IntN(4) == 0 && q.certs[name] != nil {
			q.certs[name] = nil // it falls silent
			return
		}
		q.certs[name] = &tls.Certificate{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key}
	}
	begun, sweeps, kills := time.Now(), 0, 0
	var memories []float64
	for time.Since(begun) < long {
		for range 50 {
			change()
		}
		if s.run("", "sweep"); true {
			sweeps++
			memories = append(memories, resident(b, s.cmd.Process.Pid))
		}
		if sweeps%3 == 0 {
			s.kill()
			kills++
			s = startAt(b, "serve", dir, "127.0.0.1:0")
			s.login()
		}
	}
	s.ok("sweep")
	var list []struct {
		Device, Condition string
		ServerName        string `json:"server_name"`
	}
	s.json(&list, "slot", "list")
	wrong := 0
	for _, slot := range list {
		q.lock.Lock()
		c, ours := q.certs[slot.ServerName]
		q.lock.Unlock()
		if ours && (c == nil) != (slot.Condition == "unreachable") {
			wrong++
		}
	}
	for range 200 { // what is served is what the newest reading says
		slot := list[random.IntN(len(list))]
		q.lock.Lock()
		c := q.certs[slot.ServerName]
		q.lock.Unlock()
		if c == nil {
			continue
		}
		var shown struct {
			Certificate struct{ SHA256 string }
		}
		s.json(&shown, "slot", "show", slot.Device+"/web")
		if shown.Certificate.SHA256 != cert.Fingerprint(c.Certificate[0]) {
			wrong++
		}
	}
	time.Sleep(5 * time.Second) // the last notices
	seen, twice := map[string][]string{}, 0
	for _, g := range sinks.Got("hook") {
		var m notice.Message
		if json.Unmarshal([]byte(g.Text), &m) != nil {
			b.Fatal("a message cannot be read")
		}
		for _, i := range m.Items {
			if n := seen[i.Slot]; !slices.Contains(n, i.ID+string(i.Kind)) {
				if len(n) > 0 && strings.HasSuffix(n[len(n)-1], string(i.Kind)) {
					twice++ // told of twice without an end in between
				}
				seen[i.Slot] = append(n, i.ID+string(i.Kind))
			}
		}
	}
	b.ReportMetric(float64(sweeps*slots)/time.Since(begun).Seconds(), "readings/s")
	b.ReportMetric(float64(kills), "kills")
	b.ReportMetric(float64(wrong), "wrong")
	b.ReportMetric(float64(twice), "told-twice")
	b.ReportMetric(float64(len(sinks.Got("hook"))), "messages")
	b.ReportMetric(memories[len(memories)-1]/memories[0], "x-memory")
	if wrong > 0 || twice > 0 {
		b.Errorf("%d slots are wrong, %d told twice\n%s", wrong, twice, s.log)
	}
	s.stop()
}
