package service

import (
	"context"

	"freshseal/core/cert"
	"freshseal/core/pile"
)

// Anchors are the roots that the fleet's clients trust.
func (s *Service) Anchors(ctx context.Context) ([]cert.Facts, error) {
	roots, err := s.store.Anchors(ctx, Fleet)
	out := make([]cert.Facts, 0, len(roots))
	for _, c := range roots {
		out = append(out, c.Facts())
	}
	return out, err
}

// AddAnchors trusts every root in a file, and judges all slots anew. Anything
// else in the file is refused, since trust is given with open eyes.
func (s *Service) AddAnchors(ctx context.Context, content []byte) ([]cert.Facts, error) {
	accounts, err := pile.Sort([]pile.File{{Content: content}}, pile.Options{})
	if err != nil {
		return nil, invalid("no anchor was added", err.Error(), "give one root")
	}
	roots := pile.Certificates(accounts)
	if len(roots) == 0 {
		return nil, invalid("no anchor was added", "the file holds no certificate: "+accounts[0].Holds[0].Note, "give a root as PEM or DER")
	}
	var out []cert.Facts
	for _, c := range roots {
		if !c.SelfSigned() || c.Version == 3 && !c.IsAuthority() {
			return nil, invalid("no anchor was added", "“"+c.ShortName()+"” is not the root of an authority", "give the self-signed root; intermediates need no trust of their own")
		}
		out = append(out, c.Facts())
	}
	s.anchorLock.Lock()
	defer s.anchorLock.Unlock()
	if err := s.store.AddAnchors(ctx, Fleet, s.moment(), roots); err != nil {
		return nil, err
	}
	return out, s.judgeAgain(ctx)
}

// judgeAgain judges what every slot last served by today's anchors.
func (s *Service) judgeAgain(ctx context.Context) error {
	rows, err := s.store.Slots(ctx)
	if err != nil {
		return err
	}
	rules, err := s.policies(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if len(row.Chain.V) == 0 {
			continue
		}
		served, err := s.store.Certificates(ctx, row.Chain.V)
		if err != nil {
			return err
		}
		found, err := s.judge(ctx, served, row)
		if err != nil {
			return err
		}
		row.Findings.V = found
		stand(&row, rules.of(row))
		if err := s.store.SetJudgement(ctx, row, s.moment()); err != nil {
			return err
		}
	}
	return nil
}
