package store_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/store"
)

// waiting makes a replacement that waits for its signer, with its request.
func waiting(t *testing.T, s *store.Store, device string) (int64, request.Request) {
	t.Helper()
	if err := s.Devices.Add(t.Context(),
		[]store.NewDevice{{Device: store.Device{Name: device}, Slots: []store.Slot{{Name: "web"}}}}); err != nil {
		t.Fatal(err)
	}
	slots, err := s.Slots.Of(t.Context(), device)
	if err != nil {
		t.Fatal(err)
	}
	plan := request.Plan{Names: []string{device}}.Complete()
	id, err := s.Replacements.Add(t.Context(), store.Replacement{DeviceID: slots[0].DeviceID, SlotID: slots[0].ID,
		Signer: "desk", Plan: store.JSON[request.Plan]{V: plan}}, []int64{slots[0].ID},
		replacement.Progress{Stage: replacement.Request, State: replacement.Running}, "procedure: x", nil)
	if err != nil {
		t.Fatal(err)
	}
	key, err := request.NewKey(request.ECDSAP256)
	if err != nil {
		t.Fatal(err)
	}
	made, err := request.Make(plan, key)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Replacements.SetRequest(t.Context(), id, made); err != nil {
		t.Fatal(err)
	}
	for _, e := range []replacement.Event{{Kind: replacement.Done},
		{Kind: replacement.Waits, Waiting: replacement.Signer}} {
		if _, _, err := s.Replacements.Advance(t.Context(), id, e, store.At(testkit.Now)); err != nil {
			t.Fatal(err)
		}
	}
	return id, made
}

// The answer comes at the very moment at which another request is asked for: one
// of the two counts, never half of each.
func TestAnAnswerAndAskingAgainNeverMix(t *testing.T) {
	s := open(t)
	root := testkit.Root(t, "Quay Root")
	accepted := 0
	for i := range 20 {
		device := fmt.Sprintf("box-%d.tidewrack.example", i)
		id, made := waiting(t, s, device)
		leaf := root.Leaf(t, device)
		var both sync.WaitGroup
		var answered, asked error
		answer := func() {
			_, _, answered = s.Replacements.Accept(t.Context(), id,
				[]*cert.Certificate{leaf.Certificate, root.Certificate}, nil, store.At(testkit.Now))
		}
		ask := func() {
			_, _, asked = s.Requests.AskAgain(t.Context(), id, "desk",
				request.Plan{Names: []string{device, "again"}}.Complete(),
				store.Obsolete{Reason: "a name", By: "keeper", At: store.At(testkit.Now)}, "key")
		}
		if i%2 == 0 { // who is started last is mostly quicker
			answer, ask = ask, answer
		}
		both.Go(answer)
		both.Go(ask)
		both.Wait()
		if (answered == nil) == (asked == nil) {
			t.Fatalf("answered: %v, asked again: %v", answered, asked)
		}
		r, err := s.Replacements.Get(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		former, err := s.Requests.ObsoleteOf(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if answered == nil {
			accepted++
			if r.Stage != replacement.Gate || r.NewSHA256 != leaf.SHA256 || len(r.Request) == 0 || len(former) > 0 {
				t.Errorf("answered, and it is in stage %s with %d obsolete requests", r.Stage, len(former))
			}
			continue
		}
		if !errors.Is(answered, store.ErrNotFound) && !errors.As(answered, new(replacement.Impossible)) {
			t.Errorf("what came too late is told of as %v", answered)
		}
		if r.Stage != replacement.Request || r.NewSHA256 != "" || len(r.Request) > 0 || r.SPKI != "" ||
			len(r.Plan.V.Names) != 2 || len(former) != 1 {
			t.Errorf("asked again, and it is in stage %s with %d obsolete requests", r.Stage, len(former))
		}
		if old, err := s.Requests.ObsoleteByKey(t.Context(), cert.Fingerprint(made.SPKI())); err != nil ||
			old.ReplacementID != id || old.Reason != "a name" {
			t.Errorf("the obsolete request is found as %+v, %v", old, err)
		}
	}
	if accepted == 0 || accepted == 20 {
		t.Errorf("of twenty, %d answers were quicker: only one of the two orders was tried", accepted)
	}
}

// While a list is read page by page, devices are added before and behind: those
// that were there are seen once each, in order, in every order.
func TestPagesLoseAndRepeatNothingWhileTheListGrows(t *testing.T) {
	s := open(t)
	var number atomic.Int64
	add := func(n int) {
		var devices []store.NewDevice
		for range n {
			devices = append(devices,
				store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%04d-%d.tidewrack.example",
					rand.IntN(10_000), number.Add(1)), Site: fmt.Sprint("site ", rand.IntN(4)),
					Family: fmt.Sprint("family-", rand.IntN(3)), Address: fmt.Sprintf("192.0.2.%d", rand.IntN(20))},
					Slots: []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443,
						NotAfter: store.At(time.Unix(int64(1_800_000_000+rand.IntN(50)), 0))}}})
		}
		if err := s.Devices.Add(t.Context(), devices); err != nil {
			t.Fatal(err)
		}
	}
	for _, order := range []string{"name", "condition", "expires_at", "site", "family", "address"} {
		for _, desc := range []bool{false, true} {
			add(40)
			there, _, err := s.Devices.Page(t.Context(), store.DeviceFilter{},
				store.Page{Most: 100_000, Sort: order, Desc: desc})
			if err != nil {
				t.Fatal(err)
			}
			place := map[string]int{}
			for i, row := range there {
				place[row.Name] = i
			}
			last, seen := -1, map[string]bool{}
			for p := (store.Page{Most: 7, Sort: order, Desc: desc}); ; {
				rows, next, err := s.Devices.Page(t.Context(), store.DeviceFilter{}, p)
				if err != nil {
					t.Fatal(err)
				}
				for _, row := range rows {
					if seen[row.Name] {
						t.Fatalf("by %s, %v: %s is seen twice", order, desc, row.Name)
					}
					seen[row.Name] = true
					if at, known := place[row.Name]; known {
						if at != last+1 {
							t.Fatalf("by %s, %v: the device at place %d comes after that at place %d", order, desc,
								at, last)
						}
						last = at
					}
				}
				if p.After = next; next == "" {
					break
				}
				add(1)
			}
			if last != len(there)-1 {
				t.Errorf("by %s, %v: %d of %d devices are seen", order, desc, last+1, len(there))
			}
		}
	}
	if _, _, err := s.Devices.Page(t.Context(), store.DeviceFilter{},
		store.Page{Most: 7, After: "nonsense"}); !errors.Is(err, store.ErrCursor) {
		t.Errorf("a cursor that is none: %v", err)
	}
}
