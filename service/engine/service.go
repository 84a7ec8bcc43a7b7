// Package engine does the work of replacements: it drives each from stage to stage, works on devices through the
// runner, journals every step, and goes on after a restart where it was.
//
// A newcomer reads drive.go first, which advances a replacement, then visit.go: one stretch of work on a device.
package engine

import (
	"context"
	"log/slog"
	"net"
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
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/https"
	"freshseal/device/ssh"
	"freshseal/service/access"
	"freshseal/service/monitor"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/strongbox"
)

const (
	stepGrace = 30 * time.Second       // that the steps in hand have after a stop
	lookEvery = 400 * time.Millisecond // between two looks at the wire that wait for a restart
	gateEvery = 2 * time.Second        // how often it is looked whether a device may be touched by now
)

// Rooms are the other packages of the service, as far as the engine needs them.
type Rooms struct {
	Access  reach
	Monitor knowledge
	Fleet   families
	Signing signers
	Own     func(replacementID int64, plan request.Plan) device.Own // acts on the service's own certificate

	// Test replacements for the code that runs steps, and for the pause between two readings.
	Hands   func(*Job, device.Journal) Runner
	Between time.Duration
}

// reach connects to devices.
type reach interface {
	SSH(ctx context.Context, d store.Device) (ssh.Target, error)
	Config(ctx context.Context, d store.Device) (ssh.Target, error)
	Web(ctx context.Context, d store.Device) (https.Target, error)
	Way(site string) func(ctx context.Context, network, address string) (net.Conn, error)
	Take(ctx context.Context, p *access.Place, site string) error
}

// knowledge tells what slots serve and what is known of the fleet.
type knowledge interface {
	Read(ctx context.Context, slot store.Slot) (monitor.Sight, error)
	ReadAs(ctx context.Context, slot store.Slot, kind cert.KeyKind) (monitor.Sight, error)
	ReadCloser(ctx context.Context, slot store.Slot) (monitor.Sight, error)
	Leaf(ctx context.Context, site, address, name string) (string, error)
	RulesFor(ctx context.Context, row store.Slot) (policy.Rules, error)
	Touches(ctx context.Context, row store.Slot, tags []string) (window.Times, error)
	Version(ctx context.Context) (int64, error)
	Pools(ctx context.Context) (monitor.Pools, error)
	Trusting(ctx context.Context, p monitor.Pools) (monitor.Trusting, error)
	Expect(ctx context.Context, r store.Replacement, targets []store.Target) error
	Unexpect(slots []int64)
	JudgeSlots(ctx context.Context, rows []store.Slot) error
	Forget()
}

// families provide the procedures of devices and their settings.
type families interface {
	Family(name string) (library.Source, error)
	Procedure(name string) (library.Source, error)
	OpenSettings(ctx context.Context, d store.Device) (map[string]string, error)
}

// signers sign requests and judge the answers.
type signers interface {
	Signer(ctx context.Context, name string) (contract.Signer, error)
	Named(ctx context.Context, name string) (signer.Signer, error)
	JudgeNew(ctx context.Context, leaf *cert.Certificate, p monitor.Pools,
		r store.Replacement) (chain.Path, []finding.Finding, error)
}

// base is shared by all parts of the engine.
type base struct {
	store    Storage
	box      *strongbox.Box
	access   reach
	monitor  knowledge
	fleet    families
	signing  signers
	resolver Resolver
	log      *slog.Logger
	clock    func() time.Time
	between  time.Duration // between two looks at the wire that wait for a restart
}

func (b *base) now() time.Time { return b.clock().UTC() }

func (b *base) moment() store.Moment { return store.At(b.clock()) }

// The parts of the engine, each in the files named after what it does.
type (
	keys  struct{ *base } // private keys, and what steps captured
	wires struct{ *base } // what slots serve, compared with what they served before
	gates struct{ *base } // whether a device may be touched
	ways  struct{ *base } // how the links to a job's device are opened
	jobs  struct {        // what is needed to work on a device
		*base
		keys
		ways
		Made sync.Map // replacement id → *procedure.Made
	}
)

// Service drives replacements. Its methods are safe for concurrent use.
type Service struct {
	*base
	jobs
	wires
	gates

	own      func(replacementID int64, plan request.Plan) device.Own
	open     func(context.Context, *visit) (Runner, error) // what works on a device; tests have others
	running  sync.WaitGroup                                // the drivers of replacements and background work
	stopping context.Context
	hard     context.Context // ends the steps that are under way, some time after stopping
	cut      context.CancelFunc
	drivers  pool
	driven   sync.Map // replacement id → struct{}, those that have a driver
	busy     sync.Map // device id → *sync.Mutex, of those that are worked on
}

// New returns an engine that works until stopping ends; see Wait. Planned names are looked up with resolver, nil for no
// lookups.
func New(stopping context.Context, db Storage, box *strongbox.Box, rooms Rooms, resolver Resolver, log *slog.Logger,
	clock func() time.Time) *Service {
	b := &base{store: db, box: box, access: rooms.Access, monitor: rooms.Monitor, fleet: rooms.Fleet,
		signing: rooms.Signing, resolver: resolver, log: log, clock: clock, between: rooms.Between}
	if b.between == 0 {
		b.between = lookEvery
	}
	s := &Service{base: b, wires: wires{b}, gates: gates{b}, own: rooms.Own, stopping: stopping,
		drivers: pool{most: mostDrivers}}
	s.jobs.base, s.jobs.keys, s.jobs.ways, s.open = b, keys{b}, ways{b}, s.onDevice
	if rooms.Hands != nil {
		s.open = func(_ context.Context, w *visit) (Runner, error) { return rooms.Hands(w.j, w.journal), nil }
	}
	s.hard, s.cut = context.WithCancel(context.Background())
	return s
}

// Start continues the replacements that were under way when the service last stopped, and starts the watchers of gates
// and of data kept for another try.
func (s *Service) Start(ctx context.Context) error {
	if err := s.takeUp(ctx); err != nil {
		return err
	}
	s.running.Go(s.watchKept)
	s.running.Go(s.watchGates)
	return nil
}

// Wait waits at most stepGrace for the steps in hand to end.
func (s *Service) Wait() {
	defer time.AfterFunc(stepGrace, s.cut).Stop()
	s.running.Wait()
	s.cut()
}

// takeUp continues the replacements that were running when the service last stopped.
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
