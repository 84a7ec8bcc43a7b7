package e2e

import (
	"fmt"
	"net"
	"strings"
	"testing"

	"freshseal/e2e/browser"
	"freshseal/standin"
	"freshseal/standin/daemon"

	"github.com/chromedp/chromedp/kb"
)

// fleetOf starts a service with many devices, of which nothing answers: every third at
// Saltmere, with an owner each and a tag by hundreds.
func fleetOf(t *testing.T, n int) *server {
	t.Helper()
	s := start(t, "serve", t.TempDir())
	s.login()
	s.ok("device", "import", write(t, t.TempDir()+"/fleet.csv", fleetCSV(t, n)))
	return s
}

func fleetCSV(t testing.TB, n int) string {
	t.Helper()
	var lines strings.Builder
	lines.WriteString("name,address,site,owner,tags,slot,port\n")
	shut := daemon.FreePort(t, "127.0.0.1")
	for i := range n {
		fmt.Fprintf(&lines, "buoy-%04d.tidewrack.example,127.0.0.1,%s,keeper %d,pier-%d,web,%s\n", i,
			[]string{"Saltmere", "Northholm", "Mainquay"}[i%3], i%7, i/100, shut)
	}
	return lines.String()
}

func rowsShown(text string) string { return "//*[@aria-label='Rows shown' and .='" + text + "']" }

func pageButton(label string) string { return "//button[@aria-label='" + label + "']" }

func row(id string) string { return "//tr[@data-id='" + id + "']" }

// Somebody turns the pages of 500 devices, shares where they are, and comes back to it.
func TestTheConsoleTurnsThePagesOfAFleet(t *testing.T) {
	t.Parallel()
	s := fleetOf(t, 500) // and the service itself
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Click("//nav//a[.='Devices']") },
		func() error { return p.Wait(rowsShown("1 to 50 of 501")) },
		func() error { return p.Click("//th//span[normalize-space()='Device']") },
		func() error { return p.Wait("//th[@aria-sort='ascending' and normalize-space()='Device']") },
		func() error { return p.Wait(row("buoy-0000.tidewrack.example")) },
		func() error { return p.Click(pageButton("Next page")) },
		func() error { return p.Wait(rowsShown("51 to 100 of 501")) },
		func() error { return p.Wait(row("buoy-0050.tidewrack.example")) },
		func() error { return p.Click(pageButton("Next page")) },
		func() error { return p.Wait(row("buoy-0149.tidewrack.example")) },
		func() error { return p.Click(browser.Link("/devices/buoy-0120.tidewrack.example")) },
		func() error { return p.Wait("//h1[contains(.,'buoy-0120')]") },
		p.Back,
		func() error { return p.Wait(rowsShown("101 to 150 of 501")) },
		func() error { return p.Wait(row("buoy-0120.tidewrack.example")) },
		p.Back,
		func() error { return p.Wait(rowsShown("51 to 100 of 501")) },
		func() error { return p.Click(pageButton("Last page, 11")) },
		func() error { return p.Wait(rowsShown("501 to 501 of 501")) },
		func() error { return p.Go("/slots?site=Saltmere&sort=device&page=3") }, // an address that was shared
		func() error { return p.Wait(rowsShown("101 to 150 of 167")) },
		func() error { return p.Wait(row("buoy-0300.tidewrack.example/web")) },
		func() error { return p.Click(pageButton("Next page")) },
		func() error { return p.Wait(rowsShown("151 to 167 of 167")) },
		func() error { return p.Choose("#filter-owner", "keeper 3") }, // another filter begins at the first page
		func() error { return p.Wait("//*[@aria-label='Rows shown' and starts-with(.,'1 to 24 of 24')]") },
	)
	if where, err := p.Eval("location.search"); err != nil || strings.Contains(where, "page") {
		t.Errorf("after another filter the address is %s, %v", where, err)
	}
	// The page is moved through by keys alone.
	steps(t,
		func() error { return p.Go("/devices?sort=name") },
		func() error { return p.Wait(row("buoy-0000.tidewrack.example")) },
		func() error { _, err := p.Eval("document.querySelector('tbody tr').focus(), ''"); return err },
		func() error { return p.Press(kb.ArrowDown) },
		func() error { return p.Press("\r") },
		func() error { return p.Wait("//h1[contains(.,'buoy-0001')]") },
	)
}

// What was found by filters is kept as a view, taken as CSV and changed together.
func TestTheConsoleFindsAndChangesMany(t *testing.T) {
	t.Parallel()
	s := fleetOf(t, 120)
	p := openConsole(t, s)
	steps(t,
		// the palette finds anything, by keys alone
		func() error { return p.Wait("//h1") },
		func() error { return p.Press("/") },
		func() error { return p.Type("//input[@aria-label='Search everything']", "buoy-0077") },
		func() error {
			return p.Wait("//*[@role='option' and @aria-selected='true' and contains(.,'buoy-0077')]")
		},
		func() error { return p.Press("\r") },
		func() error { return p.Wait("//h1[contains(.,'buoy-0077')]") },
		// a view
		func() error { return p.Go("/devices?site=Northholm&sort=name") },
		func() error { return p.Wait(rowsShown("1 to 40 of 40")) },
		func() error { return p.Click(browser.Button("Views")) },
		func() error { return p.Click("//li[contains(.,'Save this view')]") },
		func() error { return p.Type("//*[@role='dialog']//input", "the north") },
		func() error { return p.Press("\r") },
		func() error { return p.Wait(browser.Button("View: the north")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		// all that match the filter, changed as one
		func() error { return p.Go("/devices?tag=pier-0&sort=name") },
		func() error { return p.Wait(rowsShown("1 to 50 of 100")) },
		func() error { return p.Click("//input[@aria-label='Choose all on this page']") },
		func() error { return p.Click(browser.Button("Choose all 100 that match the filter")) },
		func() error { return p.Click(browser.Button("Change 100 devices")) },
		func() error { return p.Type("//label[.='Owner']/following::input[1]", "harbour watch") },
		func() error { return p.Type("//label[.='Tags to add']/following::input[1]", "winter") },
		func() error { return p.Click("//*[@role='dialog']//button[.='Change 100 devices']") },
		func() error {
			return p.Wait("//section[@aria-label='Chosen devices' and contains(.,'100 devices done')]")
		},
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Go("/devices?owner=harbour+watch&sort=name&page=2") },
		func() error { return p.Wait(rowsShown("51 to 100 of 100")) },
		// the view again, on another day
		func() error { return p.Click("//nav//a[.='Devices']") },
		func() error { return p.Click(browser.Button("Views")) },
		func() error { return p.Click("//li[normalize-space()='the north']") },
		func() error { return p.Wait(rowsShown("1 to 40 of 40")) },
		// columns
		func() error { return p.Click(browser.Button("Columns")) },
		func() error { return p.Click("//li[contains(.,'Owner')]") },
		func() error { return p.Gone("//th[contains(.,'Owner')]") },
		func() error { return p.Press("\x1b") },
		func() error { return p.Go("/slots?tag=winter&site=Northholm&text=buoy-00") },
		func() error { return p.Wait(rowsShown("1 to 33 of 33")) },
	)
	sheet, err := p.Fetch("//a[normalize-space()='Download as CSV']")
	if lines := strings.Split(strings.TrimSpace(sheet), "\n"); err != nil || len(lines) != 34 ||
		!strings.HasPrefix(lines[1], "unreachable,buoy-00") {
		t.Errorf("the sheet of what is shown has %d lines, %v:\n%.300s", len(lines), err, sheet)
	}
	if list := s.ok("device", "list", "--text", "winter", "--as", "csv"); strings.Count(list, "\n") != 101 {
		t.Errorf("changed together:\n%.400s", list)
	}
	if one := s.ok("device", "show", "buoy-0042.tidewrack.example"); !strings.Contains(one, "harbour watch") {
		t.Error(one)
	}
}

// All slots that match a filter are replaced as one batch, which the service carries:
// the browser may go.
func TestTheConsoleReplacesManyAsOne(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, web, _ := net.SplitHostPort(box.TLSAddr)
	var lines strings.Builder
	lines.WriteString("name,address,site,family,slot,port,ssh:user,ssh:password,ssh:pin,ssh:port\n")
	for i := range 60 {
		fmt.Fprintf(&lines, "winch-%02d.tidewrack.example,%s,%s,web-files-ssh,web,%s,keeper,correct horse,%s,%s\n", i,
			host, []string{"Saltmere", "Northholm"}[i%2], web, box.HostKey(), sshPort)
	}
	s.ok("device", "import", write(t, t.TempDir()+"/fleet.csv", lines.String()))
	s.ok("sweep")
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Go("/slots?text=winch") },
		func() error { return p.Wait(rowsShown("1 to 50 of 60")) },
		func() error { return p.Click("//input[@aria-label='Choose all on this page']") },
		func() error { return p.Click(browser.Button("Choose all 60 that match the filter")) },
		func() error { return p.Click(browser.Button("Replace 60 slots")) },
		func() error {
			return p.Choose("//*[@role='dialog']//*[text()='Signer']/following::div[@role='combobox'][1]", "desk")
		},
		func() error { return p.Click(browser.Button("Rehearse")) },
		func() error {
			return p.Wait("//*[@aria-label='Rehearsal of the batch' and contains(.,'60 slots: Northholm 30, " +
				"Saltmere 30') and contains(.,'openssl req -new')]")
		},
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//h1[contains(.,'Batch b1: 60 slots')]") },
		func() error { return p.Go("/healthz") },
	)
	s.until("b1", "60 under way", "batch", "show", "b1")
	steps(t,
		func() error { return p.Go("/batches/b1") },
		func() error { return p.Wait("//*[@aria-label='Progress' and contains(.,'60 under way')]") },
		func() error { return p.Wait("//section[@aria-label='Sites' and contains(.,'Saltmere30 under way')]") },
		func() error { return p.Click(pageButton("Next page")) },
		func() error { return p.Wait(rowsShown("51 to 60 of 60")) },
		func() error { return p.Click("//nav//a[.='Desk']") },
		func() error { return p.Wait(rowsShown("1 to 50 of 60")) }, // what waits for a signer is paged too
	)
}

// Slots that use one intermediate are found by it, those that expire in a month by the
// bar of the chart.
func TestTheConsoleFollowsACertificateToItsSlots(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	p := openConsole(t, s)
	s.ok("replace", gate+"/web", "--signer", "bench", "--watch")
	steps(t,
		func() error { return p.Go("/slots/" + gate + "/web") },
		func() error { return p.Click("(" + browser.Link("/slots?serves=") + ")[last()]") },
		func() error { return p.Wait(row(gate + "/web")) },
		func() error { return p.Wait("//*[@aria-label='Filters' and contains(.,'Uses certificate')]") },
		func() error { return p.Go("/") },
		func() error {
			return p.Click("(//*[local-name()='a' and contains(@href,'/slots?ends=') and *[local-name()='rect']])[1]")
		},
		func() error { return p.Wait("//*[@aria-label='Filters' and contains(.,'Expires')]") },
		func() error { return p.Wait("//tr[@data-id]") },
	)
}
