package monitor

import (
	"context"
	"iter"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/service/access"
	"freshseal/wire"
)

// Survey reads addresses that are in no inventory, many at once, within that limit for each. Nothing is
// kept of it.
func (s *Surveys) Survey(ctx context.Context, targets iter.Seq[wire.Target], many wire.Many, limit time.Duration,
	take func(wire.Numbered, wire.Reading)) {
	reader := s.reader
	reader.Limit = limit
	reader.ReadAll(ctx, targets, many, take)
}

// Way returns how the devices of a site are dialled; those of no site directly.
func (s *Surveys) Way(site string) wire.Dial { return wire.Dial(s.access.Way(site)) }

// Gate counts the links into sites that only read.
func (s *Surveys) Gate() wire.Gate { return access.Readings{Service: s.access} }

// Defaults returns the rules by which factory certificates are recognized.
func (s *Surveys) Defaults() discovery.Defaults {
	if d := s.defaults.Load(); d != nil {
		return *d
	}
	return discovery.Builtin
}

// Know sets further rules by which factory certificates are recognized, and judges the slots again.
func (s *Surveys) Know(ctx context.Context, more discovery.Defaults) error {
	all := append(append(discovery.Defaults{}, more...), discovery.Builtin...)
	s.defaults.Store(&all)
	return s.rejudging.judgeAgain(ctx)
}
