package e2e

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
	"freshseal/e2e/browser"

	"github.com/jmoiron/sqlx"
)

// BenchmarkService measures the program from outside: how soon it is ready on an
// empty folder, how much memory it holds, and how fast a page of slots comes
// from a fleet of 10,000 devices while the whole fleet is being read.
func BenchmarkService(b *testing.B) {
	dir := b.TempDir()
	begun := time.Now()
	cmd := exec.Command(program, "serve", "--dir", dir, "--listen", "127.0.0.1:0", "--read-every", "0")
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	defer func() { cmd.Process.Signal(syscall.SIGTERM); cmd.Wait() }()
	line := make([]byte, 100)
	n, err := out.Read(line)
	if err != nil {
		b.Fatal(err)
	}
	ready := time.Since(begun)
	url := strings.TrimSpace(strings.TrimPrefix(string(line[:n]), "ready: "))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		MaxIdleConnsPerHost: 4}}
	idle := resident(b, cmd.Process.Pid)

	text, err := os.ReadFile(filepath.Join(dir, "first-sign-in.txt"))
	if err != nil {
		b.Fatal(err)
	}
	_, password, _ := strings.Cut(string(text), "password: ")
	var session struct{ Token string }
	call(b, client, "", "POST", url+"/api/v1/session",
		map[string]any{"user": "admin", "password": strings.TrimSpace(password), "client": true}, &session)
	var fleet bytes.Buffer
	fleet.WriteString("name,address,port\n")
	for i := range 10_000 {
		fmt.Fprintf(&fleet, "sensor-%d.gannet-point.tidewrack.example,127.20.90.1,9\n", i)
	}
	call(b, client, session.Token, "POST", url+"/api/v1/imports", map[string]any{"csv": fleet.String()}, nil)

	sweep, err := http.NewRequestWithContext(b.Context(), "POST", url+"/api/v1/sweeps", strings.NewReader("{}"))
	if err != nil {
		b.Fatal(err)
	}
	sweep.Header.Set("Authorization", "Bearer "+session.Token)
	go client.Do(sweep) // readings are written meanwhile; it may outlast the pages
	var times []time.Duration
	for b.Loop() {
		begun := time.Now()
		var page struct{ Items []any }
		call(b, client, session.Token, "GET", url+"/api/v1/slots?limit=50", nil, &page)
		if len(page.Items) != 50 {
			b.Fatalf("%d slots on a page", len(page.Items))
		}
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	b.ReportMetric(float64(times[len(times)*99/100].Microseconds())/1000, "ms-p99-page")
	b.ReportMetric(float64(ready.Milliseconds()), "ms-to-ready")
	b.ReportMetric(idle, "MB-idle")
	b.ReportMetric(resident(b, cmd.Process.Pid), "MB-10000-devices")
}

// BenchmarkConsole measures the console with 5,000 devices: the first row of a page
// that was never loaded, over a line of 1.6 Mbit/s and 150 ms, what the service gives
// for it, and how long it takes until another filter, order or page is shown.
func BenchmarkConsole(b *testing.B) {
	s := startAt(b, "serve", b.TempDir(), "127.0.0.1:0", "--read-every", "0")
	s.login()
	s.ok("device", "import", write(b, b.TempDir()+"/fleet.csv", fleetCSV(b, 5000)))
	p, err := browser.Open(b.Context(), s.url, b.TempDir(), 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer p.Close()
	do := func(list ...func() error) {
		for _, step := range list {
			if err := step(); err != nil {
				b.Fatal(err)
			}
		}
	}
	_, password, _ := strings.Cut(read(b, s.dir+"/first-sign-in.txt"), "password: ")
	do(func() error { return p.Go("/") }, func() error { return p.SignIn("admin", strings.TrimSpace(password)) })
	sum := map[string]float64{}
	took := func(what, row string, act func() error) {
		do(act)
		ms, err := p.Appears(row)
		if err != nil {
			b.Fatal(what, err)
		}
		sum[what] += ms
	}
	rounds := 0.0
	for b.Loop() {
		rounds++
		do(func() error { return p.Slow(1.6e6/8, 150) })
		took("cold", "tbody tr[data-id]", func() error { return p.Go("/slots") })
		kb, err := p.Eval("String(performance.getEntriesByType('resource').filter(e => " +
			"e.name.endsWith('.js')).reduce((n, e) => n + e.encodedBodySize, 0) / 1000)")
		if err != nil {
			b.Fatal(err)
		}
		n, err := strconv.ParseFloat(kb, 64)
		if err != nil {
			b.Fatal(err)
		}
		sum["js"] += n
		do(func() error { return p.Slow(0, 0) }, p.Settle)
		bySlot := p.Clicks("th:nth-child(3) .MuiTableSortLabel-root")
		do(bySlot, func() error { return p.Wait("//th[@aria-sort='ascending']") }, p.Settle)
		took("sort", "tr[data-id='service.freshseal.example/web'], tr[data-id='buoy-4999.tidewrack.example/web']",
			bySlot)
		do(p.Settle)
		took("page", "tr[data-id='buoy-4930.tidewrack.example/web']", p.Clicks("[aria-label='Next page']"))
		do(p.Settle)
		took("filter", "tr[data-id='buoy-0007.tidewrack.example/web']", p.Types("input[type=search]", "buoy-0007"))
	}
	b.ReportMetric(sum["cold"]/rounds/1000, "s-to-first-row")
	b.ReportMetric(sum["cold"]/rounds/2500, "x-of-2.5s")
	b.ReportMetric(sum["js"]/rounds, "kB-of-js")
	for _, what := range []string{"sort", "page", "filter"} {
		b.ReportMetric(sum[what]/rounds, "ms-"+what)
	}
}

func call(b *testing.B, client *http.Client, token, method, url string, in, out any) {
	body, err := json.Marshal(in)
	if err != nil {
		b.Error(err)
	}
	r, err := http.NewRequest(method, url, bytes.NewReader(body))
	if err != nil {
		b.Error(err)
		return
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(r)
	if err != nil {
		b.Error(err)
		return
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode >= 300 {
		b.Errorf("%s %s: %s %v %s", method, url, answer.Status, err, text)
	}
	if out != nil {
		if err := json.Unmarshal(text, out); err != nil {
			b.Error(err)
		}
	}
}

// resident is the memory that a process holds, in MB.
func resident(b *testing.B, pid int) float64 {
	mb := memory(pid, "VmRSS:")
	if mb == 0 {
		b.Fatal("the process is gone")
	}
	return mb
}

// memory is a line of what the system knows of a process, in MB; 0 once it is gone.
func memory(pid int, line string) float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	var kb float64
	_, rest, _ := strings.Cut(string(text), line)
	fmt.Sscan(rest, &kb)
	return kb / 1024
}

// BenchmarkInspectMemory measures how much memory a large pile takes beyond what
// the program takes for a single certificate, as a multiple of the pile.
func BenchmarkInspectMemory(b *testing.B) {
	root := testkit.Root(b, "Quay Root")
	single, many := filepath.Join(b.TempDir(), "one.pem"), filepath.Join(b.TempDir(), "many.pem")
	var text bytes.Buffer
	for i := range 10_000 {
		text.Write(root.Leaf(b, fmt.Sprintf("box-%d.tidewrack.example", i)).PEM())
	}
	for file, content := range map[string][]byte{single: root.PEM(), many: text.Bytes()} {
		if err := os.WriteFile(file, content, 0o600); err != nil {
			b.Fatal(err)
		}
	}
	peak := func(file string) float64 {
		cmd := exec.CommandContext(b.Context(), program, "inspect", file, "--at", testkit.Now.Format(time.RFC3339))
		if err := cmd.Start(); err != nil {
			b.Fatal(err)
		}
		ended := make(chan struct{})
		go func() { cmd.Wait(); close(ended) }() // that something is found wrong is its exit code
		most := 0.0
		for {
			select {
			case <-ended:
				return most * (1 << 20)
			case <-time.After(2 * time.Millisecond):
				most = max(most, memory(cmd.Process.Pid, "VmHWM:")) // the system keeps the peak
			}
		}
	}
	for b.Loop() {
		b.ReportMetric((peak(many)-peak(single))/float64(text.Len()), "x-pile-memory")
	}
}

// BenchmarkTakeIn measures the intake of a whole pile by the running service, every
// leaf for a request that waits: how long one leaf takes, and how much of that a
// leaf of a pile a quarter the size takes, which shows that it grows in a line.
func BenchmarkTakeIn(b *testing.B) {
	for b.Loop() {
		small, large := takeIn(b, 500), takeIn(b, 2000)
		b.ReportMetric(float64(large.Microseconds()), "µs/leaf")
		b.ReportMetric(float64(large)/float64(small), "x-leaf-of-a-quarter")
	}
}

// takeIn lets so many requests be answered at once, and says how long one took.
func takeIn(b *testing.B, n int) time.Duration {
	dir := b.TempDir()
	s := start(b, "serve", dir)
	s.login()
	var fleet, pile bytes.Buffer
	fleet.WriteString("name,address,port,family\n")
	for i := range n {
		fmt.Fprintf(&fleet, "sensor-%d.gannet-point.tidewrack.example,127.20.90.1,9,web-pages-by-hand\n", i)
	}
	s.ok("device", "import", write(b, filepath.Join(dir, "fleet.csv"), fleet.String()))
	root := testkit.Root(b, "Quay Root", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(5, 0, 0) })
	s.ok("trust-group", "add", "fleet", write(b, filepath.Join(dir, "root.pem"), string(root.PEM())))
	s.stop()
	// Waiting for the signer is where they are put; how they come there is no part of this.
	db, err := sqlx.Open("sqlite", filepath.Join(dir, "freshseal.db"))
	if err != nil {
		b.Fatal(err)
	}
	var slots []struct {
		ID     int64  `db:"id"`
		Device int64  `db:"device_id"`
		Name   string `db:"name"`
	}
	if err := db.Select(&slots, `SELECT slot.id, slot.device_id, device.name FROM slot
		JOIN device ON device.id = slot.device_id WHERE device.name LIKE 'sensor%'`); err != nil {
		b.Fatal(err)
	}
	tx := db.MustBegin()
	for _, slot := range slots {
		leaf := root.Leaf(b, slot.Name, func(c *x509.Certificate) {
			c.NotBefore, c.NotAfter = time.Now().AddDate(0, 0, -1), time.Now().AddDate(0, 3, 0)
		})
		pile.Write(leaf.PEM())
		plan := request.Plan{Names: []string{slot.Name}}.Complete()
		asked, err := request.Make(plan, leaf.Key)
		if err != nil {
			b.Fatal(err)
		}
		text, err := json.Marshal(plan)
		if err != nil {
			b.Fatal(err)
		}
		tx.MustExec(`INSERT INTO replacement (device_id, slot_id, signer, plan, stage, state, waiting_for, reverting,
			stopping, why, request, spki, asked_by, started_at, changed_at)
			VALUES (?, ?, 'desk', ?, 'sign', 'waiting', 'signer', 0, 0, '', ?, ?, 'admin', 1, 1)`, slot.Device,
			slot.ID, string(text), asked.Raw, cert.Fingerprint(asked.SPKI()))
	}
	if err := errors.Join(tx.Commit(), db.Close()); err != nil {
		b.Fatal(err)
	}
	s = startAt(b, "serve", dir, strings.TrimPrefix(s.url, "https://"))
	file := write(b, filepath.Join(dir, "pile.pem"), pile.String())
	begun := time.Now()
	var in struct{ Answers []struct{ Accepted bool } }
	s.json(&in, "intake", file)
	took := time.Since(begun)
	for _, a := range in.Answers {
		if !a.Accepted {
			b.Fatal("a leaf is not accepted")
		}
	}
	if len(in.Answers) != n {
		b.Fatalf("%d answers", len(in.Answers))
	}
	s.kill()
	return took / time.Duration(n)
}
