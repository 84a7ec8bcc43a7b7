package monitor

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshseal/core/judgement/judge"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/store"
)

const (
	askEvery     = 10 * time.Minute // how often it is looked who must be asked about
	soonestAsk   = time.Hour        // before a certificate is asked about again
	latestAsk    = 12 * time.Hour
	mostAsked    = 500 // certificates in one round
	mostRemember = 30 * 24 * time.Hour
)

// Published gets what authorities say of revocation; see wire.Published.
type Published interface {
	Ask(ctx context.Context, url string, request []byte, most int64) ([]byte, error)
	List(ctx context.Context, url string, most int64) ([]byte, error)
}

// inUse is a certificate that some slot serves, with its issuer.
type inUse struct{ sha256, issuer string }

// AskRevocation asks about the certificates that slots serve, where the policy wants it and what was
// said before is getting old. Slots are judged anew where something changed.
func (s *Service) AskRevocation(ctx context.Context) error {
	if s.published == nil {
		return nil
	}
	wanted, err := s.toAsk(ctx)
	if err != nil || len(wanted) == 0 {
		return err
	}
	known, err := s.store.Readings.Revocations(ctx)
	if err != nil {
		return err
	}
	before := make(map[string]store.Revocation, len(known))
	for _, r := range known {
		before[r.SHA256] = r
	}
	lists, asked, changed := map[string]listed{}, 0, false
	for one := range wanted {
		old, was := before[one.sha256]
		if was && s.now().Before(old.NextAt.Time) {
			continue
		}
		if asked++; asked > mostAsked || ctx.Err() != nil {
			break
		}
		now, err := s.ask(ctx, one, lists)
		if err != nil {
			return err
		}
		if now == nil {
			continue
		}
		if err := s.store.Readings.SetRevocation(ctx, *now); err != nil {
			return err
		}
		changed = changed || bad(*now) != bad(old) || was && old.Answer.V.Status != now.Answer.V.Status
	}
	if changed {
		return s.judgeAgain(ctx)
	}
	return s.store.Readings.ForgetRevocations(ctx, store.At(s.now().Add(-mostRemember)))
}

// askAround asks about revocation until the service is stopped.
func (s *Service) askAround() {
	asks := time.NewTicker(min(askEvery, max(s.readEvery, time.Second)))
	defer asks.Stop()
	for {
		select {
		case <-asks.C:
		case <-s.stopping.Done():
			return
		}
		if err := s.AskRevocation(s.stopping); err != nil && s.stopping.Err() == nil {
			s.log.Error("asking about revocation", "error", err)
		}
	}
}

// bad says that something is kept which is a finding.
func bad(r store.Revocation) bool {
	return r.Failed != "" || r.Answer.V.Status != "" && r.Answer.V.Status != revocation.Good
}

// toAsk are the certificates of the paths of all slots whose rules want it, roots aside.
func (s *Service) toAsk(ctx context.Context) (map[inUse]bool, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	any := false
	for _, rules := range snapshot.Scopes {
		any = any || policy.Is(rules.Revocation)
	}
	if !any {
		return nil, nil
	}
	out := map[inUse]bool{}
	for last := int64(0); ; {
		rows, err := s.store.Slots.After(ctx, last, slotsAtOnce)
		if err != nil || len(rows) == 0 {
			return out, err
		}
		for _, row := range rows {
			last = row.ID
			if !policy.Is(snapshot.Rules(placeOf(row)).Revocation) {
				continue
			}
			for i, sha256 := range row.Path.V[:max(len(row.Path.V)-1, 0)] {
				out[inUse{sha256, row.Path.V[i+1]}] = true
			}
		}
	}
}

// listed is a revocation list that was fetched in this round, or why it could not be.
type listed struct {
	list *revocation.List
	err  error
}

// ask finds out about one certificate: from its responders, then from its lists. Nil: it names none.
func (s *Service) ask(ctx context.Context, one inUse, lists map[string]listed) (*store.Revocation, error) {
	both, err := s.store.Chains.Certificates(ctx, []string{one.sha256, one.issuer})
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil // an issuer that was removed in the meantime
	}
	if err != nil {
		return nil, err
	}
	c, issuer := both[0], both[1]
	from := revocation.SourcesOf(c)
	if from.None() {
		return nil, nil
	}
	out := store.Revocation{SHA256: one.sha256, CheckedAt: s.moment(), NextAt: store.At(s.now().Add(soonestAsk))}
	var failed error
	found := func(url string, a revocation.Statement, err error) bool {
		if err != nil {
			failed = errors.Join(failed, err)
			return false
		}
		out.Source, out.Answer.V = url, a
		out.NextAt = store.At(soonerOf(a.Until, s.now()))
		return a.Status != revocation.Unknown
	}
	for _, url := range from.Responders {
		a, err := s.askResponder(ctx, url, c, issuer)
		if found(url, a, err) {
			return &out, nil
		}
	}
	for _, url := range from.Lists {
		l := s.fetchList(ctx, url, issuer, lists)
		var a revocation.Statement
		if l.err == nil {
			a = l.list.Of(c)
		}
		if found(url, a, l.err) {
			return &out, nil
		}
	}
	if out.Source == "" && failed != nil {
		out.Failed = strings.ReplaceAll(failed.Error(), "\n", "; ")
	}
	return &out, nil
}

// soonerOf is when a certificate is asked about again whose answer counts until then.
func soonerOf(until, now time.Time) time.Time {
	next := now.Add(latestAsk)
	if !until.IsZero() && until.Before(next) {
		next = until
	}
	if earliest := now.Add(soonestAsk); next.Before(earliest) {
		next = earliest
	}
	return next
}

func (s *Service) askResponder(ctx context.Context, url string, c,
	issuer *cert.Certificate) (revocation.Statement, error) {
	request, err := revocation.Request(c, issuer)
	if err != nil {
		return revocation.Statement{}, err
	}
	said, err := s.published.Ask(ctx, url, request, revocation.MaxResponse)
	if err != nil {
		return revocation.Statement{}, err
	}
	a, err := revocation.Response(said, c, issuer, s.now())
	if err != nil {
		err = fmt.Errorf("%s: %w", url, err)
	}
	return a, err
}

func (s *Service) fetchList(ctx context.Context, url string, issuer *cert.Certificate, lists map[string]listed) listed {
	key := url + " " + issuer.SHA256
	l, had := lists[key]
	if had {
		return l
	}
	said, err := s.published.List(ctx, url, revocation.MaxList)
	if err == nil {
		if l.list, err = revocation.ReadList(said, issuer, s.now()); err != nil {
			err = fmt.Errorf("%s: %w", url, err)
		}
	}
	l.err = err
	lists[key] = l
	return l
}

// revocations are those that a snapshot knows: what is bad.
func (s *Service) revocations(ctx context.Context) (map[string]judge.Revocation, error) {
	rows, err := s.store.Readings.Revocations(ctx)
	out := map[string]judge.Revocation{}
	for _, r := range rows {
		if bad(r) {
			out[r.SHA256] = judge.Revocation{Statement: r.Answer.V, Source: r.Source, Failed: r.Failed}
		}
	}
	return out, err
}
