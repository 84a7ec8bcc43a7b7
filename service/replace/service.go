// Package replace has what people do with replacements: order, look at, approve, resume, revert and close them, one or
// many at a time, do the tasks that are left to people, and keep the pins that follow. The engine does the work.
//
// A newcomer reads replace.go first: Begin.
package replace

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/language/library"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/service/engine"
	"freshseal/service/monitor"
	"freshseal/store"
	"freshseal/strongbox"
)

const (
	stepGrace = 30 * time.Second // that the steps in hand have after a stop
	taskEvery = 4 * time.Second  // how often the wire is looked at for those who work by hand
)

// Audit records who did what.
type Audit interface {
	Record(ctx context.Context, who, what, about string) error
}

// Rooms are the other packages of the service, as far as this one needs them.
type Rooms struct {
	Monitor knowledge
	Fleet   families
	Signing signers
	Audit   Audit
}

// knowledge tells what is known of the fleet.
type knowledge interface {
	RulesFor(ctx context.Context, row store.Slot) (policy.Rules, error)
	Touches(ctx context.Context, row store.Slot, tags []string) (window.Times, error)
	Pools(ctx context.Context) (monitor.Pools, error)
	Follow(ctx context.Context, about string, after int64, take func(contract.Event) error, beat func() error,
		over func() (bool, error)) error
}

// families provide slots, and the procedures of their devices.
type families interface {
	SlotRow(ctx context.Context, device, name string) (store.Slot, error)
	Family(name string) (library.Source, error)
}

// signers sign requests.
type signers interface {
	Signer(ctx context.Context, name string) (contract.Signer, error)
	Signers(ctx context.Context) ([]contract.Signer, error)
	Parcel(ctx context.Context, id string) (contract.Parcel, error)
	Cautions(ctx context.Context, signer string, plan request.Plan) ([]string, error)
	JudgeNew(ctx context.Context, leaf *cert.Certificate, p monitor.Pools,
		r store.Replacement) (chain.Path, []finding.Finding, error)
}

// Service offers replacements to users. Its methods are safe for concurrent use.
type Service struct {
	*engine.Service
	store   Storage
	box     *strongbox.Box
	monitor knowledge
	fleet   families
	signing signers
	audit   Audit
	subject request.Subject
	log     *slog.Logger
	clock   func() time.Time

	Batches *Batches
	Tasks   *Tasks
	Pins    *Pins
	Exports *Exports

	running   sync.WaitGroup // batches and the watch over tasks
	stopping  context.Context
	proofLock sync.Mutex
}

// Batches are replacements of many slots at once. Tasks are what is left to people. Pins are those who must be told of
// a new certificate. Exports are the kept keys and files that are given to people.
type (
	Batches struct{ *Service }
	Tasks   struct{ *Service }
	Pins    struct{ *Service }
	Exports struct{ *Service }
)

// New returns a service that works until stopping ends; see Wait. Requests use subject for what the old certificate
// does not say.
func New(stopping context.Context, db Storage, box *strongbox.Box, work *engine.Service, rooms Rooms,
	subject request.Subject, log *slog.Logger, clock func() time.Time) *Service {
	s := &Service{Service: work, store: db, box: box, monitor: rooms.Monitor,
		fleet: rooms.Fleet, signing: rooms.Signing, audit: rooms.Audit, subject: subject, log: log, clock: clock,
		stopping: stopping}
	s.Batches, s.Tasks, s.Pins, s.Exports = &Batches{s}, &Tasks{s}, &Pins{s}, &Exports{s}
	return s
}

// Start continues the replacements and batches that were under way when the service last stopped, and watches the wire
// for those who work by hand.
func (s *Service) Start(ctx context.Context) error {
	if err := s.Service.Start(ctx); err != nil {
		return err
	}
	s.running.Go(s.Tasks.watch)
	return s.Batches.takeUp(ctx)
}

// Wait waits a limited time for the steps in hand to end.
func (s *Service) Wait() {
	s.running.Wait()
	s.Service.Wait()
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
