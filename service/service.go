// Package service holds the use cases of Fresh Seal: it joins core, which
// computes, to the world of devices, signers and the database. It knows neither
// HTTP nor SQL.
//
// This folder opens the data folder and wires the rooms; the use cases are in
// them. Imports between rooms point one way:
//
//	replace → signing, fleet → monitor → access      people      notices      report
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"freshseal/core/judgement/notice"
	"freshseal/core/naming"
	"freshseal/core/pki/request"
	"freshseal/secretsource"
	"freshseal/service/access"
	"freshseal/service/engine"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/notices"
	"freshseal/service/own"
	"freshseal/service/people"
	"freshseal/service/problem"
	"freshseal/service/replace"
	"freshseal/service/report"
	"freshseal/service/signing"
	"freshseal/store"
	"freshseal/strongbox"
)

// Options are what a service is made of. Only Dir is needed.
type Options struct {
	Dir          string // everything that outlives the process
	Name         string // what clients call the service; empty: the machine's name
	Organization string // stands in what bench signs
	Dial         access.Dial
	Forbidden    func(netip.Addr) error // why no connection goes to an address; Dial keeps to it as well; nil: all may
	Now          func() time.Time
	Log          *slog.Logger
	ReadEvery    time.Duration       // how often the whole fleet is read; 0: only when asked
	Fetch        signing.Fetcher     // gets issuers that a chain lacks; nil: they must come with a pile
	Published    monitor.Published   // asked about revocation; nil: nobody is
	Resolver     engine.Resolver     // asked where names lead; nil: nobody is asked
	Sources      secretsource.Places // where secrets are asked for that are kept elsewhere
	Procedures   string              // a folder with procedures beside the built-in ones; empty: none
	Subject      request.Subject     // what requests say where the old certificate says nothing
}

// Service is the running service: its rooms, which share one data folder.
type Service struct {
	Access  *access.Service
	Monitor *monitor.Service
	Fleet   *fleet.Service
	Signing *signing.Service
	Replace *replace.Service
	Own     *own.Service
	Report  *report.Service
	People  *people.Service
	Notices *notices.Service

	options Options
	store   *store.Store
	started time.Time
	held    *os.File // the lock on the folder
	stop    context.CancelFunc
	ready   struct { // what Ready found last
		lock sync.Mutex // guards the rest
		at   time.Time
		err  error
	}
}

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
		return nil, errors.Join(err, held.Close())
	}
	s.held = held
	return s, nil
}

// keyMissing reports that a folder has a database and no key: a new one would open none of its secrets.
func keyMissing(dir string) error {
	_, noKey := os.Stat(filepath.Join(dir, "strongbox.key"))
	if info, err := os.Stat(filepath.Join(dir, "freshseal.db")); err != nil || info.Size() == 0 ||
		!errors.Is(noKey, fs.ErrNotExist) {
		return nil
	}
	return problem.New(problem.Conflict, "the service does not start", "the data folder has a database and no "+
		"strongbox.key, without which none of its secrets can be opened", "put the copy of strongbox.key back "+
		"that you "+
		"keep apart; or, to start over, give an empty data folder")
}

func open(ctx context.Context, o Options) (*Service, error) {
	if err := keyMissing(o.Dir); err != nil {
		return nil, err
	}
	box, err := strongbox.Open(filepath.Join(o.Dir, "strongbox.key"))
	if err != nil {
		return nil, err
	}
	db, err := store.Open(ctx, filepath.Join(o.Dir, "freshseal.db"))
	if errors.Is(err, store.ErrNewer) {
		return nil, problem.New(problem.Conflict, "the service does not start", err.Error(),
			"start the version that wrote it, or restore a copy of the database that this version made")
	}
	if err != nil {
		return nil, err
	}
	db.KeyAudit(box.Key("audit"))
	stopping, stop := context.WithCancel(context.Background())
	s := &Service{options: o, store: db, started: o.Now().UTC(), stop: stop}
	s.People = people.New(db, box, o.Dir, o.Log, o.Now)
	s.Access = access.New(db, box, o.Dial, o.Now)
	s.Access.Forbid(o.Forbidden)
	s.Access.AskFor(o.Sources)
	s.Monitor = monitor.New(stopping, db, s.Access, o.Dial, o.Log, o.Now)
	s.Monitor.Ask(o.Published)
	if err := s.Monitor.ExpectAll(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s.Fleet = fleet.New(stopping, db, box, s.Access, s.Monitor, o.Procedures, o.Log, o.Now)
	s.Signing = signing.New(db, box, s.Monitor, o.Fetch, o.Log, o.Now)
	s.Notices = notices.New(stopping, db, box, o.Dial, o.Name, o.Log, o.Now)
	s.Own = own.New(db, box, o.Now)
	work := engine.New(stopping, engine.StorageOf(db), box, engine.Rooms{Access: s.Access, Monitor: s.Monitor,
		Fleet:   s.Fleet,
		Signing: s.Signing, Own: s.Own.For}, o.Resolver, o.Log, o.Now)
	s.Replace = replace.New(stopping, replace.StorageOf(db), box, work, replace.Rooms{Monitor: s.Monitor,
		Fleet: s.Fleet, Signing: s.Signing, Audit: s.People}, o.Subject, o.Log, o.Now)
	s.Report = report.New(db, s.Monitor.Rules, s.Signing, s.Fleet, o.Now)
	s.Notices.Ask(s.expiring)
	s.People.Start(stopping)
	if err := s.start(ctx); err != nil {
		s.wait()
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// expiring returns what people are reported besides slots. Whoever signed in with the client signs in again, and need
// not be told.
func (s *Service) expiring(ctx context.Context, within int) ([]notice.Thing, error) {
	found, err := s.Report.Expiring(ctx, within, true)
	var out []notice.Thing
	for _, e := range found {
		if e.Kind == report.EndsToken && e.Name == report.SignedIn {
			continue
		}
		out = append(out, notice.Thing{Kind: e.Kind, Name: e.Name, Of: e.Of, SHA256: e.SHA256, Ends: e.EndsAt,
			Slots: e.Slots, Remedy: e.Remedy})
	}
	return out, err
}

func (s *Service) start(ctx context.Context) error {
	if err := errors.Join(s.Signing.Open(ctx, s.options.Organization, s.Replace), s.People.FirstUser(ctx),
		s.Own.Open(ctx, s.options.Name)); err != nil {
		return err
	}
	if err := s.Replace.Start(ctx); err != nil {
		return err
	}
	if err := s.Fleet.Start(ctx); err != nil {
		return err
	}
	s.Monitor.Start(s.options.ReadEvery)
	s.Notices.Start()
	return nil
}

// wait ends the work in the background, those who begin it first.
func (s *Service) wait() {
	s.stop()
	s.Notices.Wait()
	s.People.Wait()
	s.Replace.Wait()
	s.Fleet.Wait()
	s.Monitor.Wait()
	s.Access.Close()
}

// Close lets the steps in hand come to their end, for at most half a minute, and
// closes the database. What was under way is taken up by the next Open.
func (s *Service) Close() error {
	s.wait()
	return errors.Join(s.store.Close(), s.held.Close())
}

// ListItself lists the service as a device at the address where it listens.
func (s *Service) ListItself(ctx context.Context, at net.Addr) error {
	return s.Fleet.ListItself(ctx, s.options.Name, at)
}

func hostName() string {
	if host, err := os.Hostname(); err == nil {
		if host = strings.ToLower(host); naming.Device(host) && request.IsName(host) {
			return host
		}
	}
	return "localhost"
}
