package e2e

import (
	"bufio"
	"crypto/tls"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/testkit"
)

// quay serves a certificate for each of many names at one port of loopback. A name may serve another one, or nothing.
type quay struct {
	address, port string
	lock          sync.Mutex
	certs         map[string]*tls.Certificate // nil: the connection is closed
}

func newQuay(tb testing.TB, address string, names int) *quay {
	tb.Helper()
	q := &quay{address: address, certs: map[string]*tls.Certificate{}}
	root := testkit.Root(tb, "Quay Root")
	for i := range names {
		name := fmt.Sprintf("gate-%d.tidewrack.example", i)
		leaf := root.Leaf(tb, name)
		q.certs[name] = &tls.Certificate{Certificate: [][]byte{leaf.Raw}, PrivateKey: leaf.Key}
	}
	config := &tls.Config{GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		q.lock.Lock()
		defer q.lock.Unlock()
		if c := q.certs[hello.ServerName]; c != nil {
			return c, nil
		}
		return nil, io.EOF
	}}
	l, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
	if err != nil {
		tb.Fatal(err)
	}
	_, q.port, _ = net.SplitHostPort(l.Addr().String())
	var open sync.WaitGroup
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(30 * time.Second))
				tls.Server(conn, config).Handshake()
			})
		}
	})
	tb.Cleanup(func() { l.Close(); open.Wait() })
	return q
}

// TestAQuayAlone is no test: it is a quay that a benchmark starts as a process of its own, so that who asks for pages
// does not wait for its handshakes.
func TestAQuayAlone(t *testing.T) {
	address, names, ok := strings.Cut(os.Getenv("FRESHSEAL_BENCH_QUAY"), " ")
	if !ok {
		t.Skip("no benchmark asks for it")
	}
	n, err := strconv.Atoi(names)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Printf("quay: %s\n", newQuay(t, address, n).port)
	io.Copy(io.Discard, os.Stdin) // until the benchmark ends
}

// quayAlone starts a quay as a process.
func quayAlone(tb testing.TB, address string, names int) *quay {
	tb.Helper()
	cmd := exec.Command(os.Args[0], "-test.run=^TestAQuayAlone$", "-test.timeout=0")
	cmd.Env = append(os.Environ(), fmt.Sprintf("FRESHSEAL_BENCH_QUAY=%s %d", address, names))
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2, cmd.Start()); err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { in.Close(); cmd.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if port, ok := strings.CutPrefix(lines.Text(), "quay: "); ok {
			return &quay{address: address, port: port}
		}
	}
	tb.Fatal("the quay does not start")
	return nil
}

// fill imports a fleet of slots at a quay.
func (s *server) fill(slots, names int, q *quay) {
	s.t.Helper()
	for from := 0; from < slots; from += 20_000 {
		var lines strings.Builder
		lines.WriteString("name,address,site,owner,tags,port,server_name\n")
		for i := from; i < min(from+20_000, slots); i++ {
			fmt.Fprintf(&lines, "box-%06d.tidewrack.example,%s,site %02d,owner "+
				"%d,tag%d,%s,gate-%d.tidewrack.example\n", i*7919%1_000_000, q.address, i%20, i%50, i%30, q.port,
				i%names)
		}
		s.ok("device", "import", write(s.t, filepath.Join(s.t.TempDir(), "fleet.csv"), lines.String()))
	}
}

// BenchmarkLargeFleet measures the real program with 100,000 slots: how soon it is ready, pages over HTTPS while the
// whole fleet is read, one slot's and one device's page, how long a change of a rule takes, and what it holds of memory
// and disk. FRESHSEAL_BENCH_SLOTS is another number of slots.
func BenchmarkLargeFleet(b *testing.B) {
	slots, names := 100_000, 2000
	if text := os.Getenv("FRESHSEAL_BENCH_SLOTS"); text != "" {
		slots, _ = strconv.Atoi(text)
	}
	for b.Loop() {
		q := quayAlone(b, "127.20.95.1", names)
		dir := b.TempDir()
		s := start(b, "serve", dir)
		s.login()
		begun := time.Now()
		s.fill(slots, names, q)
		b.ReportMetric(float64(slots)/time.Since(begun).Seconds(), "imported/s")
		begun = time.Now()
		s.ok("sweep")
		b.ReportMetric(float64(slots)/time.Since(begun).Seconds(), "first-readings/s")
		b.ReportMetric(resident(b, s.cmd.Process.Pid), "first-MB")
		var overview contract.Overview
		s.json(&overview, "status")
		s.stop()
		for c, n := range conditionsOf(b, filepath.Join(dir, "freshseal.db")) {
			if overview.Conditions[c] != n {
				b.Fatalf("the overview says that %d slots are %s; they are %d", overview.Conditions[c], c, n)
			}
		}
		info, err := os.Stat(filepath.Join(dir, "freshseal.db"))
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(info.Size())/float64(slots), "bytes/slot")
		begun = time.Now()
		s = startAt(b, "serve", dir, "127.0.0.1:0")
		b.ReportMetric(float64(time.Since(begun).Milliseconds()), "ready-ms")
		s.login()
		idle := s.pages(b, 5)
		b.ReportMetric(float64(idle.usual.Microseconds())/1000, "idle-p50-ms")
		b.ReportMetric(float64(idle.slow.Microseconds())/1000, "idle-p99-ms")
		swept := make(chan time.Duration)
		go func() {
			at := time.Now()
			s.run("", "sweep")
			swept <- time.Since(at)
		}()
		time.Sleep(time.Second)
		busy := s.pages(b, 5)
		b.ReportMetric(float64(busy.usual.Microseconds())/1000, "p50-ms")
		b.ReportMetric(float64(busy.slow.Microseconds())/1000, "p99-ms")
		b.ReportMetric(float64(slots)/(<-swept).Seconds(), "readings/s")
		b.ReportMetric(resident(b, s.cmd.Process.Pid), "MB")
		if wal, err := os.Stat(filepath.Join(dir, "freshseal.db-wal")); err == nil {
			b.ReportMetric(float64(wal.Size()>>20), "WAL-MB")
		}
		begun = time.Now()
		s.ok("policy", "set", "fleet", "--renewal", "40")
		for s.judging() {
			time.Sleep(200 * time.Millisecond)
		}
		b.ReportMetric(time.Since(begun).Seconds(), "rule-s")
		b.Logf("slowest while reading: %s", strings.Join(busy.worst, ", "))
		s.stop()
	}
}

// conditionsOf counts the slots of a database by condition.
func conditionsOf(b *testing.B, file string) map[due.Condition]int {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	out := map[due.Condition]int{}
	for _, c := range due.Conditions {
		var n int
		if err := db.QueryRow(`SELECT count(*) FROM slot WHERE condition = ?`, c).Scan(&n); err != nil {
			b.Fatal(err)
		}
		out[c] = n
	}
	return out
}

func (s *server) judging() bool {
	var status struct{ Judging *struct{} }
	s.json(&status, "status")
	return status.Judging != nil
}

// paged is how long pages took.
type pagedTimes struct {
	usual, slow time.Duration
	worst       []string
}

// pages asks for every kind of page, several times each.
func (s *server) pages(b *testing.B, times int) pagedTimes {
	b.Helper()
	text, err := os.ReadFile(s.config)
	if err != nil {
		b.Fatal(err)
	}
	_, token, _ := strings.Cut(string(text), "token: ")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	var next string
	get := func(path string) time.Duration {
		r, err := http.NewRequest("GET", s.url+"/api/v1"+path, nil)
		if err != nil {
			b.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+strings.TrimSpace(token))
		begun := time.Now()
		answer, err := client.Do(r)
		if err != nil {
			b.Fatal(err)
		}
		body, err := io.ReadAll(answer.Body)
		took := time.Since(begun)
		answer.Body.Close()
		if err != nil || answer.StatusCode != 200 {
			b.Fatalf("%s: %s %v %s", path, answer.Status, err, body)
		}
		var page struct{ Next string }
		json.Unmarshal(body, &page)
		next = page.Next
		return took
	}
	type kind struct {
		path string
		took time.Duration
	}
	var all []kind
	look := func(path string) {
		for range times {
			all = append(all, kind{path, get(path)})
		}
	}
	for list, c := range map[string]struct{ sorts, filters []string }{
		"/slots": {[]string{"condition", "expires_at", "device", "site", "address"},
			[]string{"", "site=site+07", "owner=owner+9", "condition=expired", "condition=unreachable",
				"site=site+07&condition=expired", "tag=tag4", "ends=2026-09",
				"text=box-000777", "text=nowhere", "text=tidewrack", "device=nobody", "site=site+07&owner=owner+7"}},
		"/devices": {[]string{"name", "condition", "expires_at", "site", "family", "address"},
			[]string{"", "site=site+07", "condition=expired", "condition=unreachable", "owner=owner+9",
				"text=nowhere", "text=tidewrack"}},
	} {
		for _, sort := range c.sorts {
			for _, filter := range c.filters {
				for _, desc := range []string{"false", "true"} {
					path := list + "?limit=50&sort=" + sort + "&desc=" + desc + "&" + filter
					look(path)
					if get(path); next != "" {
						look(path + "&cursor=" + url.QueryEscape(next))
					}
				}
			}
		}
	}
	for _, path := range []string{"/slots/box-000000.tidewrack.example/web", "/devices/box-007919.tidewrack.example",
		"/status", "/due?limit=50", "/facets", "/expiries", "/slots/box-000000.tidewrack.example/web/readings"} {
		look(path)
	}
	slices.SortFunc(all, func(a, b kind) int { return int(b.took - a.took) })
	out := pagedTimes{usual: all[len(all)/2].took, slow: all[len(all)/100].took}
	for _, k := range all[:min(12, len(all))] {
		out.worst = append(out.worst, fmt.Sprintf("%s %.1f ms", k.path, float64(k.took.Microseconds())/1000))
	}
	return out
}
