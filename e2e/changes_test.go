package e2e

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"

	"freshseal/standin"
)

// Many devices are changed in one call: what is refused for one stops no other, and the
// audit log names what was changed.
func TestManyDevicesAreChangedAsOne(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.okWith("salt and tar and rope", "credential", "add", "keepers", "--user", "keeper", "--password-file", "-")
	api := s.caller(t)
	change := func(body string) (out struct {
		Changed int
		Refused []struct{ Device, Why string }
	}) {
		t.Helper()
		answer, text := api.does("POST", "/changes", "Content-Type: application/json", body)
		if err := json.Unmarshal([]byte(text), &out); err != nil || answer.StatusCode != 200 {
			t.Fatalf("%s %s", answer.Status, text)
		}
		return out
	}
	if done := change(`{"filter":{"site":"Northholm"},"change":{"owner":"harbour watch","add_tags":["winter","night"],"remove_tags":["panel"]}}`); done.Changed != 7 || len(done.Refused) != 0 {
		t.Errorf("%+v", done)
	}
	var panelNow struct {
		Owner string
		Tags  []string
	}
	s.json(&panelNow, "device", "show", panel)
	if panelNow.Owner != "harbour watch" || fmt.Sprint(panelNow.Tags) != "[winter night]" &&
		fmt.Sprint(panelNow.Tags) != "[night winter]" {
		t.Errorf("%+v", panelNow)
	}
	// One of two has no link that a credential could be for.
	done := change(`{"devices":["` + gate + `","` + vault + `"],"change":{"credential":"keepers"}}`)
	if done.Changed != 1 || len(done.Refused) != 1 || done.Refused[0].Device != vault || done.Refused[0].Why == "" {
		t.Errorf("%+v", done)
	}
	done = change(`{"devices":["nobody.tidewrack.example"],"change":{"owner":"x"}}`)
	if done.Changed != 0 || len(done.Refused) != 1 {
		t.Errorf("%+v", done)
	}
	for body, says := range map[string]string{`{"change":{"owner":"x"}}`: "not said which", `{"devices":["` + gate +
		`"],"filter":{},"change":{"owner":"x"}}`: "not said which", `{"devices":["` + gate +
		`"],"change":{}}`: "change"} {
		if answer, text := api.does("POST", "/changes", "Content-Type: application/json",
			body); answer.StatusCode != 422 || !strings.Contains(text, says) {
			t.Errorf("%s: %s %s", body, answer.Status, text)
		}
	}
	if audit := s.ok("audit", "list", "--text", "harbour watch", "--as", "csv"); strings.Count(audit,
		"harbour watch") == 0 || strings.Contains(audit, "salt and tar") {
		t.Errorf("the audit log says\n%s", audit)
	}
	if answer, _ := s.as("operator").caller(t).does("POST", "/changes", "Content-Type: application/json",
		`{"devices":["`+gate+`"],"change":{"owner":"x"}}`); answer.StatusCode != 403 {
		t.Errorf("an operator changes devices: %s", answer.Status)
	}
}

// What a rehearsal shows is what the box then gets, command by command and line by line.
func TestTheBoxGetsWhatWasRehearsed(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		family, setting string
		kind            standin.Kind
	}{{"network-gear", "secret_word=", standin.NetworkGear}, {"server-to-be-stopped", "", standin.StopServer},
		{"bare-host", "", standin.BareHost},
		{"collector", "", standin.Collector}, {"staged-by-menu", "", standin.StagedVault},
		{"dashboard-of-nodes", "", standin.Dashboard}} {
		t.Run(c.family, func(t *testing.T) {
			t.Parallel()
			k := &killer{at: -1}
			box := kind(t, standin.Box{Kind: c.kind, Watch: k.watch})
			s := start(t, "serve", t.TempDir())
			s.login()
			more := []string{}
			if c.setting != "" {
				more = []string{"--setting", c.setting + box.Secret}
			}
			s.addKind(name, c.family, box, more...)
			s.run("", "read", name+"/web")
			var rehearsed struct {
				Steps []struct{ Stage, Verb, Text, Content string }
			}
			s.json(&rehearsed, "replace", name+"/web", "--signer", "bench", "--rehearse")
			k.arm(true)
			s.run("", "replace", name+"/web", "--signer", "bench")
			s.await("r1", "sealed")
			k.arm(false)
			// Only the name of the work folder differs: a rehearsal has none of its own.
			folder := regexp.MustCompile(`/var/lib/freshseal/[a-z0-9-]+`)
			got := folder.ReplaceAllString(strings.Join(k.seen, "\n"), "WORK")
			// from the copy that is kept of ours
			got = regexp.MustCompile(`' fs (\S+) WORK/before/\w+\.ours`).ReplaceAllString(got, "' fs\nrename to $1")
			compared := 0
			for _, step := range rehearsed.Steps {
				said := []string{}
				switch {
				case step.Stage == "revert" || step.Stage == "cancel":
					continue
				case step.Verb == "run" && !strings.Contains(step.Text, "‹"):
					said = append(said, folder.ReplaceAllString(step.Text, "WORK"))
				case step.Verb == "file" && !strings.Contains(step.Text, "‹"):
					said = append(said, "rename to "+folder.ReplaceAllString(strings.Fields(step.Text)[0], "WORK"))
				case step.Verb == "dialog":
					for line := range strings.Lines(step.Content) {
						if _, answer, ok := strings.Cut(strings.TrimSpace(line), "  →  "); ok &&
							len(strings.Fields(answer)) > 1 && !strings.ContainsAny(answer, "‹•[(") &&
							!strings.Contains(line, "Organization") && !strings.Contains(line, "failed") &&
							!strings.Contains(line, "it refused") {
							said = append(said, answer)
						}
					}
				}
				for _, each := range said {
					if compared++; !strings.Contains(got, each) {
						t.Errorf("%q was rehearsed, and the box never got it:\n%s", each, got)
					}
				}
			}
			if compared < 2 {
				t.Errorf("only %d lines were compared", compared)
			}
		})
	}
}
