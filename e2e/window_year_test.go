package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

// night is when a nightly window in Oslo is open; its length does not change with the clocks.
type night struct{ opens, closes time.Time }

func nightOf(day time.Time) night {
	at := time.Date(day.Year(), day.Month(), day.Day(), 1, 0, 0, 0, day.Location())
	return night{at, at.Add(3 * time.Hour)}
}

// A window of the night holds for a year: on ordinary nights, in the nights in which the clocks change, and through a
// freeze. The service is started again at each moment with a clock that is there. What is asked for by day waits,
// whatever time goes by while the service is down, and begins within a window and never before.
func TestAWindowHoldsForAYear(t *testing.T) {
	t.Parallel()
	oslo, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	dir, listen, ahead := t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1"), filepath.Join(t.TempDir(), "ahead")
	must(t, "", "go", "build", "-o", ahead, "./ahead")
	folder := quickFamilies(t, "web-files-ssh")
	var s *server
	at := func(moment time.Time) { // starts the service there
		t.Helper()
		config := ""
		if s != nil {
			config = s.config
			s.kill()
		}
		cmd := exec.Command(ahead, "serve", "--dir", dir, "--listen", listen, "--procedures", folder)
		cmd.Env = append(os.Environ(), "FRESHSEAL_READ_EVERY=0", "AHEAD="+time.Until(moment).String())
		if s = launch(t, dir, cmd); config != "" {
			s.config = config
		}
	}

	start := time.Now().In(oslo)
	frozen := start.AddDate(0, 0, 40)
	type moment struct {
		about string
		at    time.Time
		open  bool
	}
	var moments []moment
	add := func(about string, at time.Time, open bool) { moments = append(moments, moment{about, at, open}) }
	for day := 2; day < 365; day++ {
		it := start.AddDate(0, 0, day)
		n, after := nightOf(it), nightOf(it.AddDate(0, 0, 1))
		switch {
		case after.opens.Sub(n.opens) != 24*time.Hour: // the clocks change in this night
			add("just before the clocks change", n.opens.Add(-4*time.Second), true)
			add("after the night of the change", n.closes.Add(time.Second), false)
			add("the night after the change", after.opens.Add(time.Hour), true)
		case day == 40:
			add("by day, before the freeze", n.opens.Add(-8*time.Hour), false)
		case day == 42:
			add("a night of the freeze", n.opens.Add(30*time.Minute), false)
		case day == 50:
			add("a night after the freeze", n.opens.Add(30*time.Minute), true)
		case day%90 == 0:
			add("by day", n.opens.Add(12*time.Hour), false)
			add("the next night", after.opens.Add(2*time.Hour), true)
		}
	}
	slices.SortFunc(moments, func(a, b moment) int { return a.at.Compare(b.at) })
	if changes := strings.Count(fmt.Sprint(moments), "just before the clocks change"); changes != 2 {
		t.Fatalf("the clocks change %d times in a year", changes)
	}

	at(time.Now())
	s.login()
	var made struct{ Secret string }
	s.json(&made, "token", "add", "a-year", "--role", "admin", "--days", "700")
	before, _, _ := strings.Cut(read(t, s.config), "token: ")
	write(t, s.config, before+"token: "+made.Secret+"\n")
	now := time.Now
	box := kind(t, standin.Box{Now: func() time.Time { return now() }})
	s.addKind(name, "quick-web-files-ssh", box)
	s.ok("policy", "set", "fleet", "--window", "DTSTART;TZID=Europe/Oslo:20260101T010000 RRULE:FREQ=DAILY "+
		"DURATION:PT3H",
		"--freeze", frozen.Format(time.DateOnly)+"/"+frozen.AddDate(0, 0, 5).Format(time.DateOnly)+" end of the year")
	waiting, sealed := "", 0
	for _, m := range moments {
		ahead := time.Until(m.at)
		now = func() time.Time { return time.Now().Add(ahead) }
		served := leafAt(t, box.TLSAddr)
		if at(m.at); waiting == "" {
			s.ok("replace", name+"/web", "--signer", "bench")
			waiting = s.newest(name)
		}
		if !m.open {
			if r := s.atGate(waiting, "window"); r.Stage != "gate" || r.Closed == "" ||
				!bytes.Equal(leafAt(t, box.TLSAddr), served) {
				t.Fatalf("%s (%s): %+v", m.about, m.at, r)
			}
			continue
		}
		s.rests(waiting, "sealed")
		var shown struct {
			Steps []struct {
				Stage   string
				BeganAt time.Time `json:"began_at"`
			}
		}
		s.json(&shown, "replacement", "show", waiting)
		n := nightOf(m.at.Add(time.Hour).In(oslo))
		for _, step := range shown.Steps {
			if touches := step.Stage != "survey" && step.Stage != "request"; touches &&
				(step.BeganAt.Before(n.opens) || step.BeganAt.After(n.closes)) {
				t.Fatalf("%s: the stage %s began at %s, and the window was open from %s to %s", m.about, step.Stage,
					step.BeganAt.In(oslo), n.opens, n.closes)
			}
		}
		if bytes.Equal(leafAt(t, box.TLSAddr), served) {
			t.Fatalf("%s: it is sealed, and the box serves what it served", m.about)
		}
		waiting, sealed = "", sealed+1
	}
	if sealed < 9 {
		t.Errorf("%d were sealed, of %v", sealed, moments)
	}
}
