package monitor

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"freshseal/core/judgement/judge"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/store"
	"freshseal/store/chains"
)

const (
	askEvery     = 10 * time.Minute // how often it is looked who must be asked about
	soonestAsk   = time.Hour        // before a certificate is asked about again
	latestAsk    = 12 * time.Hour
	mostAsked    = 500 // certificates in one round
	askedAtOnce  = 8
	mostSources  = 3                // addresses of each kind that are asked about one certificate
	askLimit     = 12 * time.Second // for the responders of one certificate together
	listsLimit   = time.Minute      // for its lists together
	roundLimit   = 8 * time.Minute  // for all: what is left is asked in a later round
	listsAtOnce  = 2                // in memory, of up to revocation.MaxList bytes
	mostRemember = 30 * 24 * time.Hour
)

// Published gets what authorities say of revocation; see wire.Published.
type Published interface {
	Ask(ctx context.Context, url string, request []byte, most int64) ([]byte, error)
	List(ctx context.Context, url string, most int64) ([]byte, error)
}

// inUse is a certificate that some slot serves, with its issuer.
type inUse struct{ sha256, issuer string }

// AskRevocation asks about the certificates that slots serve, if the policy wants it and the last answer is getting
// old. Slots are judged again if something changed.
func (s *revocations) AskRevocation(ctx context.Context) error {
	if s.published == nil {
		return nil
	}
	wanted, err := s.toAsk(ctx)
	if err != nil || len(wanted) == 0 {
		return err
	}
	known, err := s.store.Chains.Revocations(ctx)
	if err != nil {
		return err
	}
	before := make(map[string]chains.Revocation, len(known))
	for _, r := range known {
		before[r.SHA256] = r
	}
	questions, err := s.questions(ctx, wanted, before)
	if err != nil {
		return err
	}
	changed, err := s.askAll(ctx, questions, before)
	if err != nil {
		return err
	}
	if changed {
		return s.rejudging.judgeAgain(ctx)
	}
	return s.store.Chains.ForgetRevocations(ctx, store.At(s.now().Add(-mostRemember)))
}

// question is one certificate to ask about.
type question struct {
	c, issuer *cert.Certificate
	from      revocation.Sources
}

// questions returns the certificates to ask about in this round: those that name an address and have no newer answer.
func (s *revocations) questions(ctx context.Context, wanted map[inUse]bool,
	before map[string]chains.Revocation) ([]question, error) {
	var out []question
	for one := range wanted {
		if old, was := before[one.sha256]; was && s.now().Before(old.NextAt.Time) {
			continue
		}
		both, err := s.store.Chains.Certificates(ctx, []string{one.sha256, one.issuer})
		if errors.Is(err, store.ErrNotFound) {
			continue // an issuer that was removed in the meantime
		}
		if err != nil {
			return nil, err
		}
		q := question{c: both[0], issuer: both[1], from: revocation.SourcesOf(both[0])}
		if q.from.None() {
			continue
		}
		q.from.Responders = q.from.Responders[:min(mostSources, len(q.from.Responders))]
		q.from.Lists = q.from.Lists[:min(mostSources, len(q.from.Lists))]
		if out = append(out, q); len(out) == mostAsked {
			break
		}
	}
	return out, nil
}

// askAll asks several questions at once, and records the answers. It reports whether one of them changes what is known.
func (s *revocations) askAll(ctx context.Context, questions []question,
	before map[string]chains.Revocation) (changed bool, err error) {
	all := &inquiry{about: map[string][]*cert.Certificate{}, lists: map[string]*listed{},
		reading: make(chan struct{}, listsAtOnce)}
	for _, q := range questions {
		all.about[q.issuer.SHA256] = append(all.about[q.issuer.SHA256], q.c)
	}
	inTime, end := context.WithTimeout(ctx, roundLimit)
	defer end()
	ask := make(chan question)
	var lock sync.Mutex // guards changed and err
	var asking sync.WaitGroup
	for range min(askedAtOnce, len(questions)) {
		asking.Go(func() {
			for q := range ask {
				now := s.ask(inTime, q, all)
				if inTime.Err() != nil {
					continue // it is asked in a later round
				}
				failed := s.store.Chains.SetRevocation(ctx, now)
				old, was := before[now.SHA256]
				lock.Lock()
				changed = changed || bad(now) != bad(old) || was && old.Answer.V.Status != now.Answer.V.Status
				err = cmp.Or(err, failed)
				lock.Unlock()
			}
		})
	}
	for _, q := range questions {
		ask <- q
	}
	close(ask)
	asking.Wait()
	return changed, cmp.Or(err, ctx.Err())
}

// askAround asks about revocation until the service stops.
func (s *revocations) askAround() {
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

// bad reports whether a stored answer is a finding.
func bad(r chains.Revocation) bool {
	return r.Failed != "" || r.Answer.V.Status != "" && r.Answer.V.Status != revocation.Good
}

// toAsk returns the certificates of the paths of all slots whose rules want it, without roots.
func (s *revocations) toAsk(ctx context.Context) (map[inUse]bool, error) {
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
			path := row.Path()
			for i, sha256 := range path[:max(len(path)-1, 0)] {
				out[inUse{sha256, path[i+1]}] = true
			}
		}
	}
}

// inquiry is shared by the questions of one round.
type inquiry struct {
	about   map[string][]*cert.Certificate // the certificates that are asked about, by the SHA-256 of their issuer
	reading chan struct{}                  // holds a place for each list in memory

	lock  sync.Mutex // guards lists
	lists map[string]*listed
}

// listed is a revocation list fetched in this round, or why it could not be fetched.
type listed struct {
	once sync.Once
	list *revocation.List
	err  error
}

// ask asks about one certificate: its responders first, then its lists. Each kind has its own time limit.
func (s *revocations) ask(ctx context.Context, q question, r *inquiry) chains.Revocation {
	out := chains.Revocation{SHA256: q.c.SHA256, CheckedAt: s.moment(), NextAt: store.At(s.now().Add(soonestAsk))}
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
	until := s.now().Add(askLimit + listsLimit)
	asking, done := context.WithTimeout(ctx, askLimit)
	defer done()
	for _, url := range q.from.Responders {
		a, err := s.askResponder(asking, url, q.c, q.issuer)
		if found(url, a, err) {
			return out
		}
	}
	for _, url := range q.from.Lists {
		if s.now().After(until) {
			break // a list that others want as well is not given up halfway, so it is looked at between them
		}
		l := s.fetchList(ctx, url, q.issuer, r)
		var a revocation.Statement
		if l.err == nil {
			a = l.list.Of(q.c)
		}
		if found(url, a, l.err) {
			return out
		}
	}
	if out.Source == "" && failed != nil {
		out.Failed = strings.ReplaceAll(failed.Error(), "\n", "; ")
	}
	return out
}

// soonerOf returns when to ask again about a certificate whose answer is valid until then.
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

func (s *revocations) askResponder(ctx context.Context, url string, c,
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

// fetchList fetches a list once in a round, for all certificates of its issuer; only a few lists are in memory at a
// time.
func (s *revocations) fetchList(ctx context.Context, url string, issuer *cert.Certificate, r *inquiry) *listed {
	key := url + " " + issuer.SHA256
	r.lock.Lock()
	l := r.lists[key]
	if l == nil {
		l = &listed{}
		r.lists[key] = l
	}
	r.lock.Unlock()
	l.once.Do(func() {
		r.reading <- struct{}{}
		defer func() { <-r.reading }()
		said, err := s.published.List(ctx, url, revocation.MaxList)
		if err == nil {
			if l.list, err = revocation.ReadList(said, issuer, s.now(), r.about[issuer.SHA256]...); err != nil {
				err = fmt.Errorf("%s: %w", url, err)
			}
		}
		l.err = err
	})
	return l
}

// revocations returns the bad answers that a snapshot knows.
func (s *revocations) revocations(ctx context.Context) (map[string]judge.Revocation, error) {
	rows, err := s.store.Chains.Revocations(ctx)
	out := map[string]judge.Revocation{}
	for _, r := range rows {
		if bad(r) {
			out[r.SHA256] = judge.Revocation{Statement: r.Answer.V, Source: r.Source, Failed: r.Failed}
		}
	}
	return out, err
}
