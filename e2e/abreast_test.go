package e2e

import (
	"sync"
	"testing"
)

// abreast runs subtests beside each other, a few at a time, from the moment they are given. Parallel subtests would
// wait until all other tests have begun, and be the last that run. Whoever makes one waits for it before the test
// returns.
type abreast struct {
	sync.WaitGroup
	t      *testing.T
	places chan struct{}
}

func newAbreast(t *testing.T, most int) *abreast {
	return &abreast{t: t, places: make(chan struct{}, most)}
}

func (a *abreast) run(name string, test func(t *testing.T)) {
	a.Go(func() {
		a.places <- struct{}{}
		defer func() { <-a.places }()
		a.t.Run(name, test)
	})
}
