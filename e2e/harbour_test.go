package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshseal/e2e/browser"
)

// back has the demo's Harbour Authority sign a parcel, and returns the files that it sends back.
func (s *server) back(parcel string, flags ...string) []string {
	s.t.Helper()
	folder := s.t.TempDir()
	s.ok(append([]string{"demo", "sign", parcel, "--dir", s.dir, "--out", folder}, flags...)...)
	files, err := filepath.Glob(filepath.Join(folder, "*"))
	if err != nil || len(files) < 3 {
		s.t.Fatalf("%v came back, %v", files, err)
	}
	return files
}

// A public signer's way, in the demo as it is: eight boxes in one parcel, the domain proven, the answer in the worst
// order and form, on trial for a month first; then what was ordered, and once more in the browser. No box is touched
// by what is doubtful, everything that came is accounted for, and nothing is asked twice.
func TestAPublicSignersWayInTheDemo(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	var shown struct {
		Terms struct{ Domains []string }
		Order struct{ Number string }
	}
	s.json(&shown, "signer", "show", "harbour-ca")
	if len(shown.Terms.Domains) != 1 || shown.Order.Number != "HA-2207" {
		t.Fatalf("the demo's public signer: %+v", shown)
	}
	boxes := []string{"tickets.northholm", "radar.gannet-point", "ramp.northholm", "gate-1.mainquay",
		"weather.gannet-point", "watch.mainquay", "lines.northholm", "boiler.saltmere"}
	s.fails(1, "this signer signs only under tidewrack.example", "replace", boxes[0]+".tidewrack.example/web",
		"--signer", "harbour-ca", "--name", "tickets.gull.example")
	s.fails(1, "tickets will not be signed", "replace", boxes[0]+".tidewrack.example/web", "--signer", "harbour-ca",
		"--name", "tickets")
	ask := func() (ids []string) {
		t.Helper()
		for _, box := range boxes {
			s.ok("replace", box+".tidewrack.example/web", "--signer", "harbour-ca")
			id := s.newest(box + ".tidewrack.example")
			s.atGate(id, "signer")
			ids = append(ids, id)
		}
		return ids
	}
	pack := func() string {
		t.Helper()
		out := filepath.Join(t.TempDir(), "out.zip")
		s.ok("parcel", "pack", "--signer", "harbour-ca", "--out", out)
		return out
	}
	answers := func(files []string) (accepted, doubtful, others int) {
		t.Helper()
		out := s.run("", append([]string{"intake", "--as", "json"}, files...)...)
		var r struct {
			Answers []struct {
				Replacement        string
				Accepted, Doubtful bool
			}
		}
		if err := json.Unmarshal([]byte(out.stdout), &r); err != nil {
			t.Fatalf("%v: %s%s", err, out.stdout, out.stderr)
		}
		for _, a := range r.Answers {
			switch {
			case a.Accepted:
				accepted++
			case a.Doubtful:
				doubtful++
			default:
				others++
			}
		}
		return accepted, doubtful, others
	}

	// On trial: the domain is one task for all eight; each certificate waits for a person, and all are accepted at
	// once.
	ids := ask()
	before := map[string]string{}
	for _, box := range boxes {
		before[box] = s.show(box + ".tidewrack.example/web").Certificate.SHA256
	}
	parcel := pack()
	s.ok("parcel", "hand", "p1", "--to", "Ms Fulmar", "--reference", "HA-2207-1")
	var tasks []struct{ ID, Text string }
	s.json(&tasks, "task", "list")
	proofs := slices.DeleteFunc(tasks, func(task struct{ ID, Text string }) bool {
		return !strings.Contains(task.Text, "tidewrack.example")
	})
	if len(proofs) > 1 {
		t.Errorf("one domain is proven by %d tasks", len(proofs))
	}
	out := s.ok("task", "list")
	task := strings.Fields(out[strings.Index(out, "\nt")+1:])[0]
	s.ok("task", "answer", task)
	for range 2 { // the same pile again changes nothing
		if accepted, doubtful, others := answers(s.back(parcel, "--trial", "--worst")); accepted != 0 ||
			doubtful != 8 || others != 1 {
			t.Errorf("on trial: %d accepted, %d doubtful, %d others", accepted, doubtful, others)
		}
	}
	for _, box := range boxes {
		if now := s.show(box + ".tidewrack.example/web").Certificate.SHA256; now != before[box] {
			t.Errorf("%s was touched", box)
		}
	}
	s.ok(append(append([]string{"replacement", "accept"}, ids...), "--yes")...)
	for _, id := range ids {
		s.rests(id, "sealed")
	}

	// What was ordered comes from another intermediate: the first one waits for a person, those after it do not.
	ids = ask()
	parcel = pack()
	s.ok("parcel", "hand", "p2", "--to", "Ms Fulmar", "--reference", "HA-2207-2")
	if out := s.ok("task", "list"); strings.Contains(out, "prove") {
		t.Errorf("the domain is to be proven again:\n%s", out)
	}
	if _, doubtful, _ := answers(s.back(parcel, "--worst")); doubtful != 8 {
		t.Errorf("of what was ordered %d are doubtful", doubtful)
	}
	s.ok("replacement", "accept", ids[0], "--yes")
	if accepted, doubtful, _ := answers(s.back(parcel, "--worst")); accepted != 7 || doubtful != 0 {
		t.Errorf("once its issuer is known: %d accepted, %d doubtful", accepted, doubtful)
	}
	for i, id := range ids {
		s.rests(id, "sealed")
		if out := s.ok("slot", "show", boxes[i]+".tidewrack.example/web"); !strings.Contains(out, "fresh") ||
			!strings.Contains(out, "Harbour Server Authority") {
			t.Errorf("%s is not as ordered:\n%s", boxes[i], out)
		}
	}

	// The same in the browser.
	p := openConsole(t, s)
	for i := range 2 {
		s.ok("replace", boxes[i]+".tidewrack.example/web", "--signer", "harbour-ca")
		id, n := s.newest(boxes[i]+".tidewrack.example"), "p"+string(rune('3'+i))
		s.atGate(id, "signer")
		steps(t,
			func() error { return p.Go("/desk?of=parcels") },
			func() error { return p.Click(browser.Button("Pack 1 into a parcel for harbour-ca")) },
			func() error { return p.Click(browser.Button("Handed over")) },
			func() error { return p.Type("//*[@role='dialog']//input[@name='to']", "Ms Fulmar") },
			func() error { return p.Click(inDialog("Record")) },
			func() error { return p.Wait("//main[contains(.,'with Ms Fulmar since')]") },
		)
		parcel := filepath.Join(t.TempDir(), "out.zip")
		s.ok("parcel", "get", n, "--out", parcel)
		trial := []string{"--trial", "--worst"}[i:]
		steps(t, func() error { return p.Upload("#pile", s.back(parcel, trial...)...) })
		if i == 0 {
			steps(t,
				func() error { return p.Wait("//*[@data-accepted='false' and contains(.,'is valid for 30 days')]") },
				func() error { return p.Go("/replacements/" + id) },
				func() error { return p.Click(browser.Button("Accept the answer")) },
				func() error { return p.Click(inDialog("Accept it")) },
			)
		} else {
			steps(t, func() error { return p.Wait("//*[@data-accepted='true']") })
		}
		s.rests(id, "sealed")
	}
	if _, err := os.Stat(filepath.Join(s.dir, "boxes", "harbour.pem")); err != nil {
		t.Error(err)
	}
}
