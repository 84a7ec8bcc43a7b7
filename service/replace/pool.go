package replace

import "sync"

// mostDrivers is how many replacements are driven at once. Those that wait for a restart are among them; further ones
// wait in a list.
const mostDrivers = 1024

// pool runs at most so many functions at once; the others wait for their turn in the order in which they came. It is
// safe for use by several goroutines.
type pool struct {
	most int

	lock    sync.Mutex // guards what follows
	active  int
	waiting []func()
}

// start runs f in a goroutine of its own that all waits for, now or when one of the others has ended.
func (p *pool) start(all *sync.WaitGroup, f func()) {
	p.lock.Lock()
	defer p.lock.Unlock()
	if p.active >= p.most {
		p.waiting = append(p.waiting, f)
		return
	}
	p.active++
	all.Go(func() { p.run(f) })
}

// run runs f, and then those that wait, until none is left.
func (p *pool) run(f func()) {
	for f != nil {
		f()
		f = p.next()
	}
}

// next takes the first that waits; nil: none does.
func (p *pool) next() func() {
	p.lock.Lock()
	defer p.lock.Unlock()
	if len(p.waiting) == 0 {
		p.active--
		p.waiting = nil // what it grew to is given back
		return nil
	}
	f := p.waiting[0]
	p.waiting = p.waiting[1:]
	return f
}
