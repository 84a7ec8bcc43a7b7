package events_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/events"
	"freshseal/store/faulty"
)

// An act is in the outbox and in the audit log, or in neither; the log shows whatever was done to it afterwards.
func TestTheAuditLogOnADiskThatFails(t *testing.T) {
	s, disk := faulty.Open(t)
	s.KeyAudit([]byte("key"))
	ctx := t.Context()
	whole := func(act func() error) { t.Helper(); faulty.Every(t, s, disk, act) }
	if _, err := s.Audit.Head(ctx); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the head of an empty log: %v", err)
	}
	for i, act := range []struct{ who, what, about string }{{"tern", "add a device", "/devices"},
		{"gull", "read a slot", "slot/gate/web"}, {"tern", "remove a device", "/devices/gate"}} {
		whole(func() error {
			return s.Outbox.Act(ctx, store.At(testkit.Now.AddDate(0, 0, i)), act.who, act.what, act.about)
		})
	}
	pages := func(f events.AuditFilter, want string) {
		t.Helper()
		whole(func() error {
			rows, _, err := s.Audit.Page(ctx, f, store.Page{Most: 9, Desc: true})
			got := ""
			for _, r := range rows {
				got += fmt.Sprint(r.ID, r.What, " ")
			}
			if err == nil && got != want {
				t.Errorf("%+v: %s, want %s", f, got, want)
			}
			return err
		})
		whole(func() error {
			n, err := s.Audit.Count(ctx, f)
			if err == nil && n != strings.Count(want, "device")+strings.Count(want, "slot") {
				t.Errorf("%+v: %d", f, n)
			}
			return err
		})
	}
	pages(events.AuditFilter{}, "3remove a device 2read a slot 1add a device ")
	pages(events.AuditFilter{Who: "tern"}, "3remove a device 1add a device ")
	pages(events.AuditFilter{Text: "GATE"}, "3remove a device 2read a slot ")
	pages(events.AuditFilter{From: store.At(testkit.Now.AddDate(0, 0, 1))}, "3remove a device 2read a slot ")
	pages(events.AuditFilter{Until: store.At(testkit.Now.AddDate(0, 0, 1))}, "1add a device ")
	whole(func() error {
		head, err := s.Audit.Head(ctx)
		if err == nil && (head.ID != 3 || head.Hash == "") {
			t.Errorf("%+v", head)
		}
		return err
	})
	whole(func() error {
		e, err := s.Audit.Entry(ctx, 2)
		if err == nil && e.Who != "gull" {
			t.Errorf("%+v", e)
		}
		return err
	})
	if _, err := s.Audit.Entry(ctx, 9); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("an entry that is not there: %v", err)
	}
	verifies := func(entries int, says string) {
		t.Helper()
		n, err := s.Audit.Verify(ctx)
		if n != entries || (says == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("%d entries, %v; want %d and %q", n, err, entries, says)
		}
	}
	whole(func() error { _, err := s.Audit.Verify(ctx); return err })
	verifies(3, "")
	s.KeyAudit([]byte("another key"))
	verifies(0, "entry 1 of")
	s.KeyAudit([]byte("key"))

	count := func(about string, after int64) int {
		t.Helper()
		n := 0
		whole(func() error {
			rows, err := s.Outbox.Events(ctx, about, after)
			n = len(rows)
			return err
		})
		return n
	}
	if all, some, behind := count("", 0), count("/devices", 0), count("", 2); all != 3 || some != 1 || behind != 1 {
		t.Errorf("%d events, %d of them of devices, %d behind the second", all, some, behind)
	}
	whole(func() error { return s.Outbox.Forget(ctx, store.At(testkit.Now.AddDate(0, 0, 1))) })
	if n := count("", 0); n != 2 {
		t.Errorf("%d events are left", n)
	}
	whole(func() error {
		last, err := s.Outbox.LastEvent(ctx)
		if err == nil && last != 3 {
			t.Errorf("the last is %d", last)
		}
		return err
	})
	verifies(3, "") // the log forgets nothing
}
