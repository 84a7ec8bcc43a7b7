// Package service holds the use cases of Fresh Seal: it joins core, which
// computes, to the world of devices, signers and the database. It knows neither
// HTTP nor SQL.
//
// A newcomer reads replace.go first: Begin, then drive, which carries a
// replacement from stage to stage.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/judge"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/strongbox"
	"freshseal/wire"
)

// Fleet is the audience that every slot is judged for.
const Fleet = judge.Fleet

// Options are what a service is made of. Only Dir is needed.
type Options struct {
	Dir          string // everything that outlives the process
	Name         string // what clients call the service; empty: the machine's name
	Organization string // stands in what bench signs
	Dial         func(ctx context.Context, network, address string) (net.Conn, error)
	Now          func() time.Time
	Log          *slog.Logger
	ReadEvery    time.Duration   // how often the whole fleet is read; 0: only when asked
	Fetch        Fetcher         // gets issuers that a chain lacks; nil: they must come with a pile
	Resolver     Resolver        // asked where names lead; nil: nobody is asked
	Procedures   string          // a folder with procedures beside the built-in ones; empty: none
	Subject      request.Subject // what requests say where the old certificate says nothing
}

// Service is the running service. Its methods are safe for use by several
// goroutines at once.
type Service struct {
	options    Options
	store      *store.Store
	box        *strongbox.Box
	bench      *signer.Bench
	reader     wire.Reader
	families   families
	knowledge  knowledge
	judging    judging
	made       sync.Map // replacement id → *procedure.Made
	watchers   watchers
	tries      tries
	ways       ways
	gates      gates
	started    time.Time
	serving    atomic.Pointer[tls.Certificate] // the service's own
	ownLock    sync.Mutex                      // one act on it at a time
	held       *os.File                        // the lock on the folder
	anchorLock sync.Mutex
	proofLock  sync.Mutex

	running  sync.WaitGroup // the drivers of replacements and background work
	stopping context.Context
	stop     context.CancelFunc
	hard     context.Context // ends the steps that are under way, some time after stopping
	cut      context.CancelFunc
	places   chan struct{} // bounds how many devices are worked on at once
	driven   sync.Map      // replacement id → struct{}, those that have a driver
}

const (
	readLimit   = 8 * time.Second
	readAtOnce  = 64
	workAtOnce  = 32
	stepGrace   = 30 * time.Second
	taskEvery   = 4 * time.Second // how often the wire is looked at for those who work by hand
	firstSignIn = "first-sign-in.txt"
)

// Open opens the folder, makes what is missing in it and takes up the
// replacements that were under way when the service last stopped.
func Open(ctx context.Context, o Options) (*Service, error) {
	if o.Dial == nil {
		o.Dial = (&net.Dialer{}).DialContext
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Name == "" {
		o.Name = hostName()
	}
	if o.Organization == "" {
		o.Organization = "Fresh Seal"
	}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the data folder: %w", err)
	}
	held, err := lock(o.Dir)
	if err != nil {
		return nil, err
	}
	s, err := open(ctx, o)
	if err != nil {
		held.Close()
		return nil, err
	}
	s.held = held
	return s, nil
}

func open(ctx context.Context, o Options) (*Service, error) {
	box, err := strongbox.Open(filepath.Join(o.Dir, "strongbox.key"))
	if err != nil {
		return nil, err
	}
	db, err := store.Open(ctx, filepath.Join(o.Dir, "freshseal.db"))
	if err != nil {
		return nil, err
	}
	s := &Service{
		started: o.Now().UTC(), options: o, store: db, box: box,
		reader: wire.Reader{Dial: o.Dial, Now: o.Now, Limit: readLimit},
		places: make(chan struct{}, workAtOnce),
	}
	s.openFamilies(o.Procedures)
	s.stopping, s.stop = context.WithCancel(context.Background())
	s.hard, s.cut = context.WithCancel(context.Background())
	if err := errors.Join(s.openBench(ctx), s.firstUser(ctx), s.openOwn(ctx)); err != nil {
		db.Close()
		return nil, err
	}
	if err := s.takeUp(ctx); err != nil {
		db.Close()
		return nil, err
	}
	s.running.Go(s.watchTasks)
	s.running.Go(s.watchFamilies)
	if o.ReadEvery > 0 {
		s.running.Go(func() { s.readAgain(o.ReadEvery) })
	}
	return s, nil
}

// Close lets the steps in hand come to their end, for at most stepGrace, and
// closes the database. What was under way is taken up by the next Open.
func (s *Service) Close() error {
	s.stop()
	defer time.AfterFunc(stepGrace, s.cut).Stop()
	s.running.Wait()
	s.cut()
	s.ways.closeAll()
	return errors.Join(s.store.Close(), s.held.Close())
}

func (s *Service) now() time.Time { return s.options.Now().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.options.Now()) }

// openBench opens the bench authority, or makes it and trusts its root.
func (s *Service) openBench(ctx context.Context) error {
	const purpose = "signer/bench"
	sealed, err := s.store.Secret(ctx, purpose)
	switch {
	case err == nil:
		material, err := s.box.Open(purpose, sealed)
		if err != nil {
			return err
		}
		s.bench, err = signer.OpenBench(material)
		return err
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	if s.bench, err = signer.NewBench(s.options.Organization, s.now()); err != nil {
		return err
	}
	material, err := s.bench.Marshal()
	if err != nil {
		return err
	}
	if _, err := s.AddAnchors(ctx, Fleet, s.bench.Root().PEM()); err != nil {
		return err
	}
	return s.store.PutSecret(ctx, purpose, s.box.Seal(purpose, material))
}

// takeUp goes on with the replacements that were running when the service last
// stopped.
func (s *Service) takeUp(ctx context.Context) error {
	running, err := s.store.ReplacementsIn(ctx, replacement.Running)
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
