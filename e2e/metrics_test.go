package e2e

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// bearing is a program with a token, which asks outside /api as well.
func (s *server) bearing(t *testing.T, token, under string) caller {
	c := s.caller(t)
	c.token, c.url = token, s.url+under
	return c
}

// A monitoring system gets the figures of the fleet with a token that opens nothing else. They are
// what the client says, site names with quotes and line ends do not break the format, and every metric of
// the documented alerts is there.
func TestAMonitoringSystemIsToldHowTheFleetStands(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("device", "add", "odd.tidewrack.example", "--address", "127.20.99.9", "--site", `Quay "7" \ north`, "--slot",
		"web=9")
	token := strings.TrimSpace(s.ok("token", "add", "monitoring", "--role", "monitor"))
	s.ok("sweep")
	answer, text := s.bearing(t, token, "").does("GET", "/metrics", "", "")
	if answer.StatusCode != 200 || !strings.HasPrefix(answer.Header.Get("Content-Type"), "text/plain; version=0.0.4") {
		t.Fatalf("%d %s\n%s", answer.StatusCode, answer.Header.Get("Content-Type"), text)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	sums := map[string]float64{}
	sites := map[string]bool{}
	for _, m := range families["freshseal_slots"].GetMetric() {
		for _, label := range m.GetLabel() {
			if label.GetName() == "condition" {
				sums[label.GetValue()] += m.GetGauge().GetValue()
			} else {
				sites[label.GetValue()] = true
			}
		}
	}
	var status struct{ Conditions map[string]int }
	s.json(&status, "status")
	for condition, n := range status.Conditions {
		if int(sums[condition]) != n {
			t.Errorf("%v slots are %s in the metrics, and %d in the status", sums[condition], condition, n)
		}
	}
	if !sites[`Quay "7" \ north`] || !sites["Mainquay"] {
		t.Errorf("the sites are %v", sites)
	}
	if ends := families["freshseal_earliest_expiry_seconds"].GetMetric(); len(ends) < 5 ||
		!strings.Contains(text, `freshseal_earliest_expiry_seconds{site="Gannet Point"} -`) {
		t.Errorf("%d sites have an end, and Gannet Point's has not passed:\n%s", len(ends), text)
	}
	read := 0.0
	for _, m := range families["freshseal_readings_total"].GetMetric() {
		read += m.GetCounter().GetValue()
	}
	n := families["freshseal_reading_duration_seconds"].GetMetric()[0].GetHistogram().GetSampleCount()
	if read < 120 || float64(n) != read {
		t.Errorf("%v readings were made, %d were timed", read, n)
	}
	// The token opens nothing else, and nothing else but a viewer's opens this.
	for _, path := range []string{"/devices", "/slots", "/status", "/settings", "/tokens", "/export"} {
		if answer, text := s.bearing(t, token, "/api/v1").does("GET", path, "", ""); answer.StatusCode != 403 {
			t.Errorf("%s is open to a monitoring system: %d %.100s", path, answer.StatusCode, text)
		}
	}
	if answer, _ := s.bearing(t, "nobody", "").does("GET", "/metrics", "", ""); answer.StatusCode != 401 {
		t.Errorf("without a token: %d", answer.StatusCode)
	}
	s.fails(1, "for API tokens alone", "user", "add", "prometheus", "--role", "monitor", "--password-file",
		write(t, t.TempDir()+"/word", "salt and tar and rope"))
	// The alerts of the documents name metrics that exist.
	doc, err := os.ReadFile("../docs/alerts.md")
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile(`freshseal_[a-z_]+`).FindAllString(string(doc), -1)
	for _, name := range named {
		base := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_sum"), "_count")
		if families[name] == nil && families[base] == nil {
			t.Errorf("docs/alerts.md names %s, which is no metric", name)
		}
	}
	if len(named) < 10 {
		t.Errorf("docs/alerts.md names %d metrics", len(named))
	}
}
