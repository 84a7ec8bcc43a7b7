package messages_test

import (
	"errors"
	"fmt"
	"testing"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/faulty"
	"freshseal/store/messages"
)

func read[T any](t *testing.T, s *store.Store, disk *faulty.Disk, list func() (T, error), wants string) {
	t.Helper()
	faulty.Every(t, s, disk, func() error {
		got, err := list()
		if err == nil && fmt.Sprint(got) != wants {
			t.Errorf("%v, want %s", got, wants)
		}
		return err
	})
}

// A notice goes its way from a matter over deliveries and messages to its end, on a disk that fails at every statement
// of every change: nothing is lost and nothing is made twice.
func TestANoticeOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	later := store.At(testkit.Now.AddDate(0, 0, 1))
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	if err := s.Devices.Add(ctx, []store.NewDevice{{Device: store.Device{Name: "gate"},
		Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slot, err := s.Slots.Get(ctx, "gate", "web")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"mail", "hook"} {
		whole(func() error {
			return s.Channels.Put(ctx, messages.Channel{Name: name, Terms: "{}", AddedAt: at},
				map[string][]byte{"channel/" + name: []byte("sealed")}, 0)
		})
	}
	whole(func() error { return s.Channels.Put(ctx, messages.Channel{Name: "mail", Terms: `{"a":1}`}, nil, 1) })
	if err := s.Channels.Put(ctx, messages.Channel{Name: "mail"}, nil, 1); !errors.Is(err, store.ErrStale) {
		t.Errorf("by what was looked at before: %v", err)
	}
	whole(func() error {
		c, err := s.Channels.Get(ctx, "mail")
		if err == nil && (c.Terms != `{"a":1}` || c.Revision != 2 || !c.AddedAt.Equal(testkit.Now)) {
			t.Errorf("%+v", c)
		}
		return err
	})
	whole(func() error {
		all, err := s.Channels.List(ctx)
		if err == nil && (len(all) != 2 || all[0].Name != "hook") {
			t.Errorf("%+v", all)
		}
		return err
	})
	rule := messages.NoticeRule{Name: "all", AddedAt: at}
	whole(func() error { return s.Channels.PutRule(ctx, rule, 0) })
	whole(func() error {
		rules, err := s.Channels.Rules(ctx)
		if err == nil && (len(rules) != 1 || rules[0].Name != "all" || rules[0].Revision != 1) {
			t.Errorf("%+v", rules)
		}
		return err
	})

	told := store.JSON[notice.Matter]{V: notice.Matter{Told: []string{"due"}}}
	matters := []messages.Matter{{Rule: "all", Slot: slot.ID, State: told},
		{Rule: "all", Thing: "token/t1", State: told},
		{Rule: "gone", Slot: slot.ID, State: told}, {Rule: "all", Slot: slot.ID + 1, State: told}}
	one := messages.Notice{ID: "n1", Rule: "all", Slot: "gate/web", Kind: notice.Begins, Stage: "due", MadeAt: at,
		Channels: []string{"mail", "hook"}, DueAt: at}
	whole(func() error { return s.Notices.Add(ctx, matters, []messages.Notice{one}, 7) })
	read(t, s, disk, func() (int64, error) { return s.Notices.Cursor(ctx) }, "7")
	whole(func() error { return s.Notices.Add(ctx, nil, nil, 5) }) // never back
	read(t, s, disk, func() (int64, error) { return s.Notices.Cursor(ctx) }, "7")
	read(t, s, disk, func() (string, error) {
		rows, err := s.Notices.Matters(ctx, []int64{slot.ID, slot.ID + 1})
		more, failed := s.Notices.ThingMatters(ctx)
		out := ""
		for _, m := range append(rows, more...) {
			out += fmt.Sprint(m.Rule, m.Slot, m.Thing, m.State.V.Told, " ")
		}
		return out, errors.Join(err, failed)
	}, fmt.Sprintf("all%d[due] all0token/t1[due] ", slot.ID))
	if none, err := s.Notices.Matters(ctx, nil); err != nil || none != nil {
		t.Errorf("the matters of no slots: %v, %v", none, err)
	}
	page := func() (string, error) {
		rows, _, err := s.Notices.Page(ctx, messages.NoticeFilter{Rule: "all", Slot: "gate/web"}, store.Page{Most: 9})
		out := ""
		for _, r := range rows {
			out += fmt.Sprint(r.ID, " ", r.Sent, r.Waiting, r.Failed, " ", r.Error, r.Over)
		}
		return out, err
	}
	read(t, s, disk, page, "n1 0 2 0 hook mail")
	read(t, s, disk, func() (int, error) { return s.Notices.Count(ctx, messages.NoticeFilter{Rule: "all"}) }, "1")
	read(t, s, disk, func() (int, error) { return s.Notices.Count(ctx, messages.NoticeFilter{Slot: "x"}) }, "0")

	read(t, s, disk, func() (int, error) {
		rows, err := s.Notices.ToPack(ctx, at, 9)
		return len(rows), err
	}, "2")
	early := store.At(testkit.Now.Add(-1))
	if rows, err := s.Notices.ToPack(ctx, store.At(early.AddDate(0, 0, -1)), 9); err != nil || len(rows) != 0 {
		t.Errorf("before their time: %v, %v", rows, err)
	}
	whole(func() error {
		return s.Notices.Pack(ctx, []messages.Message{{ID: "m1", Channel: "mail", People: "quay", MadeAt: at,
			Notices: []string{"n1"}}})
	})
	take := func(now store.Moment) func() (string, error) {
		return func() (string, error) {
			rows, err := s.Notices.TakeMessages(ctx, now, later, 9)
			out := ""
			for _, m := range rows {
				out += fmt.Sprint(m.ID, m.Attempts, m.People)
			}
			return out, err
		}
	}
	read(t, s, disk, take(at), "m11quay")
	read(t, s, disk, take(at), "") // it is under way
	read(t, s, disk, take(later), "m12quay")
	read(t, s, disk, func() ([2]int, error) {
		waiting, failed, err := s.Notices.Queue(ctx)
		return [2]int{waiting, failed}, err
	}, "[2 0]")
	whole(func() error { return s.Notices.EndMessage(ctx, messages.Message{ID: "m1", Error: "no route"}) })
	if err := s.Notices.EndMessage(ctx, messages.Message{ID: "m9"}); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("a message that is not there: %v", err)
	}
	read(t, s, disk, page, "n1 0 1 1 no routehook mail")
	read(t, s, disk, func() ([2]int, error) {
		waiting, failed, err := s.Notices.Queue(ctx)
		return [2]int{waiting, failed}, err
	}, "[1 1]")
	// what still waits for a channel goes with it
	whole(func() error { return s.Channels.Remove(ctx, "hook", "channel/hook") })
	if err := s.Channels.Remove(ctx, "hook", "channel/hook"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
	if _, err := s.Secrets.Get(ctx, "channel/hook"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("its secret: %v", err)
	}
	read(t, s, disk, page, "n1 0 0 1 no routemail")
	whole(func() error { return s.Notices.EndMessage(ctx, messages.Message{ID: "m1", SentAt: later}) })
	read(t, s, disk, page, "n1 1 0 0 mail")
	whole(func() error { return s.Notices.Forget(ctx, at) }) // not older
	read(t, s, disk, func() (int, error) { return s.Notices.Count(ctx, messages.NoticeFilter{}) }, "1")
	whole(func() error { return s.Notices.Forget(ctx, later) })
	read(t, s, disk, func() (int, error) { return s.Notices.Count(ctx, messages.NoticeFilter{}) }, "0")

	// a matter without a stage is forgotten
	matters[0].State, matters[1].State = store.JSON[notice.Matter]{}, store.JSON[notice.Matter]{}
	whole(func() error { return s.Notices.Add(ctx, matters[:2], nil, 8) })
	read(t, s, disk, func() (int, error) {
		rows, err := s.Notices.Matters(ctx, []int64{slot.ID})
		more, failed := s.Notices.ThingMatters(ctx)
		return len(rows) + len(more), errors.Join(err, failed)
	}, "0")
	whole(func() error { return s.Channels.RemoveRule(ctx, "all") })
	if err := s.Channels.RemoveRule(ctx, "all"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
}

// Who knows of a slot is kept until a moment, and rules look at the slots that they may concern.
func TestAcknowledgementsAndSlotsOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	ctx, at := t.Context(), store.At(testkit.Now)
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	if err := s.Devices.Add(ctx, []store.NewDevice{{Device: store.Device{Name: "gate", Site: "Mainquay"},
		Slots: []store.Slot{{Name: "eap"}, {Name: "ldap"}, {Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.Of(ctx, "gate")
	if err != nil {
		t.Fatal(err)
	}
	for i, days := range []int{5, 400} { // the third was never read
		slot := slots[i]
		slot.Base, slot.ReadAt, slot.NotAfter = due.Fresh, at, store.At(testkit.Now.AddDate(0, 0, days))
		slot.DueFrom, slot.OverdueFrom = slot.NotAfter, slot.NotAfter
		if _, err := s.Readings.Add(ctx, []store.NewReading{{Slot: slot}}); err != nil {
			t.Fatal(err)
		}
	}
	soon := store.At(testkit.Now.AddDate(0, 0, 30))
	rows := func(conditions []due.Condition, after int64) func() (string, error) {
		return func() (string, error) {
			found, err := s.Notices.SlotsForRules(ctx, conditions, soon, after, 9)
			out := ""
			for _, r := range found {
				out += r.Device + "/" + r.Name + " " + r.Site + " "
			}
			return out, err
		}
	}
	read(t, s, disk, rows(nil, 0), "gate/eap Mainquay ")
	read(t, s, disk, rows([]due.Condition{due.Fresh}, 0), "gate/eap Mainquay gate/ldap Mainquay ")
	read(t, s, disk, rows([]due.Condition{due.Fresh}, slots[0].ID), "gate/ldap Mainquay ")
	whole(func() error {
		one, err := s.Notices.SlotForRules(ctx, "gate", "ldap")
		if err == nil && (one.ID != slots[1].ID || one.Site != "Mainquay") {
			t.Errorf("%+v", one)
		}
		return err
	})
	if _, err := s.Notices.SlotForRules(ctx, "gate", "web"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("one that was never read: %v", err)
	}

	ack := messages.Acknowledgement{SlotID: slots[0].ID, By: "tern", Reason: "known", At: at, Until: soon, Worst: 3}
	whole(func() error { return s.Notices.Acknowledge(ctx, ack) })
	ack.Reason = "known since long"
	whole(func() error { return s.Notices.Acknowledge(ctx, ack) })
	whole(func() error {
		all, err := s.Notices.Acknowledgements(ctx, at)
		if err == nil && (len(all) != 1 || all[0].Reason != ack.Reason || all[0].Device != "gate" ||
			all[0].Slot != "eap") {
			t.Errorf("%+v", all)
		}
		return err
	})
	if all, err := s.Notices.Acknowledgements(ctx, soon); err != nil || len(all) != 0 {
		t.Errorf("when its time is over: %+v, %v", all, err)
	}
	whole(func() error { return s.Notices.Withdraw(ctx, slots[0].ID) })
	if err := s.Notices.Withdraw(ctx, slots[0].ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("withdrawn twice: %v", err)
	}
}
