package people

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

func TestGuessingTakesEverLonger(t *testing.T) {
	var tried tries
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for i := range freeTries {
		if wait := tried.begin(now, "tern", "192.0.2.1"); wait > 0 {
			t.Fatalf("after %d wrong ones the wait is %s", i, wait)
		}
	}
	for _, want := range []time.Duration{2 * time.Second, 4 * time.Second, 8 * time.Second} {
		if wait := tried.begin(now, "tern", "192.0.2.1"); wait != want {
			t.Errorf("the wait is %s, want %s", wait, want)
		}
		if wait := tried.begin(now, "tern", "198.51.100.1"); wait > 0 {
			t.Errorf("who really is tern waits %s elsewhere", wait)
		}
		tried.succeeded("tern", "198.51.100.1")
		now = now.Add(want)
		if wait := tried.begin(now, "tern", "192.0.2.1"); wait > 0 {
			t.Errorf("after the wait there are %s more", wait)
		}
	}
	tried.succeeded("tern", "192.0.2.1")
	if wait := tried.begin(now, "tern", "192.0.2.1"); wait > 0 {
		t.Errorf("who has signed in waits %s", wait)
	}
	for range 100 {
		tried.begin(now, "tern", "x")
		now = now.Add(longest)
	}
	tried.begin(now, "tern", "x")
	if wait := tried.begin(now, "tern", "x"); wait != longest {
		t.Errorf("the longest wait is %s", wait)
	}
}

// One address that tries many names is slowed down too; so is one that has many
// addresses of one network.
func TestAnAddressCannotTryAllNames(t *testing.T) {
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for _, from := range []func(i int) string{func(int) string { return "192.0.2.1" }, func(i int) string {
		return fmt.Sprintf("2001:db8:1:2::%x", i+1)
	}} {
		var tried tries
		free := 0
		for i := range 100 {
			if tried.begin(now, fmt.Sprint("name", i), from(i)) == 0 {
				free++
			}
		}
		if free != freeOfAddress {
			t.Errorf("%d names could be tried at once", free)
		}
		if wait := tried.begin(now, "gull", "203.0.113.1"); wait > 0 {
			t.Errorf("somebody elsewhere waits %s", wait)
		}
	}
}

// Many at once count as many, and flooding the memory frees nobody.
func TestTriesAtOnceAndInMasses(t *testing.T) {
	var tried tries
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	var let atomic.Int32
	var all sync.WaitGroup
	for range 100 {
		all.Go(func() {
			if tried.begin(now, "tern", "192.0.2.1") == 0 {
				let.Add(1)
			}
		})
	}
	all.Wait()
	if let.Load() != freeTries {
		t.Errorf("%d of 100 at once were let through", let.Load())
	}
	for i := range 3 * maxTrials {
		tried.begin(now, "x", fmt.Sprintf("10.%d.%d.%d", i>>16, i>>8&255, i&255))
	}
	if wait := tried.begin(now, "tern", "192.0.2.1"); wait == 0 {
		t.Error("a flood made it forget who has to wait")
	}
	if len(tried.of) > 4*maxTrials {
		t.Errorf("%d are remembered", len(tried.of))
	}
}
