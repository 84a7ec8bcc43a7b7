package notice_test

import (
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
)

// A message names what each notice is about, why and what to do; a recovery says no more than that it is over.
func TestAMessageSaysWhatToDo(t *testing.T) {
	ends, act := noon.AddDate(0, 0, 30), noon.AddDate(0, 0, 20)
	slot := notice.Slot{Device: "gate", Name: "web", Site: "Petrel", Owner: "deck", Condition: due.Due, Expires: ends,
		ActBy:   act,
		Subject: "CN=gate", Why: "30 days are left", Remedy: "replace it"}
	stage := notice.Stage{Rank: 130, Name: "30 days"}
	item := func(k notice.Kind, change func(*notice.Slot)) notice.Item {
		s := slot
		if change != nil {
			change(&s)
		}
		return notice.ItemOf("n1", "expiry", k, stage, s, 2, noon)
	}
	sealed := item(notice.Begins, nil)
	sealed.Replacement = "r7"
	text := func(m notice.Message) string { m.At, m.Service = noon, "the quay"; return m.Text() }
	whole := text(notice.Message{URL: "https://seal.example", Items: []notice.Item{item(notice.Begins, nil)}})
	want := strings.Join([]string{"gate/web: expires on 2026-12-27", "  site      Petrel", "  owner     deck",
		"  serves    CN=gate",
		"  expires   2026-12-27 12:00 UTC", "  act by    2026-12-17", "  why       30 days are left",
		"  next      replace it",
		"  see       https://seal.example/slots/gate/web", "", "the quay, 2026-11-27 12:00 UTC", ""}, "\n")
	if whole != want {
		t.Errorf("it says\n%s", whole)
	}
	over := text(notice.Message{Items: []notice.Item{item(notice.Over, nil)}})
	for _, none := range []string{"act by", "why", "next", "see"} {
		if strings.Contains(over, "  "+none+" ") {
			t.Errorf("what is over says\n%s", over)
		}
	}
	for name, c := range map[string]struct {
		m    notice.Message
		want string
	}{
		"one": {notice.Message{Items: []notice.Item{item(notice.Begins, nil)}},
			"gate/web: expires on 2026-12-27"},
		"a reminder": {notice.Message{Items: []notice.Item{item(notice.Reminder, nil)}},
			"gate/web: reminder 2: expires on 2026-12-27"},
		"the end": {notice.Message{Items: []notice.Item{item(notice.Over, nil)}},
			"gate/web: no further action needed (due)"},
		"after a seal": {notice.Message{Items: []notice.Item{sealed}},
			"gate/web: changed after r7 was sealed: due"},
		"one, and more": {notice.Message{Items: []notice.Item{item(notice.Begins, nil)}, More: 4},
			"5 certificates need attention at Petrel"},
		"two of a site": {notice.Message{Items: []notice.Item{item(notice.Begins, nil),
			item(notice.Begins, nil)}}, "2 certificates need attention at Petrel"},
		"two of two sites": {notice.Message{Items: []notice.Item{item(notice.Begins, nil),
			item(notice.Begins, func(s *notice.Slot) {
				s.Site = "Mainquay"
			})}}, "2 certificates need attention"},
		"two without any site": {notice.Message{Items: []notice.Item{item(notice.Begins, func(s *notice.Slot) {
			s.Site = ""
		}), item(notice.Begins, func(s *notice.Slot) { s.Site = "" })}}, "2 certificates need attention"},
	} {
		if got := c.m.Subject(); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	if many := text(notice.Message{Items: []notice.Item{item(notice.Begins, nil)}, More: 3}); !strings.Contains(many,
		"\nand 3 more\n") {
		t.Errorf("%s", many)
	}
	if strings.Contains(whole, "more") {
		t.Errorf("%s", whole)
	}
}

// What else expires has rules, matters and words of its own.
func TestThingsExpireToo(t *testing.T) {
	rule := notice.Rule{Expiring: true, Days: []int{30, 7}, To: []string{"mail"}, Recovery: true}
	if err := rule.Check(); err != nil {
		t.Fatal(err)
	}
	for name, bad := range map[string]notice.Rule{"without days": {Expiring: true, To: []string{"mail"},
		Conditions: []due.Condition{due.Due}},
		"with a condition": {Expiring: true, Days: []int{1}, To: []string{"mail"},
			Conditions: []due.Condition{due.Due}},
		"with a site":          {Expiring: true, Days: []int{1}, To: []string{"mail"}, Site: "Petrel"},
		"3651 days":            {Days: []int{3651}, To: []string{"mail"}},
		"a day less than none": {Days: []int{-1}, To: []string{"mail"}}} {
		if bad.Check() == nil {
			t.Errorf("a rule %s is taken", name)
		}
	}
	if err := (notice.Rule{Days: []int{3650, 0}, To: []string{"mail"}}).Check(); err != nil {
		t.Error(err)
	}
	root := notice.Thing{Kind: "root", Name: "Quay Root", SHA256: "ab", Ends: noon.AddDate(0, 0, 40), Slots: 2,
		Remedy: "ask"}
	for day, want := range map[int]string{0: "", 10: "30 days", 33: "7 days", 40: "expired"} {
		if got := rule.StageOfThing(root, noon.AddDate(0, 0, day)); got.Name != want {
			t.Errorf("after %d days: %+v", day, got)
		}
	}
	paused := rule
	if paused.Paused = true; paused.StageOfThing(root, noon.AddDate(0, 0, 10)) != notice.None {
		t.Error("a paused rule means nothing")
	}
	// It is renewed: that is the end. It expires and then goes: it expired.
	told := notice.Matter{Told: []string{"30 days"}, Worst: 130, Last: noon}
	if kind, stage := rule.Gone(told, root, noon.AddDate(0, 0, 20)); kind != notice.Over || stage != notice.None {
		t.Errorf("renewed: %s %+v", kind, stage)
	}
	if kind, stage := rule.Gone(told, root, root.Ends); kind != notice.Begins || stage.Name != "expired" {
		t.Errorf("gone at its end: %s %+v", kind, stage)
	}
	told.Told = append(told.Told, "expired")
	if kind, stage := rule.Gone(told, root, root.Ends.Add(time.Hour)); kind != notice.Over || stage != notice.None {
		t.Errorf("told already: %s %+v", kind, stage)
	}
	if renewed := (notice.Thing{Kind: "root", Name: "Quay Root", SHA256: "ab",
		Ends: root.Ends.AddDate(1, 0, 0)}); renewed.Key() == root.Key() {
		t.Error("what was renewed is another thing")
	}
	for slots, want := range map[int]string{0: "it expires on 2027-01-06", 1: "it expires on 2027-01-06; it is on " +
		"the path of 1 slot",
		2: "it expires on 2027-01-06; it is on the path of 2 slots"} {
		thing := root
		thing.Slots, thing.Of = slots, "desk"
		i := notice.ItemOfThing("n2", "roots", notice.Begins, notice.Stage{Name: "30 days"}, thing, 0, noon)
		if i.Why != want || i.About() != "root Quay Root of desk" || i.Next != "ask" || i.Subject != "ab" {
			t.Errorf("%+v", i)
		}
	}
	m := notice.Message{URL: "https://seal.example",
		Items: []notice.Item{notice.ItemOfThing("n2", "roots", notice.Begins,
			notice.Stage{Name: "30 days"}, root, 0, noon)}}
	if text := m.Text(); !strings.Contains(text, "root Quay Root: expires on 2027-01-06\n") ||
		!strings.Contains(text, "https://seal.example/ahead\n") {
		t.Errorf("%s", text)
	}
}

// Hours of quiet by day and over midnight; a notice waits for their end.
func TestQuietHours(t *testing.T) {
	at := func(clock string) time.Time {
		m, err := time.Parse("15:04", clock)
		if err != nil {
			t.Fatal(err)
		}
		return time.Date(2026, 11, 27, m.Hour(), m.Minute(), 0, 0, time.UTC)
	}
	for _, c := range []struct{ quiet, now, want string }{{"12:00-14:00", "11:59", "11:59"},
		{"12:00-14:00", "12:00", "14:00"},
		{"12:00-14:00", "13:59", "14:00"}, {"12:00-14:00", "14:00", "14:00"}, {"22:00-06:00", "21:59", "21:59"},
		{"22:00-06:00", "05:59", "06:00"}, {"22:00-06:00", "06:00", "06:00"}, {"22:00-06:00", "12:00", "12:00"}} {
		if got := (notice.Rule{Quiet: c.quiet}).Due(at(c.now)); got.Format("15:04") != c.want {
			t.Errorf("%s at %s: %s", c.quiet, c.now, got)
		}
	}
	if got := (notice.Rule{Quiet: "22:00-06:00"}).Due(at("23:00")); !got.Equal(at("06:00").AddDate(0, 0, 1)) {
		t.Errorf("over midnight: %s", got)
	}
	// Reminders come after as many days, and not on the same day if there are none.
	told := notice.Matter{Told: []string{"due"}, Worst: due.Due.Rank(), Last: noon}
	stage := notice.Stage{Rank: due.Due.Rank(), Name: "due"}
	for days, want := range map[int]notice.Kind{0: "", 3: notice.Reminder} {
		rule := notice.Rule{RepeatDays: days}
		if kind, _ := rule.Next(told, stage, nil, noon.AddDate(0, 0, 3)); kind != want {
			t.Errorf("every %d days: %q", days, kind)
		}
		if kind, _ := rule.Next(told, stage, nil, noon.AddDate(0, 0, 3).Add(-time.Second)); kind != "" {
			t.Errorf("every %d days, a second before: %q", days, kind)
		}
	}
}
