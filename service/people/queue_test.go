package people

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// One network that tries without end delays another by one try; a network that is known comes first, and gets a place
// where all are taken.
func TestWhoTriesPasswordsTakesTurnsByNetwork(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var q queue
		var lock sync.Mutex
		var order []string
		var all sync.WaitGroup
		busy := map[string]int{}
		try := func(network string, known bool) {
			all.Go(func() {
				err := q.do(t.Context(), network, known, func() {
					time.Sleep(time.Second)
					lock.Lock()
					order = append(order, network)
					lock.Unlock()
				})
				if err != nil {
					lock.Lock()
					busy[network]++
					lock.Unlock()
				}
			})
			synctest.Wait()
		}
		try("first", false)
		for range mostFromNetwork + 5 {
			try("flood", false)
		}
		try("desk", false)
		try("home", true)
		all.Wait()
		if got := fmt.Sprint(order[:4]); got != "[first home flood desk]" || busy["flood"] != 5 ||
			len(order) != 3+mostFromNetwork {
			t.Errorf("%s, %d are served, busy %v", got, len(order), busy)
		}

		// Many networks take all places.
		order, busy = nil, map[string]int{}
		for i := range mostWaiting + 1 {
			try(fmt.Sprint("net-", i), false)
		}
		try("late", false)
		try("home", true)
		all.Wait()
		if busy["late"] != 1 || busy["home"] != 0 || order[1] != "home" {
			t.Errorf("busy %v, first %v", busy, order[:3])
		}
		// The others wait for a time, and no longer.
		if served := len(order); served > int(longestWait/time.Second)+2 || served < int(longestWait/time.Second) {
			t.Errorf("%d were served in the time that one waits", served)
		}
		if len(q.lines) != 0 || q.busy || q.waiting != 0 {
			t.Errorf("something is left: %+v", &q)
		}
	})
}

// Who goes away while waiting gives the place back.
func TestWhoGoesAwayDoesNotWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var q queue
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan error, 2)
		go func() { done <- q.do(t.Context(), "a", false, func() { time.Sleep(time.Minute) }) }()
		synctest.Wait()
		go func() { done <- q.do(ctx, "b", false, func() { t.Error("it was tried") }) }()
		synctest.Wait()
		cancel()
		if err := <-done; err == nil {
			t.Error("it went on")
		}
		if err := <-done; err != nil || q.busy || q.waiting != 0 {
			t.Errorf("%v, %+v", err, &q)
		}
	})
}

// A try that was refused as busy is no wrong one.
func TestBusyIsNoWrongPassword(t *testing.T) {
	var tried tries
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for range 3 * freeOfAddress {
		if wait := tried.begin(now, "tern", "192.0.2.1"); wait > 0 {
			t.Fatalf("it waits %s", wait)
		}
		tried.takeBack("tern", "192.0.2.1")
	}
}

// Networks are known for a time, and the one seen least lately is forgotten first.
func TestNetworksAreKnown(t *testing.T) {
	var k known
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	for i := range mostKnown {
		k.add(fmt.Sprint(i), now.Add(time.Duration(i)*time.Second))
	}
	k.add("0", now.Add(time.Hour))
	k.add("one more", now.Add(time.Hour))
	have := []bool{k.has("0", now), k.has("1", now), k.has("2", now), k.has("one more", now)}
	if !slices.Equal(have, []bool{true, false, true, true}) {
		t.Errorf("%v", have)
	}
	if k.has("2", now.Add(knownFor+time.Hour)) {
		t.Error("it is known for ever")
	}
}
