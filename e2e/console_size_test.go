package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/e2e/browser"
	"freshseal/store"
)

// With thousands of worse slots the overview and the calendar still say what expires within a week, to the last one.
func TestNothingIsHiddenBehindThousands(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "serve", dir)
	s.login()
	s.stop()
	db, err := store.Open(t.Context(), filepath.Join(dir, "freshseal.db"))
	if err != nil {
		t.Fatal(err)
	}
	var devices []store.NewDevice
	for i := range 300 {
		d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("buoy-%03d.tidewrack.example", i), Site: "Saltmere",
			Address: "127.0.0.9"}}
		for n := range 10 {
			d.Slots = append(d.Slots, store.Slot{Name: fmt.Sprint("s", n), Address: "127.0.0.9", Port: 9000 + n,
				Protocol: "tls"})
		}
		devices = append(devices, d)
	}
	if err := db.Devices.Add(t.Context(), devices); err != nil {
		t.Fatal(err)
	}
	slots, err := db.Slots.List(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now().UTC()
	soon := now.Truncate(24*time.Hour).AddDate(0, 0, 4).Add(15 * time.Hour)
	var readings []store.NewReading
	breaking, starting, n := 0, 0, 0
	for _, slot := range slots {
		if slot.Site != "Saltmere" {
			continue // the service itself
		}
		slot.ReadAt, slot.NextAt = store.At(now), store.At(now.AddDate(0, 0, 30))
		slot.Base, slot.NotAfter = due.Flawed, store.At(now.AddDate(1, 0, 0))
		switch n++; {
		case n%15 == 0: // expires within a week
			breaking++
			slot.Base, slot.NotAfter = due.Fresh, store.At(soon)
		case n%16 == 0: // somebody must begin within a week
			starting++
			slot.Base, slot.NotAfter = due.Fresh, store.At(now.AddDate(0, 0, 40))
		case n%17 == 0:
			slot.Base = due.Factory
		}
		slot.OverdueFrom, slot.DueFrom = slot.NotAfter, slot.NotAfter
		if n%16 == 0 {
			slot.OverdueFrom = store.At(now.AddDate(0, 0, 3))
		}
		slot.Chain.V = []string{"ab"}
		readings = append(readings, store.NewReading{Slot: slot})
	}
	if _, err := db.Readings.Add(t.Context(), readings); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	again := start(t, "serve", dir)
	again.config = s.config
	write(t, s.config, strings.Replace(read(t, s.config), s.url, again.url, 1))
	p := openConsole(t, again)
	panel := func(title, says string) func() error {
		return func() error {
			return p.Wait(fmt.Sprintf("//section[@aria-label=%q]//a[normalize-space()=%q]", title, says))
		}
	}
	steps(t,
		panel("Expired or expiring within 7 days", fmt.Sprintf("and %d more", breaking-6)),
		panel("To do this week", fmt.Sprintf("and %d more", starting-5)),
		func() error { return p.Click(fmt.Sprintf("//a[normalize-space()='and %d more']", breaking-6)) },
		func() error { return p.Wait(rowsShown(fmt.Sprintf("1 to 50 of %d", breaking))) },
		func() error { return p.Go("/calendar?month=" + soon.Format("2006-01")) },
		func() error { return p.Click(browser.Link("/slots?ends=" + soon.Format(time.DateOnly))) },
		func() error { return p.Wait(rowsShown(fmt.Sprintf("1 to 50 of %d", breaking))) },
	)
	var urgent struct {
		Breaking, Start, Faulty, Unreachable struct{ Total int }
		NotRead                              int `json:"not_read"`
	}
	_, body := again.caller(t).does("GET", "/urgent", "", "")
	if err := json.Unmarshal([]byte(body), &urgent); err != nil || urgent.Breaking.Total != breaking ||
		urgent.Start.Total != starting ||
		urgent.Faulty.Total+breaking+starting+urgent.Unreachable.Total < 3000 || urgent.NotRead > 1 {
		t.Errorf("%+v, %v; %d break, %d start", urgent, err, breaking, starting)
	}
}

// What has come over the wire when a page is first drawn, code and styles, is less than 150 kB; what is drawn later,
// like charts, comes later.
func TestTheFirstPaintNeedsLittle(t *testing.T) {
	t.Parallel()
	p := openConsole(t, start(t, "serve", t.TempDir()))
	steps(t,
		func() error { return p.Go("/") },
		func() error { return p.Wait("//h1[contains(.,'slot')]") },
		func() error { return p.Wait("//*[.='As a list']") },
	)
	const sum = `(after => String(performance.getEntriesByType('resource')
		.filter(e => /\.(js|css)$/.test(new URL(e.name).pathname))
		.filter(e => after || e.startTime <= performance.getEntriesByName('first-contentful-paint')[0].startTime)
		.reduce((n, e) => n + e.encodedBodySize, 0)))`
	first, err := p.Eval(sum + "(false)")
	whole, err2 := p.Eval(sum + "(true)")
	t.Logf("%s bytes until the first paint, %s in all", first, whole)
	if n, _ := strconv.Atoi(first); err != nil || n < 80_000 || n > 150_000 {
		t.Errorf("%s bytes until the first paint, %v", first, err)
	}
	if n, _ := strconv.Atoi(whole); err2 != nil || n < 200_000 {
		t.Errorf("%s bytes in all, with the charts: not measured, %v", whole, err2)
	}
}

// A page that is gone back to is where it was left; another one begins at its top.
func TestTheConsoleGoesBackToTheSamePlace(t *testing.T) {
	t.Parallel()
	p := openConsole(t, start(t, "demo", t.TempDir()))
	at := func(low, high int) func() error {
		return func() error {
			y, err := p.Eval("String(Math.round(scrollY))")
			if n, _ := strconv.Atoi(y); err != nil || n < low || n > high {
				return fmt.Errorf("the page is at %s, %w", y, err)
			}
			return nil
		}
	}
	steps(t,
		func() error { return p.Go("/slots") },
		func() error { return p.Wait("//tbody/tr[20]") },
		func() error { _, err := p.Eval("scrollTo(0, 700), ''"); return err },
		at(700, 700),
		func() error { return p.Click("//tbody/tr[20]//a") },
		func() error { return p.Wait("//*[.='Add a pin']") },
		at(0, 0),
		p.Back,
		func() error { return p.Wait("//tbody/tr[20]") },
		at(650, 750),
	)
}

// covered tells whether the bar covers what has the focus, or whether that is out of sight.
const covered = `(() => {
	const focused = document.activeElement
	if (focused.matches('body, a[href="#content"]') || focused.closest('header')) return 'false'
	const bar = document.querySelector('header').getBoundingClientRect()
	const at = focused.getBoundingClientRect()
	const out = at.bottom <= 0 || at.top >= innerHeight || at.right <= 0 || at.left >= innerWidth
	return String(out || bar.bottom > 0 && at.top < bar.bottom && at.bottom > bar.top)
})()`

// On a narrow screen, or at twice the size, the pages are behind one button, which the keyboard opens and Escape
// closes; the bar scrolls away and covers nothing that has the focus.
func TestTheConsoleLeadsEverywhereOnANarrowScreen(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	for _, width := range []int{390, 640} {
		steps(t,
			func() error { return p.Size(width, 700) },
			func() error { return p.Go("/slots") },
			func() error { return p.Wait("//tr[@data-id]") },
			func() error { return p.Click(browser.Button("Menu")) },
			func() error { return p.Wait("//nav//ul//a[.='Calendar']") },
			func() error { return p.Press("\x1b") },
			func() error { return p.Gone("//nav//ul") },
			func() error { return p.Press("\r") }, // the button has the focus again
			func() error { return p.Click("//nav//ul//a[.='Audit log']") },
			func() error { return p.Wait("//h1[contains(.,'Audit log')]") },
		)
		for range 40 {
			steps(t, func() error { return p.Press("\t") })
			if hidden, err := p.Eval(covered); err != nil || hidden == "true" {
				what, _ := p.Eval("document.activeElement.outerHTML.slice(0, 200)")
				t.Fatalf("at %d pixels the bar covers %s, %v", width, what, err)
			}
		}
	}
}
