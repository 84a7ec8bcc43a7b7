package service

import (
	"testing"
	"time"
)

func TestGuessingTakesEverLonger(t *testing.T) {
	var tried tries
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for i := range freeTries {
		if wait := tried.wait(now, "tern", "192.0.2.1"); wait > 0 {
			t.Fatalf("after %d wrong ones the wait is %s", i, wait)
		}
		tried.failed(now, "tern", "192.0.2.1")
	}
	for _, want := range []time.Duration{2 * time.Second, 4 * time.Second, 8 * time.Second} {
		if wait := tried.wait(now, "tern", "198.51.100.1"); wait != want { // the name is slowed down wherever it comes from
			t.Errorf("the wait is %s, want %s", wait, want)
		}
		now = now.Add(want)
		if wait := tried.wait(now, "tern", "198.51.100.1"); wait > 0 {
			t.Errorf("after the wait there are %s more", wait)
		}
		tried.failed(now, "tern", "192.0.2.1")
	}
	if tried.wait(now, "gull", "192.0.2.1") == 0 {
		t.Error("another name from the same address is not slowed down")
	}
	if tried.wait(now, "gull", "203.0.113.1") > 0 {
		t.Error("somebody else is slowed down")
	}
	tried.forget("tern", "192.0.2.1")
	if tried.wait(now, "tern", "192.0.2.1") > 0 {
		t.Error("who has signed in is still slowed down")
	}
	for range 100 {
		tried.failed(now, "tern", "x")
	}
	if wait := tried.wait(now, "tern", "x"); wait != longest {
		t.Errorf("the longest wait is %s", wait)
	}
}
