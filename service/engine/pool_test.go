package engine

import (
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// However many replacements run, so many are driven at once; none is forgotten, also where one asks for another, and
// the goroutines end.
func TestDriversAreBounded(t *testing.T) {
	before := runtime.NumGoroutine()
	p := pool{most: 8}
	var all sync.WaitGroup
	var now, highest, done atomic.Int64
	for range 2 {
		done.Store(0)
		for range 500 {
			p.start(&all, func() {
				for n := now.Add(1); ; {
					if seen := highest.Load(); n <= seen || highest.CompareAndSwap(seen, n) {
						break
					}
				}
				time.Sleep(100 * time.Microsecond)
				now.Add(-1)
				done.Add(1)
				p.start(&all, func() { done.Add(1) })
			})
		}
		if n := runtime.NumGoroutine(); n > before+p.most {
			t.Errorf("%d goroutines for %d places", n-before, p.most)
		}
		all.Wait()
		if done.Load() != 1000 || highest.Load() > 8 || p.active != 0 {
			t.Errorf("%d of 1000 were done, %d at once, %d are left", done.Load(), highest.Load(), p.active)
		}
	}
}
