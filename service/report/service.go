// Package report says how the fleet is and what is to come: counts for the overview and for monitoring systems, the
// forecast of replacements, what expires when, and sheets for people. It reads and changes nothing.
package report

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/library"
	"freshseal/store"
)

// What this package needs of the others.
type (
	readings interface {
		Tally() contract.Tally
		Judging() *contract.Judging
		RulesFor(ctx context.Context, row store.Slot) (policy.Rules, error)
		Policies(ctx context.Context) ([]contract.Policy, error)
	}
	signers interface {
		Signers(ctx context.Context) ([]contract.Signer, error)
		LateParcels(ctx context.Context) ([]contract.Parcel, error)
	}
	families interface {
		Procedure(name string) (library.Source, error)
	}
)

// Service is the room. Its methods are safe for concurrent use.
type Service struct {
	store   storage
	monitor readings
	signing signers
	fleet   families
	clock   func() time.Time
}

// New returns the service.
func New(db *store.Store, readings readings, signers signers, families families, clock func() time.Time) *Service {
	return &Service{store: storageOf(db), monitor: readings, signing: signers, fleet: families, clock: clock}
}

func (s *Service) now() time.Time { return s.clock().UTC() }

func (s *Service) moment() store.Moment { return store.At(s.clock()) }
