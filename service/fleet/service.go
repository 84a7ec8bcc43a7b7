// Package fleet holds the use cases for devices and their slots, and the
// families by which they are worked on.
package fleet

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"freshseal/service/access"
	"freshseal/service/monitor"
	"freshseal/store"
	"freshseal/strongbox"
)

// Service keeps the inventory. Its methods are safe for concurrent use.
type Service struct {
	store    storage
	box      *strongbox.Box
	access   *access.Service
	monitor  *monitor.Service
	log      *slog.Logger
	clock    func() time.Time
	families families
	stopping context.Context
	running  sync.WaitGroup

	Discoveries *Discoveries
	Inventory   *Inventory
	Lists       *Lists
}

// Discoveries look at networks and adopt what they find. Inventory is the fleet as a file, and edits of many devices at
// once. Lists are the lists, searches and calendars of slots and devices.
type (
	Discoveries struct{ *Service }
	Inventory   struct{ *Service }
	Lists       struct{ *Service }
)

// New returns the service with the families of a folder beside the built-in ones;
// it works in the background until stopping ends, see Wait.
func New(stopping context.Context, db *store.Store, box *strongbox.Box, ways *access.Service,
	readings *monitor.Service, folder string, log *slog.Logger, clock func() time.Time) *Service {
	s := &Service{store: storageOf(db), box: box, access: ways, monitor: readings, log: log, clock: clock,
		stopping: stopping}
	s.Discoveries, s.Inventory, s.Lists = &Discoveries{s}, &Inventory{s}, &Lists{s}
	s.openFamilies(folder)
	return s
}

// Start reads the folder of procedures again when it changes, and goes on with a discovery.
func (s *Service) Start(ctx context.Context) error {
	s.running.Go(s.watchFamilies)
	return s.Discoveries.resumeDiscovery(ctx)
}

// Wait waits for the work in the background.
func (s *Service) Wait() { s.running.Wait() }

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
