package engine

import "sync"

// mostDrivers is the maximum number of replacements driven at once, including those that wait for a restart. Further
// ones are queued.
const mostDrivers = 1024

// pool runs a bounded number of functions at once; further ones wait in the order in which they came. It is safe for
// concurrent use.
type pool struct {
	most int

	lock    sync.Mutex // guards what follows
	active  int
	waiting []func()
}

// start runs f in a goroutine that all waits for, now or when another function has ended.
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

// run runs f, then the queued functions until none is left.
func (p *pool) run(f func()) {
	for f != nil {
		f()
		f = p.next()
	}
}

// next removes and returns the first queued function, nil if there is none.
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
