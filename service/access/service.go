// Package access holds the ways to devices: sites with their jump hosts and
// proxies, credentials, pinned host keys, and how many links may be open at once.
package access

import (
	"context"
	"net"
	"net/netip"
	"time"

	"freshseal/secretsource"
	"freshseal/store"
	"freshseal/strongbox"
)

// workAtOnce is how many devices are worked on at once.
const workAtOnce = 32

// Dial opens a connection; a net.Dialer has it as DialContext.
type Dial = func(ctx context.Context, network, address string) (net.Conn, error)

// Service opens the ways to devices. Its methods are safe for concurrent use.
type Service struct {
	store  storage
	box    *strongbox.Box
	dial   Dial
	clock  func() time.Time
	ways   ways
	gates  gates
	sites  sites
	places chan struct{} // bounds how many devices are worked on at once

	sources   Sources                // of secrets that are kept elsewhere
	forbidden func(netip.Addr) error // why no connection goes to an address; nil: all may

	timesChanged func(context.Context) error // called when windows or holidays of a site changed

	Sites  *Sites
	Trials *Trials
}

// Sites are the places that devices stand at, with the ways in. Trials try how a device is reached.
type (
	Sites  struct{ *Service }
	Trials struct{ *Service }
)

// Forbid has no connection go to the addresses that refuses names, through jump hosts and proxies too. The dial
// function that New is given must keep to it as well.
func (s *Service) Forbid(refuses func(netip.Addr) error) { s.forbidden = refuses }

// Sources asks for secrets where they are kept.
type Sources interface {
	Get(ctx context.Context, s secretsource.Source, asked secretsource.Asked) (secretsource.Secrets, error)
}

// AskFor sets where the secrets are asked for that are not kept here.
func (s *Service) AskFor(sources Sources) { s.sources = sources }

// OnTimes has f called when the windows or the holidays of a site changed.
func (s *Service) OnTimes(f func(context.Context) error) { s.timesChanged = f }

// New returns the service.
func New(db *store.Store, box *strongbox.Box, dial Dial, clock func() time.Time) *Service {
	s := &Service{store: storageOf(db), box: box, dial: dial, clock: clock, places: make(chan struct{}, workAtOnce),
		sources: secretsource.Places{},
		timesChanged: func(context.Context) error {
			return nil
		}}
	s.Sites, s.Trials = &Sites{s}, &Trials{s}
	return s
}

// Close closes the connections to jump hosts.
func (s *Service) Close() { s.ways.closeAll() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
