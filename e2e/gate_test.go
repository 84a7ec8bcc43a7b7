package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

// atGate waits until a replacement waits for somebody.
func (s *server) atGate(id, whom string) progress {
	s.t.Helper()
	var r progress
	if within(2*time.Minute, func() bool {
		r = s.progress(id)
		return r.State == "waiting" && r.WaitingFor == whom
	}) {
		return r
	}
	s.t.Fatalf("%s is %s for %s in stage %s, and should wait for %s: %s %s\n%s", id, r.State, r.WaitingFor, r.Stage,
		whom, r.Why, r.Closed, s.log)
	return r
}

// opens is a window of an hour that begins some time from now.
func opens(in time.Duration) string {
	return "DTSTART:" + time.Now().Add(in).UTC().Format("20060102T150405") + "Z DURATION:PT1H"
}

// Everything is prepared at once, and nothing live is touched outside of a window: the request is made and signed,
// and the box serves what it served until the window opens, a person gives a reason, or the rule is changed. A kill
// changes nothing of it. Twice, since boxes are replaced again and again.
func TestNothingIsTouchedOutsideOfAWindow(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"))
	s.login()
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box, "--tag", "tills", "--site", "Northholm")
	slot := name + "/web"
	for _, scope := range []string{"fleet", "tag/tills"} {
		before := leafAt(t, box.TLSAddr)
		s.ok("policy", "set", scope, "--window", opens(9*time.Second))
		s.ok("replace", slot, "--signer", "bench")
		id := s.newest(name)
		if r := s.atGate(id, "window"); r.Stage != "gate" || r.Closed != "no window is open" {
			t.Errorf("%+v", r)
		}
		if shown := s.ok("replacement", "show", id); !strings.Contains(shown, "it goes on by itself at 20") ||
			!strings.Contains(shown, "chain") {
			t.Errorf("what was prepared:\n%s", shown)
		}
		s.fails(1, "no window is open", "replacement", "go", id)
		s.fails(1, "has a replacement in progress", "replace", slot, "--signer", "bench")
		if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
			t.Fatal("the box was touched")
		}
		s.kill()
		again := launch(t, s.dir, cmdAgain(s))
		again.config = s.config
		s = again
		s.rests(id, "sealed")
		s.ok("policy", "set", scope, "--window", "")
	}

	// A freeze, a holiday of the site, a site that is paused, and a time of your own hold it up; a reason, or the
	// end of the rule, lets it go on.
	today := time.Now().UTC().Format(time.DateOnly)
	s.ok("site", "edit", "Northholm", "--holidays", write(t, filepath.Join(t.TempDir(), "days.ics"),
		"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:"+
			strings.ReplaceAll(today, "-", "")+"\r\nSUMMARY:Harbour day\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"))
	for _, c := range []struct{ set, clear, ask []string }{
		{[]string{"policy", "set", "fleet", "--freeze", today + "/" + today + " discovery"},
			[]string{"policy", "set", "fleet", "--freeze", ""}, nil},
		{[]string{"policy", "set", "device/" + name, "--keep-holidays"},
			[]string{"policy", "set", "device/" + name, "--keep-holidays=false"}, nil},
		{[]string{"site", "edit", "Northholm", "--paused"}, []string{"site", "edit", "Northholm", "--paused=false"},
			nil},
		{nil, nil, []string{"--at", time.Now().Add(48 * time.Hour).Format(time.RFC3339)}},
		{[]string{"policy", "set", "site/Northholm", "--window", opens(-time.Minute)}, nil,
			[]string{"--at", "next-window"}},
	} {
		before := leafAt(t, box.TLSAddr)
		if c.set != nil {
			s.ok(c.set...)
		}
		s.ok(append([]string{"replace", slot, "--signer", "bench"}, c.ask...)...)
		id := s.newest(name)
		r := s.atGate(id, "window")
		if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
			t.Fatalf("%v: the box was touched", c.set)
		}
		if c.clear != nil {
			s.ok(c.clear...)
		} else {
			s.ok("replacement", "go", id, "--reason", "the tills refuse it")
			if told := s.ok("audit", "list", "--as", "csv"); !strings.Contains(told, "the tills refuse it") {
				t.Errorf("the audit log does not say why it was touched:\n%s", told)
			}
		}
		if s.rests(id, "sealed"); r.Closed == "" {
			t.Errorf("%v: nothing said what is in the way", c.set)
		}
	}
	s.ok("policy", "set", "site/Northholm", "--window", "")
	s.fails(1, "no window is set", "replace", slot, "--signer", "bench", "--at", "next-window")
}

// A replacement stops where it was asked to, waits where it was paused, and goes on when a person says so.
func TestAReplacementWaitsForAGoAhead(t *testing.T) {
	t.Parallel()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"), "--procedures",
		quickFamilies(t, "load-balancer"))
	s.login()
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	slot := name + "/web"
	s.fails(1, "has no trial", "replace", slot, "--signer", "bench", "--stop-after", "trial")
	for range 2 {
		before := leafAt(t, box.TLSAddr)
		s.ok("replace", slot, "--signer", "bench", "--stop-after", "sign")
		id := s.newest(name)
		if r := s.atGate(id, "go-ahead"); r.Stage != "gate" {
			t.Errorf("it stopped in stage %s", r.Stage)
		}
		s.ok("replacement", "pause", id)
		if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
			t.Fatal("the box was touched")
		}
		s.kill()
		again := launch(t, s.dir, cmdAgain(s))
		again.config = s.config
		s = again
		s.ok("replacement", "go", id)
		s.rests(id, "sealed")
		s.fails(1, "waits for no go-ahead", "replacement", "go", id)
	}
	s.ok("replace", slot, "--signer", "desk")
	id := s.newest(name)
	s.atGate(id, "signer")
	s.ok("replacement", "pause", id)
	s.ok("replacement", "cancel", id)

	// After a trial on its test listener people look; the listener in use still serves what it served.
	balancer, more := webBox(t, standin.Box{Kind: standin.LoadBalancer})
	s.addWeb("balance.tidewrack.example", "quick-load-balancer", balancer, more...)
	before := leafAt(t, balancer.TLSAddr)
	s.ok("replace", "balance.tidewrack.example/web", "--signer", "bench", "--stop-after", "trial")
	id = s.newest("balance.tidewrack.example")
	if r := s.atGate(id, "go-ahead"); r.Stage != "activate" {
		t.Errorf("it stopped in stage %s", r.Stage)
	}
	if tried := leafAt(t, balancer.MoreAddr); bytes.Equal(tried, before) ||
		!bytes.Equal(leafAt(t, balancer.TLSAddr), before) {
		t.Error("the test listener does not serve the new certificate, or the one in use does")
	}
	s.ok("replacement", "go", id)
	s.rests(id, "sealed")
	s.ok("replace", "balance.tidewrack.example/web", "--signer", "bench", "--stop-after", "trial")
	id = s.newest("balance.tidewrack.example")
	s.atGate(id, "go-ahead")
	before = leafAt(t, balancer.TLSAddr)
	s.ok("replacement", "revert", id, "--yes")
	if s.rests(id, "reverted"); !bytes.Equal(leafAt(t, balancer.TLSAddr), before) {
		t.Error("a revert after the trial changed what is served")
	}
}

// What is approved is what happens: an approval of something else is refused, and where the plan changes until the
// window opens, it is asked for again.
func TestAnApprovalIsOfWhatHappens(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	slot := name + "/web"
	s.ok("policy", "set", "fleet", "--approval", "anybody", "--window", opens(48*time.Hour))
	s.ok("replace", slot, "--signer", "bench", "--name", "more.tidewrack.example")
	id := s.newest(name)
	s.atGate(id, "approval")
	var shown struct {
		Effect struct {
			Digest     string
			NamesAdded []string `json:"names_added"`
			Stages     []string
		}
	}
	s.json(&shown, "replacement", "show", id)
	if !strings.Contains(strings.Join(shown.Effect.NamesAdded, " "), "more.tidewrack.example") ||
		len(shown.Effect.Stages) == 0 {
		t.Errorf("what it is about to do: %+v", shown.Effect)
	}
	s.ok("pin", "add", slot, "--who", "ticket printers", "--how", "their panel")
	r, err := newRequest("POST", s.url+"/api/v1/replacements/"+id+"/approve", "", "")
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+s.token())
	r.Header.Set("Content-Type", "application/json")
	r.Body = body(map[string]string{"digest": shown.Effect.Digest})
	r.ContentLength = -1
	answer, err := polling.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	if answer.Body.Close(); answer.StatusCode != 409 {
		t.Errorf("an approval of something else is answered with %s", answer.Status)
	}
	if out := s.ok("replacement", "approve", id); !strings.Contains(out, "ticket printers") ||
		!strings.Contains(out, "SHA-1") {
		t.Errorf("what was approved:\n%s", out)
	}
	s.atGate(id, "window")
	s.ok("pin", "add", slot, "--who", "gate clock", "--how", "its panel")
	s.ok("policy", "set", "fleet", "--window", opens(-time.Minute)) // it opens, and the plan is another one
	s.atGate(id, "approval")
	s.ok("replacement", "approve", id)
	s.rests(id, "sealed")
}

// Members of a cluster ask at the same time, and their requests go into one parcel; one after the other is touched.
func TestMembersAskTogetherAndAreTouchedOneByOne(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	authority := newTiered(t, 2)
	s.ok("trust-group", "add", "fleet", authority.root(t))
	var ids, files []string
	for i := range 3 {
		box := kind(t, standin.Box{Restart: 2 * time.Second})
		device := fmt.Sprintf("ramp-%d.tidewrack.example", i)
		s.addKind(device, "web-files-ssh", box)
		s.ok("device", "edit", device, "--cluster", "ramps", "--cluster-role", "member")
		s.ok("replace", device+"/web", "--signer", "desk")
		ids = append(ids, s.newest(device))
	}
	for _, id := range ids {
		s.atGate(id, "signer")
	}
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	requests := unpack(t, parcel)
	if len(requests) != 3 {
		t.Fatalf("%d requests in the parcel", len(requests))
	}
	for _, file := range requests {
		files = append(files, authority.answer(t, read(t, file), false))
	}
	s.ok(append([]string{"intake"}, files...)...)
	live := []string{"backup", "trust", "install", "trial", "activate", "prove", "mirror", "seal"}
	waited := false
	for sealed := 0; sealed < 3; time.Sleep(30 * time.Millisecond) {
		sealed = 0
		touching := []string{}
		for _, id := range ids {
			switch r := s.progress(id); {
			case r.State == "sealed":
				sealed++
			case r.State == "waiting" && r.WaitingFor == "device":
				waited = true
			case strings.Contains(strings.Join(live, " "), r.Stage) && r.State == "running":
				touching = append(touching, id+" "+r.Stage)
			case r.State != "running":
				t.Fatalf("%s is %s: %s", id, r.State, r.Why)
			}
		}
		if len(touching) > 1 && sealed == 0 {
			// Two looks are not one moment: look again before it is called wrong.
			if a, b := s.progress(strings.Fields(touching[0])[0]),
				s.progress(strings.Fields(touching[1])[0]); a.State == "running" && b.State == "running" &&
				a.Stage != "gate" && b.Stage != "gate" {
				t.Fatalf("two members are touched at once: %v", touching)
			}
		}
	}
	if !waited {
		t.Error("none waited for another")
	}
}

// Whoever pinned the root of a slot is reported another one before the box is touched, by file and fingerprint; where
// the policy wants it, the box is touched once they have confirmed it.
func TestThoseWhoPinnedTheRootAreToldFirst(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := kind(t, standin.Box{})
	s.addKind(name, "web-files-ssh", box)
	slot := name + "/web"
	s.ok("replace", slot, "--signer", "bench", "--watch")
	s.ok("pin", "add", slot, "--who", "ticket printers", "--what", "root", "--how", "their trust store")
	s.ok("policy", "set", "fleet", "--root-pins-first")
	s.ok("replace", slot, "--signer", "bench", "--watch") // the same root: nobody is to be told
	authority := newTiered(t, 2)
	s.ok("trust-group", "add", "fleet", authority.root(t))
	for range 2 { // given up the first time: then nobody is to be told any more
		before := leafAt(t, box.TLSAddr)
		s.ok("replace", slot, "--signer", "desk")
		id := s.newest(name)
		s.atGate(id, "signer")
		var asked struct{ Request struct{ PEM string } }
		s.json(&asked, "replacement", "show", id)
		s.ok("intake", authority.answer(t, asked.Request.PEM, true))
		if r := s.atGate(id, "window"); !strings.Contains(r.Closed, "1 who pinned the root") {
			t.Errorf("it waits because %s", r.Closed)
		}
		told := s.ok("pin", "pending")
		if !strings.Contains(told, "ticket printers") || !strings.Contains(told, "tier 1") ||
			!strings.Contains(told, "authority export") || strings.Contains(told, "BEGIN CERTIFICATE") {
			t.Errorf("what they are told:\n%s", told)
		}
		if !bytes.Equal(leafAt(t, box.TLSAddr), before) {
			t.Fatal("the box was touched before they knew")
		}
		if s.newest(name) == "r3" {
			s.ok("replacement", "cancel", id)
			if told := s.ok("pin", "pending"); !strings.Contains(told, "no pin is pending") {
				t.Errorf("it was given up, and they are still to be told:\n%s", told)
			}
			continue
		}
		var pending []struct{ ID string }
		s.json(&pending, "pin", "pending")
		s.ok("pin", "confirm", pending[0].ID)
		s.rests(id, "sealed")
		if told := s.ok("pin", "pending"); !strings.Contains(told, "no pin is pending") {
			t.Errorf("they are told twice:\n%s", told)
		}
	}
}

func body(v any) *jsonBody {
	text, _ := json.Marshal(v) // a map of texts cannot fail
	return &jsonBody{bytes.NewReader(text)}
}

// jsonBody is the body of a request.
type jsonBody struct{ *bytes.Reader }

func (*jsonBody) Close() error { return nil }
