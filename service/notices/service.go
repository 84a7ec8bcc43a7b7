// Package notices tells people of slots that need them: channels, rules, notices and their queue.
//
//	events and time → evaluate → notices → pack → messages → send
//
// Each arrow is one change of the database, so the process may die between any two: what was made is
// sent, and nothing is made twice. What was sent when the process died is sent once more under the same id.
package notices

import (
	"context"
	"log/slog"
	"net"
	"sync"
	"time"

	"freshseal/notify"
	"freshseal/store"
	"freshseal/strongbox"
)

// Service tells people. Its methods are safe for concurrent use.
type Service struct {
	Stream Stream

	store  storage
	box    *strongbox.Box
	sender notify.Sender
	log    *slog.Logger
	clock  func() time.Time
	every  time.Duration

	expiring Expiring // nil: nobody knows what else expires

	url      string // of the console
	urlLock  sync.Mutex
	served   chan struct{} // closed once that is known
	wake     chan struct{} // a rule or a channel changed
	stopping context.Context
	running  sync.WaitGroup
}

// usualEvery is how often time alone is looked at.
const usualEvery = time.Minute

// New returns the service; it works in the background until stopping ends, see Wait. name is what the service is
// called in messages.
func New(stopping context.Context, db *store.Store, box *strongbox.Box,
	dial func(ctx context.Context, network, address string) (net.Conn, error), name string, log *slog.Logger,
	clock func() time.Time) *Service {
	s := &Service{store: storageOf(db), box: box, log: log, clock: clock, every: usualEvery, stopping: stopping,
		wake: make(chan struct{}, 1), served: make(chan struct{}),
		sender: notify.Sender{Dial: dial, Now: clock, Name: name}}
	s.Stream = Stream{s}
	return s
}

// Start begins to tell.
func (s *Service) Start() {
	s.running.Go(s.evaluateAlways)
	s.running.Go(s.deliverAlways)
	s.running.Go(s.streamAlways)
}

// Wait waits for the work in the background.
func (s *Service) Wait() { s.running.Wait() }

// At sets where the console is, which messages name.
func (s *Service) At(url string) {
	s.urlLock.Lock()
	defer s.urlLock.Unlock()
	if s.url == "" && url != "" {
		close(s.served)
	}
	s.url = url
}

func (s *Service) console() string {
	s.urlLock.Lock()
	defer s.urlLock.Unlock()
	return s.url
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }

// changed has the rules looked at again at once.
func (s *Service) changed() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}
