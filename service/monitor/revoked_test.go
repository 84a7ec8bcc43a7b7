package monitor

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/revocation"
	"freshseal/core/testkit"
	"freshseal/store"
	"freshseal/store/chains"
)

// silence are responders that never answer, but the good one.
type silence struct {
	now, most, asked atomic.Int32
}

func (s *silence) Ask(ctx context.Context, url string, _ []byte, _ int64) ([]byte, error) {
	s.asked.Add(1)
	now := s.now.Add(1)
	defer s.now.Add(-1)
	for most := s.most.Load(); now > most && !s.most.CompareAndSwap(most, now); most = s.most.Load() {
	}
	select {
	case <-time.After(5 * time.Second): // as wire.Published gives up
		return nil, fmt.Errorf("%s: no answer", url)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (s *silence) List(context.Context, string, int64) ([]byte, error) {
	s.asked.Add(1)
	return nil, errors.New("no list")
}

// recorded is where the answers are recorded.
type recorded struct {
	chainsStore
	lock sync.Mutex
	rows map[string]chains.Revocation
}

func (k *recorded) SetRevocation(_ context.Context, r chains.Revocation) error {
	k.lock.Lock()
	defer k.lock.Unlock()
	k.rows[r.SHA256] = r
	return nil
}

func (k *recorded) Certificates(_ context.Context, fingerprints []string) ([]*cert.Certificate, error) {
	return nil, errors.New("not asked for")
}

// A certificate that names a thousand silent responders is asked about at three of them and three lists, within its
// time and beside others; the round ends, and says of each certificate what it found.
func TestSilentRespondersDelayNobody(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	many := make([]string, 1000)
	for i := range many {
		many[i] = fmt.Sprintf("http://198.51.100.%d/%d", i%250, i)
	}
	var questions []question
	for i := range 40 {
		leaf := root.Leaf(t, fmt.Sprint("gate-", i), func(c *x509.Certificate) {
			c.OCSPServer, c.CRLDistributionPoints = many, many
		})
		q := question{c: leaf.Certificate, issuer: root.Certificate, from: revocation.SourcesOf(leaf.Certificate)}
		q.from.Responders, q.from.Lists = q.from.Responders[:mostSources], q.from.Lists[:mostSources]
		questions = append(questions, q)
	}
	synctest.Test(t, func(t *testing.T) {
		said := &silence{}
		book := &recorded{rows: map[string]chains.Revocation{}}
		s := &Service{store: storage{Chains: book}, clock: time.Now, published: said}
		begun := time.Now()
		changed, err := (&revocations{s}).askAll(t.Context(), questions, nil)
		if took := time.Since(begun); err != nil || !changed ||
			took > time.Duration(len(questions)/askedAtOnce+1)*askLimit {
			t.Errorf("%v, %v, after %s", changed, err, took)
		}
		if most := said.most.Load(); most < 2 || most > askedAtOnce {
			t.Errorf("%d were asked at once", most)
		}
		if n := said.asked.Load(); int(n) > len(questions)*2*mostSources {
			t.Errorf("%d calls for %d certificates", n, len(questions))
		}
		for _, r := range book.rows {
			if !strings.Contains(r.Failed, "no list") {
				t.Errorf("%+v", r)
			}
		}
		if len(book.rows) != len(questions) {
			t.Errorf("%d of %d are recorded", len(book.rows), len(questions))
		}

		// What the round has no time for is not recorded: it is asked in a later one.
		book.rows = map[string]chains.Revocation{}
		var all []question
		for range 25 {
			all = append(all, questions...)
		}
		if _, err := (&revocations{s}).askAll(t.Context(), all, nil); err != nil {
			t.Error(err)
		}
		if took := time.Since(begun); took > 2*roundLimit {
			t.Errorf("the round took %s", took)
		}
	})
}

// Only some of a certificate's addresses are asked, and only about what is old.
func TestFewAddressesAreAsked(t *testing.T) {
	s := room(t, &clock{now: testkit.Now}, nil)
	root := testkit.Root(t, "Quay Root")
	many := func(c *x509.Certificate) {
		for i := range 1000 {
			c.OCSPServer = append(c.OCSPServer, fmt.Sprintf("http://198.51.100.1/%d", i))
			c.CRLDistributionPoints = append(c.CRLDistributionPoints, fmt.Sprintf("http://198.51.100.2/%d", i))
		}
	}
	leaf, fresh, silent := root.Leaf(t, "a", many), root.Leaf(t, "b", many), root.Leaf(t, "c")
	if err := s.store.Chains.(chains.Chains).AddAuthorities(t.Context(), []*cert.Certificate{root.Certificate,
		leaf.Certificate, fresh.Certificate, silent.Certificate}); err != nil {
		t.Fatal(err)
	}
	wanted := map[inUse]bool{{leaf.SHA256, root.SHA256}: true, {fresh.SHA256, root.SHA256}: true,
		{silent.SHA256, root.SHA256}: true, {"00", root.SHA256}: true}
	got, err := s.revocation.questions(t.Context(), wanted, map[string]chains.Revocation{
		fresh.SHA256: {NextAt: store.At(testkit.Now.Add(time.Hour))}, leaf.SHA256: {NextAt: store.At(testkit.Now)}})
	if err != nil || len(got) != 1 || got[0].c.SHA256 != leaf.SHA256 || len(got[0].from.Responders) != mostSources ||
		len(got[0].from.Lists) != mostSources {
		t.Errorf("%d questions, %v", len(got), err)
	}
}
