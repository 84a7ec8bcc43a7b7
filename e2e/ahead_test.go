package e2e

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/standin"

	"github.com/xuri/excelize/v2"
)

// What is to come: the certificates above those that are served, tokens, and how many replacements the next years
// need under the lives of now and of then.
func TestWhatIsToCome(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	const name = "gate-1.mainquay.tidewrack.example"
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	s.ok("token", "add", "the reports of the quay", "--role", "viewer", "--days", "20")
	var ends []struct {
		Kind, Name, Of string
		EndsAt         time.Time `json:"ends_at"`
		Slots          int
	}
	s.json(&ends, "expiring", "--within", "36500")
	kinds := map[string]int{}
	for i, e := range ends {
		kinds[e.Kind]++
		if i > 0 && e.EndsAt.Before(ends[i-1].EndsAt) {
			t.Error("they are not in the order in which they end")
		}
		if e.Kind == "intermediate" && e.Slots != 1 {
			t.Errorf("%+v", e)
		}
	}
	if kinds["root"] != 1 || kinds["intermediate"] < 1 || kinds["token"] != 2 {
		t.Errorf("%v", kinds)
	}
	if shown := s.ok("expiring", "--within", "30"); !strings.Contains(shown, "the reports of the quay") ||
		strings.Contains(shown, "root") {
		t.Error(shown)
	}
	if shown := s.as("viewer").ok("expiring", "--within", "36500"); strings.Contains(shown, "reports") ||
		!strings.Contains(shown, "root") {
		t.Errorf("a viewer sees: %s", shown)
	}
	var f struct {
		Slots int
		Years []struct {
			Year   int
			Today  struct{ Automatic, Outside int }
			Coming struct{ Automatic int }
		}
		Took []struct {
			Hand  string
			Count int
		}
		Weeks []struct{}
	}
	s.json(&f, "forecast", "--weeks", "208", "--public")
	today, coming := 0, 0
	for _, y := range f.Years {
		today, coming = today+y.Today.Automatic, coming+y.Coming.Automatic
	}
	// Of 90 days, every 60; from March 2029 on of 47, every 32. The service itself is a slot too, of a family of its
	// own.
	if len(f.Weeks) != 208 || f.Slots != 2 || today < 20 || today > 32 || coming <= today || len(f.Took) != 1 ||
		f.Took[0].Count != 1 || f.Took[0].Hand != "automatic" {
		t.Errorf("today %d, coming %d: %+v", today, coming, f)
	}
	s.fails(1, "out of bounds", "forecast", "--weeks", "521")
	s.fails(1, "cannot be listed", "expiring", "--within", "-1")
	// The purchase by which a signer signs ends too, and its number goes out with the requests.
	s.fails(1, "is not a day", "signer", "set", "harbour-ca", "--order-until", "next year")
	for range 2 {
		s.ok("signer", "set", "harbour-ca", "--order", "HA-2207", "--order-approved-by", "Ms Fulmar", "--order-until",
			time.Now().AddDate(0, 0, 20).Format(time.DateOnly))
	}
	if shown := s.ok("expiring", "--within", "30"); !strings.Contains(shown, "order HA-2207") {
		t.Errorf("the order is not among what expires:\n%s", shown)
	}
}

// Reports say what was: the state on a day, what was replaced and who approved, and what is excepted and why; as a
// sheet, a workbook, and a page in which foreign text stays text.
func TestReports(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--site", "Quay <7>", "--owner", "=HYPERLINK(1)")
	before := s.show(name + "/web").Certificate.SHA256
	s.ok("policy", "set", "fleet", "--approval", "anybody")
	s.ok("replace", name+"/web", "--signer", "bench")
	s.await("r1", "waiting")
	s.ok("replacement", "approve", "r1")
	s.await("r1", "sealed")
	after := s.show(name + "/web").Certificate.SHA256
	today := time.Now().UTC()
	state := s.ok("report", "state")
	for _, want := range []string{name + ",web,Quay <7>,'=HYPERLINK(1),web-files-ssh,", after, "device,slot,site"} {
		if !strings.Contains(state, want) {
			t.Errorf("the state lacks %q:\n%s", want, state)
		}
	}
	if yesterday := s.ok("report", "state", "--day",
		today.AddDate(0, 0, -1).Format(time.DateOnly)); strings.Count(yesterday, "\n") != 1 {
		t.Errorf("before it was added there is:\n%s", yesterday)
	}
	replaced := s.ok("report", "replaced", "--from", today.Format(time.DateOnly), "--until",
		today.Format(time.DateOnly))
	if !strings.Contains(replaced, "r1,"+name+",web,") ||
		!strings.Contains(replaced, before+","+after+",admin,admin,") {
		t.Errorf("replaced:\n%s", replaced)
	}
	if none := s.ok("report", "replaced", "--until",
		today.AddDate(0, 0, -1).Format(time.DateOnly)); strings.Contains(none, "r1") {
		t.Errorf("in another period:\n%s", none)
	}
	s.ok("notice", "acknowledge", name+"/web", "--until", today.AddDate(0, 1, 0).Format(time.DateOnly), "--reason",
		"<script>alert(1)</script>")
	s.ok("policy", "set", "device/"+name, "--weak-keys")
	s.ok("site", "add", "Saltmere")
	s.ok("site", "edit", "Saltmere", "--paused")
	dir := t.TempDir()
	s.ok("report", "exceptions", "--out", filepath.Join(dir, "x.html"))
	page := read(t, filepath.Join(dir, "x.html"))
	for _, want := range []string{"&lt;script&gt;alert(1)", "weak keys allowed", "site paused", "3 lines"} {
		if !strings.Contains(page, want) || strings.Contains(page, "<script") || strings.Contains(page, "http") {
			t.Errorf("the page lacks %q, or has more than text:\n%s", want, page)
		}
	}
	s.ok("report", "state", "--out", filepath.Join(dir, "x.xlsx"))
	book, err := excelize.OpenFile(filepath.Join(dir, "x.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	rows, err := book.GetRows(book.GetSheetName(0))
	if err != nil || len(rows) != 3 || !slices.ContainsFunc(rows, func(row []string) bool {
		return len(row) > 3 && row[3] == "=HYPERLINK(1)"
	}) {
		t.Errorf("%v %v", rows, err)
	}
	s.fails(1, "a day is not one", "report", "state", "--day", "yesterday")
	s.fails(1, "ends before it begins", "report", "replaced", "--from", "2026-02-01", "--until", "2026-01-01")
	s.fails(1, "is not a form", "report", "state", "--out", filepath.Join(dir, "x.pdf"))
	if list := s.ok("audit", "list", "--as", "csv"); !strings.Contains(list, "make a report") {
		t.Error("who made a report is not in the audit log")
	}
}
