package e2e

import (
	"encoding/csv"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
)

// Each filter finds what it says and nothing else, the count agrees with the pages, and
// the sheet holds the same rows.
func TestFiltersCountsAndSheetsAgree(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("replace", gate+"/web", "--signer", "bench", "--watch")
	api := s.caller(t)
	issuing := ""
	var chain struct {
		Chain []struct{ Role, SHA256 string }
	}
	s.json(&chain, "slot", "show", gate+"/web")
	for _, link := range chain.Chain {
		if link.Role == "intermediate" {
			issuing = link.SHA256
			break
		}
	}
	for filter, want := range map[string][]string{
		"site=Petrel":         {"bridge.petrel"},
		"family=network-gear": {"berth-3.saltmere"},
		"tag=gate":            {"gate-1.mainquay", "gate-1.mainquay"},
		"owner=pilot+station": {"climate.gannet-point", "dock.gannet-point", "dock.gannet-point",
			"host-4.gannet-point", "radar.gannet-point", "radar.gannet-point", "tally.gannet-point",
			"tally.gannet-point", "weather.gannet-point", "weather.gannet-point"},
		"signer=bench":      {"gate-1.mainquay", "scale.mainquay"},
		"ends=ended":        {"radar.gannet-point", "radar.gannet-point"}, // two slots each
		"serves=" + issuing: {"gate-1.mainquay"},
		"text=198.51.100.5": {"berth-3.saltmere", "boiler.saltmere", "vault-link.saltmere"},
		// of a subject, whatever its case
		"text=PELORUS": {"host-1.mainquay", "host-1.mainquay", "host-4.gannet-point", "host-7.mainquay",
			"host-9.mainquay", "manager-2.mainquay", "manager.mainquay", "manager.mainquay"},
		"site=Saltmere&condition=factory": {"berth-3.saltmere", "boiler.saltmere", "cipher.saltmere",
			"lamp.saltmere", "router.saltmere", "vault-link.saltmere", "wall.saltmere"},
		"text=" + issuing[:16]:                  {"gate-1.mainquay"}, // a part of a fingerprint in the path
		"text=%25":                              {},                  // a percent sign is none of SQL's
		"family=-&site=Turnstone&condition=due": {},
	} {
		var page struct {
			Items []struct{ Device string }
			Total int
		}
		answer, text := api.does("GET", "/slots?count=true&limit=2&"+filter, "", "")
		if err := json.Unmarshal([]byte(text), &page); err != nil || answer.StatusCode != 200 {
			t.Fatalf("%s: %s %v %s", filter, answer.Status, err, text)
		}
		if page.Total != len(want) || len(page.Items) != min(2, len(want)) {
			t.Errorf("%s: %d of %d on the first page, instead of %d in all", filter, len(page.Items), page.Total,
				len(want))
		}
		_, sheet := api.does("GET", "/slots.csv?"+filter, "", "")
		rows, err := csv.NewReader(strings.NewReader(sheet)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		got := []string{}
		for _, row := range rows[1:] {
			got = append(got, strings.TrimSuffix(row[slices.Index(rows[0], "device")], ".tidewrack.example"))
		}
		if slices.Sort(got); !slices.Equal(got, want) {
			t.Errorf("%s: the sheet has %v instead of %v", filter, got, want)
		}
	}
	// A page may begin behind so many rows, in lists from memory and from the database, and behind a cursor.
	for _, list := range []string{"/slots?sort=device&", "/devices?", "/audit?"} {
		var all, some, more struct {
			Items []json.RawMessage
			Next  string
		}
		for query, into := range map[string]any{"limit=20": &all, "limit=4&skip=3": &some} {
			_, text := api.does("GET", list+query, "", "")
			json.Unmarshal([]byte(text), into)
		}
		_, text := api.does("GET", list+"limit=2&skip=2&cursor="+url.QueryEscape(some.Next), "", "")
		json.Unmarshal([]byte(text), &more)
		if len(all.Items) < 11 || len(some.Items) != 4 || len(more.Items) != 2 ||
			string(some.Items[0]) != string(all.Items[3]) || string(more.Items[1]) != string(all.Items[10]) {
			t.Errorf("%s: behind 3 rows, and 2 more behind a cursor: %d, %d and %d rows", list, len(all.Items),
				len(some.Items), len(more.Items))
		}
	}
	// What is not understood must not begin a batch of something else.
	s.fails(1, `ends is "2027-99", which is no time`, "batch", "start", "--ends", "2027-99", "--by", "bench")
	s.fails(1, "no condition is called", "batch", "start", "--condition", "soggy", "--by", "bench")
	for filter, says := range map[string]string{"condition=soggy": "no condition is called",
		"sort=colour": "is not a sort order", "cursor=nonsense": "cursor", "skip=-1": "pass over",
		"skip=99999999999": "pass over", "ends=2027-99": "ends"} {
		if answer, text := api.does("GET", "/slots?"+filter, "", ""); answer.StatusCode < 400 ||
			answer.StatusCode >= 500 || !strings.Contains(text, says) {
			t.Errorf("%s: %s %s", filter, answer.Status, text)
		}
	}
}

// The search finds by whatever is known of a thing, and tells of what kind it is.
func TestTheSearchFindsByAnything(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("device", "edit", gate, "--notes", "behind the salt shed")
	var serial struct {
		Certificate struct{ Serial, SHA256 string }
	}
	s.json(&serial, "slot", "show", vault+"/web")
	for sought, want := range map[string]string{
		"salt shed": gate, "192.0.2.14": vault, serial.Certificate.Serial: vault + "/web",
		serial.Certificate.SHA256[:12]: vault + "/web",
		"data hall":                    gate, "r1": "r1", "VAULT": vault,
		"Lumsk": "berth-3.saltmere.tidewrack.example/web",
	} {
		if found := s.ok("find", sought, "--as", "csv"); !strings.Contains(found, ","+want) {
			t.Errorf("%q does not find %s:\n%s", sought, want, found)
		}
	}
	if found := s.ok("find", "no such thing anywhere"); !strings.Contains(found, "nothing fits") {
		t.Error(found)
	}
}

// A view belongs to who keeps it; one of a name is replaced, and there are not too many.
func TestViewsBelongToTheirUsers(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "viewer", "--password-file", "-")
	tern := *s
	tern.config = t.TempDir() + "/tern.yaml"
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	mine, theirs := s.caller(t), tern.caller(t)
	for _, query := range []string{"site=Petrel", "site=Saltmere"} {
		if answer, text := mine.does("PUT", "/views", "Content-Type: application/json",
			`{"page":"slots","name":"the watch","query":"`+query+`"}`); answer.StatusCode != 200 {
			t.Fatal(answer.Status, text)
		}
	}
	if _, text := mine.does("GET", "/views", "", ""); strings.Count(text, "the watch") != 1 ||
		!strings.Contains(text, "Saltmere") {
		t.Errorf("one's own: %s", text)
	}
	if _, text := theirs.does("GET", "/views", "", ""); strings.Contains(text, "the watch") {
		t.Errorf("another's: %s", text)
	}
	if answer, _ := theirs.does("DELETE", "/views/slots/the%20watch", "",
		""); answer.StatusCode != http.StatusNotFound {
		t.Errorf("another's view is removed: %s", answer.Status)
	}
	if answer, text := mine.does("PUT", "/views", "Content-Type: application/json",
		`{"page":"slots","name":"long","query":"`+strings.Repeat("x", 3000)+`"}`); answer.StatusCode < 400 ||
		!strings.Contains(text, "too long") {
		t.Errorf("a long one: %s %s", answer.Status, text)
	}
}
