package e2e

import (
	"strings"
	"testing"
	"time"

	"freshseal/standin"
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
	if shown := s.ok("expiring", "--within", "30"); !strings.Contains(shown, "the reports of the quay") || strings.Contains(shown, "root") {
		t.Error(shown)
	}
	if shown := s.as("viewer").ok("expiring", "--within", "36500"); strings.Contains(shown, "reports") || !strings.Contains(shown, "root") {
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
	// Of 90 days, every 60; from March 2029 on of 47, every 32. The service itself is a slot too, of a family of its own.
	if len(f.Weeks) != 208 || f.Slots != 2 || today < 20 || today > 32 || coming <= today || len(f.Took) != 1 || f.Took[0].Count != 1 || f.Took[0].Hand != "automatic" {
		t.Errorf("today %d, coming %d: %+v", today, coming, f)
	}
	s.fails(1, "out of bounds", "forecast", "--weeks", "521")
	s.fails(1, "cannot be listed", "expiring", "--within", "-1")
}
