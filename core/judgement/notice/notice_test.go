package notice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

// A slot's story: each stage is told once, reminders come and escalate, an acknowledgement is quiet until it is
// worse, and the end is told.
func TestAMatterIsToldOnce(t *testing.T) {
	rule := notice.Rule{Conditions: []due.Condition{due.Expired, due.Unreachable}, Days: []int{30, 14, 3},
		To: []string{"mail"}, RepeatDays: 5, Escalate: []string{"pager"}, Recovery: true}
	slot := notice.Slot{Device: "gate", Name: "web", Condition: due.Due, Expires: noon.AddDate(0, 0, 40)}
	var m notice.Matter
	var known *notice.Acknowledged
	told := func(at time.Time) string {
		t.Helper()
		stage := rule.StageOf(slot, at)
		kind, after := rule.Next(m, stage, known, at)
		m = after
		if kind == "" {
			return ""
		}
		return fmt.Sprintf("%s %s to %s", kind, stage.Name, strings.Join(rule.Channels(kind), "+"))
	}
	day := func(n int) time.Time { return noon.AddDate(0, 0, n) }
	for n, c := range []struct {
		day  int
		do   func()
		want string
	}{
		{0, nil, ""},
		{10, nil, "notice 30 days to mail"},
		{11, nil, ""},
		{15, nil, "reminder 30 days to mail+pager"},
		{16, nil, ""},
		{26, nil, "notice 14 days to mail"},
		{27, func() { known = &notice.Acknowledged{Until: day(60), Worst: rule.StageOf(slot, day(27)).Rank} }, ""},
		{35, nil, ""}, // a reminder would be due
		{37, nil, "notice 3 days to mail"},
		{38, func() { known.Worst = 103 }, ""},
		{41, func() { slot.Condition = due.Expired }, "notice expired to mail"},
		{42, func() { slot.Condition = due.Unreachable }, "notice unreachable to mail"},
		{43, func() { slot.Condition = due.Expired }, ""}, // was told
		{44, func() { slot.Condition, slot.Expires = due.Fresh, day(400) }, "recovery  to mail"},
		{45, nil, ""},
		{46, func() { slot.Condition, known = due.Unreachable, nil }, "notice unreachable to mail"}, // a new matter
	} {
		if c.do != nil {
			c.do()
		}
		if got := told(day(c.day)); got != c.want {
			t.Errorf("step %d, day %d: %q, want %q", n, c.day, got, c.want)
		}
	}
}

func TestARuleMeansItsSlotsAlone(t *testing.T) {
	slot := notice.Slot{Device: "gate", Name: "web", Site: "Mainquay", Family: "firewall", Owner: "harbour office",
		Tags: []string{"edge"}, Condition: due.Unexpected}
	for about, c := range map[string]struct {
		rule  notice.Rule
		means bool
	}{
		"all":           {notice.Rule{}, true},
		"its site":      {notice.Rule{Site: "Mainquay"}, true},
		"another site":  {notice.Rule{Site: "Saltmere"}, false},
		"its family":    {notice.Rule{Family: "firewall", Owner: "harbour office", Tag: "edge"}, true},
		"another":       {notice.Rule{Family: "router"}, false},
		"another owner": {notice.Rule{Owner: "office"}, false},
		"another tag":   {notice.Rule{Tag: "edg"}, false},
		"paused":        {notice.Rule{Paused: true}, false},
	} {
		c.rule.Conditions = []due.Condition{due.Unexpected}
		if got := c.rule.StageOf(slot, noon) != notice.None; got != c.means {
			t.Errorf("%s: %t", about, got)
		}
	}
	if (notice.Rule{Days: []int{3650}}).StageOf(slot, noon) != notice.None {
		t.Error("days are left of nothing")
	}
}

func TestNoticesWaitForTheirHour(t *testing.T) {
	oslo := func(text string) time.Time {
		zone, _ := time.LoadLocation("Europe/Oslo")
		at, err := time.ParseInLocation("2006-01-02 15:04", text, zone)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for _, c := range []struct{ digest, quiet, at, want string }{
		{"", "", "2026-11-27 12:00", "2026-11-27 12:00"},
		{"07:30", "", "2026-11-27 12:00", "2026-11-28 07:30"},
		{"07:30", "", "2026-11-27 07:30", "2026-11-27 07:30"},
		{"", "22:00-06:00", "2026-11-27 23:10", "2026-11-28 06:00"},
		{"", "22:00-06:00", "2026-11-28 05:59", "2026-11-28 06:00"},
		{"", "22:00-06:00", "2026-11-28 06:00", "2026-11-28 06:00"},
		{"", "12:00-13:00", "2026-11-27 12:30", "2026-11-27 13:00"},
		{"05:00", "22:00-06:00", "2026-11-27 12:00", "2026-11-28 06:00"},
		{"02:30", "", "2026-03-28 12:00", "2026-03-29 03:30"}, // the hour that summer time takes
	} {
		r := notice.Rule{Digest: c.digest, Quiet: c.quiet, Zone: "Europe/Oslo"}
		if got := r.Due(oslo(c.at)); !got.Equal(oslo(c.want)) {
			t.Errorf("%+v: %s", c, got)
		}
	}
}

func TestWrongRulesAreRefused(t *testing.T) {
	good := notice.Rule{Conditions: []due.Condition{due.Unreachable}, To: []string{"mail"}}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
	for want, change := range map[string]func(*notice.Rule){
		"not a condition":        func(r *notice.Rule) { r.Conditions = []due.Condition{due.Fresh} },
		"neither a condition":    func(r *notice.Rule) { r.Conditions = nil },
		"-1 days":                func(r *notice.Rule) { r.Days = []int{-1} },
		"no channel":             func(r *notice.Rule) { r.To = nil },
		"not a channel":          func(r *notice.Rule) { r.To = []string{"a b"} },
		"not a time of day":      func(r *notice.Rule) { r.Digest = "25:00" },
		"not hours":              func(r *notice.Rule) { r.Quiet = "22:00" },
		"no time zone":           func(r *notice.Rule) { r.Zone = "../../etc/passwd" },
		"without reminders":      func(r *notice.Rule) { r.Escalate = []string{"pager"} },
		"between reminders":      func(r *notice.Rule) { r.RepeatDays = 1000 },
		"more than 20 channels":  func(r *notice.Rule) { r.To = strings.Split(strings.Repeat("a ", 20)+"a", " ") },
		"more than 20 numbers":   func(r *notice.Rule) { r.Days = make([]int, 21) },
		"07:3\" is not":          func(r *notice.Rule) { r.Digest = "07:3" },
		"00:00-00:00\" are not":  func(r *notice.Rule) { r.Quiet = "00:00-00:00" },
		"Local\"":                func(r *notice.Rule) { r.Zone = "Local" },
		"flooded\" is not a con": func(r *notice.Rule) { r.Conditions = []due.Condition{"flooded"} },
	} {
		r := good
		change(&r)
		if err := r.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
}

// What a device says of itself stays text in a message: it adds no line and no header.
func TestAMessageIsOnlyText(t *testing.T) {
	evil := "a\r\nBcc: all@tidewrack.example\r\n\r\n\x1b[2J\u202egnihton"
	s := notice.Slot{Device: "gate", Name: "web", Site: evil, Owner: evil, Subject: evil, Why: evil, Remedy: evil,
		Condition: due.Unexpected, Expires: noon, ActBy: noon.AddDate(0, 0, -9)}
	one := notice.ItemOf("n1", "unexpected", notice.Begins, notice.Stage{Name: "unexpected"}, s, 0, noon)
	m := notice.Message{ID: "m1", At: noon, Service: evil, URL: "https://127.0.0.1:8443",
		Items: []notice.Item{one, one}, More: 3}
	if strings.ContainsAny(m.Subject(), "\r\n\x1b\u202e") || strings.ContainsAny(m.Text(), "\r\x1b\u202e") ||
		strings.Contains(m.Text(), "\nBcc") {
		t.Errorf("%q\n%q", m.Subject(), m.Text())
	}
	if !strings.HasPrefix(m.Subject(), "5 certificates need attention at a") ||
		!strings.Contains(m.Text(), "see       https://127.0.0.1:8443/slots/gate/web") ||
		!strings.Contains(m.Text(), "act by    2026-11-18") {
		t.Errorf("%s\n%s", m.Subject(), m.Text())
	}
}
