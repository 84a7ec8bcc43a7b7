// Package replace holds replacements: it drives each from stage to stage, works on
// devices through the runner, and keeps the tasks that are left to people.
//
// A newcomer reads replace.go first: Begin, then drive.go, which carries a
// replacement on.
package replace

import (
	"context"
	"crypto/tls"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/access"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/signing"
	"freshseal/store"
	"freshseal/strongbox"
)

const (
	stepGrace = 30 * time.Second // that the steps in hand have after a stop
	taskEvery = 4 * time.Second  // how often the wire is looked at for those who work by hand
	gateEvery = 2 * time.Second  // how often it is looked whether a device may be touched by now
)

// Audit keeps who did what.
type Audit interface {
	Record(ctx context.Context, who, what, about string) error
}

// Rooms are the other rooms of the service.
type Rooms struct {
	Access  *access.Service
	Monitor *monitor.Service
	Fleet   *fleet.Service
	Signing *signing.Service
	Audit   Audit
}

// Terms say how requests are planned.
type Terms struct {
	Resolver Resolver        // asked where names lead; nil: nobody is asked
	Subject  request.Subject // what requests say where the old certificate says nothing
}

// Service works on devices. Its methods are safe for concurrent use.
type Service struct {
	store    storage
	box      *strongbox.Box
	access   *access.Service
	monitor  *monitor.Service
	fleet    *fleet.Service
	signing  *signing.Service
	audit    Audit
	resolver Resolver
	subject  request.Subject
	log      *slog.Logger
	clock    func() time.Time

	running  sync.WaitGroup // the drivers of replacements and background work
	stopping context.Context
	hard     context.Context // ends the steps that are under way, some time after stopping
	cut      context.CancelFunc
	drivers  pool
	driven   sync.Map // replacement id → struct{}, those that have a driver
	made     sync.Map // replacement id → *procedure.Made
	busy     sync.Map // device id → *sync.Mutex, of those that are worked on

	serving   atomic.Pointer[tls.Certificate] // the service's own
	ownLock   sync.Mutex                      // one act on it at a time
	proofLock sync.Mutex
}

// New returns the room; it works until stopping ends, see Wait.
func New(stopping context.Context, db *store.Store, box *strongbox.Box, rooms Rooms, t Terms, log *slog.Logger,
	clock func() time.Time) *Service {
	s := &Service{store: storageOf(db), box: box, access: rooms.Access, monitor: rooms.Monitor, fleet: rooms.Fleet,
		signing: rooms.Signing, audit: rooms.Audit,
		resolver: t.Resolver, subject: t.Subject, log: log, clock: clock, stopping: stopping,
		drivers: pool{most: mostDrivers}}
	s.hard, s.cut = context.WithCancel(context.Background())
	return s
}

// Start takes up the replacements that were under way when the service last
// stopped, and looks after those who work by hand.
func (s *Service) Start(ctx context.Context) error {
	if err := s.takeUp(ctx); err != nil {
		return err
	}
	s.running.Go(s.watchTasks)
	s.running.Go(s.watchKept)
	s.running.Go(s.watchGates)
	return s.takeUpBatches(ctx)
}

// Wait lets the steps in hand come to their end, for at most stepGrace.
func (s *Service) Wait() {
	defer time.AfterFunc(stepGrace, s.cut).Stop()
	s.running.Wait()
	s.cut()
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }

// takeUp goes on with the replacements that were running when the service last
// stopped.
func (s *Service) takeUp(ctx context.Context) error {
	running, err := s.store.Replacements.In(ctx, replacement.Running)
	if err != nil {
		return err
	}
	for _, r := range running {
		if err := s.takeUpOne(ctx, r); err != nil {
			return err
		}
	}
	return nil
}
