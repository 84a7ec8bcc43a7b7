// Package signing holds the hand-off to signers: who they are, the parcels that go
// out to them, and the piles that come back.
package signing

import (
	"context"
	"crypto"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/strongbox"
)

// Replacements are told what arrived for them.
type Replacements interface {
	// Drive continues a replacement after its state has changed.
	Drive(id int64, action replacement.Action)
	// TakeKey gives a replacement that waits for its signer a key that was made elsewhere, in place of the one that
	// it asked with. why says why it cannot be given one; empty: it has it.
	TakeKey(ctx context.Context, id int64, key crypto.Signer, by string) (why string, err error)
	// SeekProofs opens a task for each domain that a signer wants proven.
	SeekProofs(ctx context.Context) error
}

// knowledge is what this package needs of what is known of the fleet.
type knowledge interface {
	Pools(ctx context.Context) (monitor.Pools, error)
	Trusting(ctx context.Context, p monitor.Pools) (monitor.Trusting, error)
	AddAnchors(ctx context.Context, group string, content []byte, known problem.Revision) ([]cert.Facts, error)
	RulesFor(ctx context.Context, row store.Slot) (policy.Rules, error)
	RulesOf(ctx context.Context, r store.Replacement) (policy.Rules, error)
	Forget()
}

// Service works with signers. Its methods are safe for concurrent use.
type Service struct {
	store        storage
	box          *strongbox.Box
	monitor      knowledge
	replacements Replacements
	bench        atomic.Pointer[signer.Bench]
	settingUp    sync.Mutex // the bench
	fetch        Fetcher
	log          *slog.Logger
	clock        func() time.Time

	Lab *Bench
}

// Bench is the built-in authority.
type Bench struct{ *Service }

// New returns the service; Open comes before anything else.
func New(db *store.Store, box *strongbox.Box, readings knowledge, fetch Fetcher, log *slog.Logger,
	clock func() time.Time) *Service {
	s := &Service{store: storageOf(db), box: box, monitor: readings, fetch: fetch, log: log, clock: clock}
	s.Lab = &Bench{s}
	return s
}

// Open opens the built-in authority, or creates it for an organization. told is notified of what comes back.
func (s *Service) Open(ctx context.Context, organization string, told Replacements) error {
	s.replacements = told
	return s.Lab.openBench(ctx, organization)
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
