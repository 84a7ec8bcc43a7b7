// Package monitor holds readings and what they mean: slots are read on the wire,
// judged by the policies and by the roots that trust groups trust, and judged again
// when one of these changes.
package monitor

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/judgement/judge"
	"freshseal/service/access"
	"freshseal/store"
	"freshseal/wire"
)

// Fleet is the trust group that every slot is judged for.
const Fleet = judge.Fleet

const (
	readLimit  = 8 * time.Second
	readAtOnce = 64
)

// Service reads and judges. Its methods are safe for concurrent use.
type Service struct {
	store  storage
	access *access.Service
	log    *slog.Logger
	clock  func() time.Time
	reader wire.Reader

	width     int           // how many slots are read at once in a sweep
	readEvery time.Duration // where the policy says nothing; 0: slots are read only when asked

	stopping context.Context
	running  sync.WaitGroup

	defaults  atomic.Pointer[discovery.Defaults] // nil: those that come with the program
	published Published                          // nil: nobody is asked about revocation

	knowledge  knowledge
	tally      tally
	judging    judging
	sweeps     sweeps
	anchorLock sync.Mutex
	expected   sync.Map     // slot id → []string: leaves that a replacement under way may show there
	waited     atomic.Int64 // when somebody last waited for an answer of the service; nanoseconds since 1970

	Trust   *Trust
	Surveys *Surveys
	Sweeps  *Sweeps
	Rules   *Policies

	revocation *revocations
	reading    *reader
	rejudging  *rejudging
	closely    *closeReader
}

// The parts of the service, each in the files named after what it does.
type (
	Trust       struct{ *Service } // trust groups and their anchors, and known intermediates
	Sweeps      struct{ *Service } // reading the whole fleet or a part of it when asked
	Policies    struct{ *Service } // the rules of fleet, sites and devices
	Surveys     struct{ *Service } // what other rooms ask of what is known
	revocations struct{ *Service } // asking about revocation
	reader      struct{ *Service } // reading what is due
	rejudging   struct{ *Service } // judging many again after a change
	closeReader struct{ *Service } // the closer look of once a day
)

// attended is how long a round pauses for users who just waited for an answer: they may want the next page.
const attended = 300 * time.Millisecond

// SomebodyWaits records that a user waits for an answer of the service, so that rounds of readings pause.
func (s *Service) SomebodyWaits() { s.waited.Store(time.Now().UnixNano()) }

func (s *Service) busy() bool { return time.Since(time.Unix(0, s.waited.Load())) < attended }

// Ask makes authorities be asked about revocation, if the policy wants it.
func (s *Service) Ask(published Published) { s.published = published }

// New returns the service; it works in the background until stopping ends, see Wait.
func New(stopping context.Context, db *store.Store, ways *access.Service, dial access.Dial, log *slog.Logger,
	clock func() time.Time) *Service {
	s := &Service{width: readAtOnce, store: storageOf(db), access: ways, log: log, clock: clock, stopping: stopping,
		reader: wire.Reader{Dial: dial, Now: clock, Limit: readLimit}}
	s.Trust, s.Surveys, s.Sweeps, s.Rules = &Trust{s}, &Surveys{s}, &Sweeps{s}, &Policies{s}
	s.revocation, s.reading, s.rejudging, s.closely = &revocations{s}, &reader{s}, &rejudging{s}, &closeReader{s}
	s.reader.Busy = s.busy
	ways.OnTimes(s.rejudging.judgeAgain)
	return s
}

// keepEvents is how long events stay in the outbox.
const keepEvents = 180 * 24 * time.Hour

// Start removes old events, and reads every slot at this interval where the policy says nothing
// else; 0: slots are read only when asked.
func (s *Service) Start(readEvery time.Duration) {
	s.running.Go(func() {
		if err := s.store.Outbox.Forget(s.stopping, store.At(s.now().Add(-keepEvents))); err != nil &&
			s.stopping.Err() == nil {
			s.log.Warn("removing old events", "error", err)
		}
	})
	turner := &turner{Service: s}
	turner.turn() // before anybody sees a list
	s.running.Go(turner.run)
	if s.readEvery = readEvery; readEvery > 0 {
		s.running.Go(s.reading.schedule)
		s.running.Go(s.revocation.askAround)
	}
}

// Wait waits for the work in the background.
func (s *Service) Wait() { s.running.Wait() }

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
