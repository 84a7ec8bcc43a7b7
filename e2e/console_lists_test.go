package e2e

import (
	"fmt"
	"strings"
	"testing"

	"freshseal/e2e/browser"

	"github.com/chromedp/chromedp/kb"
)

// A list of 120 devices is sorted by address, shown in the pages that somebody wants, moved through by keys, and
// printed whole in light colours from a dark screen.
func TestTheConsolesListsSortTurnAndPrint(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	lines := "name,address,owner,tags,slot,port\n"
	for i := range 120 {
		lines += fmt.Sprintf("tide-%03d.saltmere.tidewrack.example,127.1.0.%d,keeper %d,pier,web,443\n", i, 120-i, i%7)
	}
	s.ok("device", "import", write(t, t.TempDir()+"/fleet.csv", lines))
	p := openConsole(t, s)
	sort := func(title string) func() error {
		return func() error { return p.Click("//th//span[normalize-space()='" + title + "']") }
	}
	shows := func(text string) func() error { return func() error { return p.Wait(rowsShown(text)) } }
	first := func(id string) func() error {
		return func() error { return p.Wait("//tbody/tr[1][@data-id='" + id + "']") }
	}
	eval := func(script string) string {
		t.Helper()
		out, err := p.Eval("String(" + script + ")")
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	steps(t,
		func() error { return p.Go("/devices?text=tide") },
		shows("1 to 50 of 120"),
		sort("Address"), // 127.1.0.1, 2, 3 … and not 1, 10, 100
		first("tide-119.saltmere.tidewrack.example"),
		func() error { return p.Wait("//tbody/tr[2][@data-id='tide-118.saltmere.tidewrack.example']") },
		sort("Address"),
		first("tide-000.saltmere.tidewrack.example"),
		sort("Owner"),
		func() error { return p.Wait("//th[@aria-sort='ascending' and normalize-space()='Owner']") },
		first("tide-000.saltmere.tidewrack.example"),
		sort("Owner"),
		first("tide-118.saltmere.tidewrack.example"), // of keeper 6
		sort("Owner"), // a third press is the list's own order again
		first("tide-000.saltmere.tidewrack.example"),
		func() error { return p.Gone("//th[@aria-sort]") },
		// how many rows a page has is kept, for every list
		func() error { return p.Click(browser.Button("Rows")) },
		func() error { return p.Click("//li[.='100 rows per page']") },
		shows("1 to 100 of 120"),
		func() error { return p.Go("/slots?text=tide&sort=address") },
		shows("1 to 100 of 120"),
		first("tide-119.saltmere.tidewrack.example/web"),
	)
	tall := eval("document.querySelector('tbody tr').clientHeight")
	steps(t,
		func() error { return p.Click(browser.Button("Rows")) },
		func() error { return p.Click("//li[contains(.,'Compact rows')]") },
		func() error { return p.Gone("//*[@role='menu']") },
	)
	if low := eval("document.querySelector('tbody tr').clientHeight"); len(low) > len(tall) || low >= tall {
		t.Errorf("a compact row is %s high, another %s", low, tall)
	}
	// The whole table is one stop of the Tab key.
	where := func() string {
		return eval("document.activeElement.closest('tr')?.dataset.id + ' ' + document.activeElement.tagName")
	}
	steps(t, func() error { _, err := p.Eval("document.querySelector('tbody tr').focus(), ''"); return err })
	for _, move := range []struct{ key, to string }{
		{kb.ArrowDown, "tide-118.saltmere.tidewrack.example/web TR"},
		{kb.ArrowRight, "tide-118.saltmere.tidewrack.example/web INPUT"},
		{kb.ArrowRight, "tide-118.saltmere.tidewrack.example/web A"},
		{kb.ArrowLeft, "tide-118.saltmere.tidewrack.example/web INPUT"},
		{kb.ArrowUp, "tide-119.saltmere.tidewrack.example/web TR"},
		{kb.ArrowUp, "undefined INPUT"}, // the head: the box that chooses all
		{kb.ArrowRight, "undefined SPAN"},
		{kb.ArrowDown, "tide-119.saltmere.tidewrack.example/web TR"},
		{kb.End, "tide-020.saltmere.tidewrack.example/web TR"},
	} {
		if err := p.Press(move.key); err != nil {
			t.Fatal(err)
		}
		if at := where(); at != move.to {
			t.Fatalf("the focus is at %s, not at %s", at, move.to)
		}
	}
	if stops := eval("document.querySelectorAll('table [tabindex=\"0\"]').length"); stops != "1" {
		t.Errorf("the table has %s stops", stops)
	}
	steps(t,
		func() error { return p.Press("\t") },
		func() error { return p.Wait("//button[.='Rows']") },
	)
	if at := eval("document.activeElement.innerText"); at != "Rows" {
		t.Errorf("behind the table the focus is at %q", at)
	}
	steps(t,
		func() error { _, err := p.Eval("document.querySelector('tbody tr').focus(), ''"); return err },
		func() error { return p.Press(kb.PageDown) },
		shows("101 to 120 of 120"),
		func() error { _, err := p.Eval("document.querySelector('tbody tr').focus(), ''"); return err },
		func() error { return p.Press(kb.PageUp) },
		shows("1 to 100 of 120"),
	)
	// A dark screen prints all 120 rows, dark on white, without what only a screen needs.
	steps(t,
		func() error {
			_, err := p.Eval("window.print = () => {}, document.documentElement.dataset.scheme = 'dark', ''")
			return err
		},
		func() error { return p.Click(browser.Button("Print")) },
		func() error { return p.Wait("//*[@role='status' and contains(.,'120 rows')]") },
		func() error { return p.Media("print") },
		p.Settle,
	)
	if rows := eval("document.querySelectorAll('tbody tr').length"); rows != "120" {
		t.Errorf("%s rows are printed", rows)
	}
	if last := eval("[...document.querySelectorAll('tbody tr')].at(-1).dataset.id"); !strings.HasPrefix(last,
		"tide-000") {
		t.Errorf("the last row that is printed is %s", last)
	}
	for what, want := range map[string]string{
		"getComputedStyle(document.body).backgroundColor":                             "rgb(255, 255, 255)",
		"getComputedStyle(document.querySelector('tbody td a')).color":                "rgb(31, 58, 104)",
		"getComputedStyle(document.querySelector('tbody td[data-field=site]')).color": "rgb(26, 34, 54)",
		"getComputedStyle(document.querySelector('header')).display":                  "none",
		"[...document.querySelectorAll('button')].filter(b => b.offsetParent && !b.closest('table')).map(b => " +
			"b.outerText)": "",
	} {
		if is := eval(what); is != want {
			t.Errorf("on paper %s is %s, not %s", what, is, want)
		}
	}
	steps(t,
		func() error { return keepPicture(p, "printed") },
		func() error { return p.Media("") },
		func() error { _, err := p.Eval("window.dispatchEvent(new Event('afterprint')), ''"); return err },
		shows("1 to 100 of 120"),
		func() error { return p.Gone("//tbody/tr[101]") },
	)
}

// A name breaks behind its dots and never within a label, however narrow the window, and beside UTC stands what the
// clock on the wall shows.
func TestTheConsoleWritesNamesAndTimesToBeRead(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	long := "gate-to-the-inner-harbour-basin.saltmere-north-quay.tidewrack.example"
	s.ok("device", "add", long, "--address", "127.1.0.1", "--slot", "web=443")
	p := openConsole(t, s)
	// labels says of each label of the first name in an element whether it stands on one line.
	const labels = `[...document.querySelectorAll("a bdi > span")].filter(l => l.getClientRects().length !== 1).length`
	steps(t,
		func() error { return p.Size(390, 800) },
		func() error { return p.Go("/devices?text=gate-to") },
		func() error { return p.Wait(row(long)) },
		func() error { return keepPicture(p, "names") },
	)
	broken, err := p.Eval("String(" + labels + ")")
	many, err2 := p.Eval(`String(new Set([...document.querySelectorAll("tbody a bdi > span")].map(l => Math.round(
		l.getBoundingClientRect().top))).size > 1)`)
	if err != nil || err2 != nil || broken != "0" || many != "true" {
		t.Errorf("%s labels are broken, %v; the name takes several lines: %s, %v", broken, err, many, err2)
	}
	steps(t,
		func() error { return p.Zone("Pacific/Chatham") }, // 12:45 before UTC, or 13:45
		func() error { return p.Size(1280, 800) },
		func() error { return p.Go("/audit") },
		func() error { return p.Wait("//tbody/tr") },
	)
	shown, err := p.Eval("document.querySelector('tbody time').innerText")
	var day, clock, here string
	if n, _ := fmt.Sscanf(shown, "%s %s UTC (%s", &day, &clock, &here); err != nil || n != 3 ||
		!strings.HasSuffix(shown, " local)") {
		t.Fatalf("a moment is shown as %q, %v", shown, err)
	}
	steps(t, func() error { return keepPicture(p, "times") })
}

// UTC is alone neither in what the service says, nor in what the mouse is told, nor beside each other.
func TestTheConsoleShowsTheLocalTimeInSentences(t *testing.T) {
	t.Parallel()
	p := openConsole(t, start(t, "demo", t.TempDir()))
	steps(t,
		func() error { return p.Zone("Pacific/Chatham") },
		func() error { return p.Go("/slots?condition=expired") },
		func() error { return p.Click("//tbody/tr[1]//a") },
		func() error { return p.Wait("//li[contains(.,'expired on') and contains(.,' UTC (')]") },
		func() error {
			_, err := p.Eval("location.href = '/compare?a=' + location.pathname.slice(7), ''")
			return err
		},
		func() error { return p.Wait("//main[contains(.,'Side by side') and contains(.,' UTC (')]") },
		func() error { return p.Go("/slots/scale.mainquay.tidewrack.example/web") }, // it was replaced
		func() error { return p.Wait("//*[contains(@title,' UTC (') and contains(@title,' local): ')]") },
	)
}

// A file of 5,000 lines, of which every fifth is wrong, is uploaded and never drawn as a whole: the wrong lines stand
// beside what is wrong with them, the others are taken, and the second time there is nothing to do.
func TestTheConsoleImportsThousandsOfLines(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	var lines strings.Builder
	lines.WriteString("name,address,site,slot,port\n")
	for i := range 5000 {
		address := "127.1.0.1"
		if i%5 == 0 {
			address = "10.0.0.300"
		}
		fmt.Fprintf(&lines, "buoy-%04d.tidewrack.example,%s,Saltmere,web,443\r\n", i, address) // as from a spreadsheet
	}
	file := write(t, t.TempDir()+"/fleet.csv", lines.String())
	p := openConsole(t, s)
	account := func(text string) func() error {
		return func() error {
			return p.Wait("//*[@aria-label='Account of the import' and contains(.,'" + text + "')]")
		}
	}
	steps(t,
		func() error { return p.Go("/devices") },
		func() error { return p.Click(browser.Button("Import")) },
		func() error { return p.Upload("#csv", file) },
		func() error { return p.Wait("//*[@role='dialog' and contains(.,'fleet.csv, 5,000 lines')]") },
		func() error { return p.Click(browser.Button("See what it would do")) },
		account("4,000 to add, 0 to change, 1,000 invalid; nothing was changed yet"),
		account("2: buoy-0000.tidewrack.example,10.0.0.300,Saltmere,web,443"),
		account("which has four numbers from 0 to 255"),
		func() error { return p.Wait("//*[@role='listitem' and @aria-setsize='1000' and @aria-posinset='1']") },
		func() error { return keepPicture(p, "import") },
	)
	if escaped, err := p.Text("//*[@aria-label='Account of the import']"); err != nil ||
		strings.Contains(escaped, `\u000d`) {
		t.Errorf("line ends are shown, %v", err)
	}
	if drawn, err := p.Eval("String(document.querySelectorAll('[role=listitem]').length)"); err != nil ||
		len(drawn) > 2 {
		t.Errorf("%s of 1,000 invalid lines are drawn, %v", drawn, err)
	}
	steps(t,
		func() error {
			return p.Click(browser.Button("Import the 4,000 valid devices only"))
		},
		account("4,000 added, 0 changed."),
		func() error { return p.Upload("#csv", file) },
		func() error { return p.Click(browser.Button("See what it would do")) },
		account("0 to add, 0 to change, 1,000 invalid"),
		func() error { return p.Gone("//button[contains(.,'valid devices only')]") },
		func() error { return p.Click(browser.Button("Remove the file")) },
		func() error { return p.Wait("//*[@id='import-text' and not(@disabled)]") },
	)
}
