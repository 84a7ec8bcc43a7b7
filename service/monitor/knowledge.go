package monitor

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/terminal/visible"
	"freshseal/store"
	"freshseal/wire"
)

// knowledge holds the snapshot by which readings are judged. It is rebuilt when its sources change, not for each
// reading.
type knowledge struct {
	lock    sync.Mutex
	now     *judge.Snapshot
	version int64
	current atomic.Int64 // the version of now; 0: it is made again when next needed
	judged  sync.Map     // slot id → verdict
}

// verdict identifies what a slot's reading was judged by: if nothing of it changed, it need not be judged again.
type verdict struct {
	reading string
	version int64
	until   time.Time
}

// Forget discards the snapshot; it is rebuilt when next needed.
func (s *Service) Forget() {
	s.knowledge.lock.Lock()
	defer s.knowledge.lock.Unlock()
	s.knowledge.now = nil
	s.knowledge.current.Store(0)
}

// snapshot returns what is known of the fleet now.
func (s *Service) snapshot(ctx context.Context) (*judge.Snapshot, error) {
	k := &s.knowledge
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.now != nil {
		return k.now, nil
	}
	roots, err := s.store.Chains.Anchors(ctx, Fleet)
	if err != nil {
		return nil, err
	}
	middle, err := s.store.Chains.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	scopes, err := s.store.Policies.List(ctx)
	if err != nil {
		return nil, err
	}
	signers, err := s.store.Signers.List(ctx)
	if err != nil {
		return nil, err
	}
	revocations, err := s.revocation.revocations(ctx)
	if err != nil {
		return nil, err
	}
	times, err := s.access.Times(ctx)
	if err != nil {
		return nil, err
	}
	groups := map[string]*chain.Pool{}
	counts, err := s.store.Chains.CountAnchors(ctx)
	if err != nil {
		return nil, err
	}
	for name := range counts {
		held, err := s.store.Chains.Anchors(ctx, name)
		if err != nil {
			return nil, err
		}
		groups[name] = chain.NewPool(held...)
	}
	k.version++
	k.now = &judge.Snapshot{Version: k.version, Revocations: revocations, Defaults: s.Surveys.Defaults(), Sites: times,
		Anchors: chain.NewPool(roots...), TrustGroups: groups, Authorities: chain.NewPool(middle...), Scopes: scopes,
		Turnaround: map[string]int{}}
	for _, each := range signers {
		k.now.Turnaround[each.Name] = each.TurnaroundDays
	}
	k.current.Store(k.version)
	return k.now, nil
}

// judgedSlot returns what a judgement must know of a slot. look is what a closer look showed just now.
func judgedSlot(s *Service, ctx context.Context, row store.Slot, look *wire.Closer) (judge.Slot, error) {
	out := judge.Slot{Place: placeOf(row), ServerName: row.ServerName, Installed: row.Installed, Others: row.Others.V,
		Version: row.Version, Remarks: row.Remarks.V, Closer: row.Closer.V, TrustGroups: row.TrustGroups.V,
		ClientUse: row.ClientUse, OverEAP: wire.Protocol(row.Protocol).OverEAP()}
	if look != nil {
		out.Second = look.Second // not kept yet
		return out, nil
	}
	var err error
	if out.Closer != nil && len(out.Closer.Second) > 0 {
		out.Second, err = s.store.Chains.Certificates(ctx, out.Closer.Second)
	}
	return out, err
}

func placeOf(row store.Slot) judge.Place {
	return judge.Place{Site: row.Site, Device: row.Device, Signer: row.Signer}
}

// holds reports whether the last judgement of what a slot served is still valid.
func (k *knowledge) holds(slot int64, at time.Time) bool {
	known, ok := k.judged.Load(slot)
	v, _ := known.(verdict)
	return ok && v.version == k.current.Load() && (v.until.IsZero() || at.Before(v.until))
}

// keyOf returns equal texts for readings with equal contents.
func keyOf(row store.SlotToRead, r Sight) string {
	var b strings.Builder
	for _, c := range r.Chain {
		b.WriteString(c.SHA256)
	}
	if r.Same {
		for _, sha256 := range row.Chain.V {
			b.WriteString(sha256)
		}
	}
	b.WriteString("\x00" + r.Version + "\x00" + r.Suite)
	for _, f := range r.Remarks {
		b.WriteString("\x00" + string(f.Code) + "\x00" + f.What)
	}
	if r.Why != nil {
		b.WriteString("\x00" + r.Why.Code + "\x00" + r.Why.What)
	}
	for _, o := range r.Others {
		b.WriteString("\x00" + o.String() + "\x00" + o.SHA256)
		if o.Failure != nil {
			b.WriteString("\x00" + o.Failure.Code + "\x00" + o.Failure.What)
		}
	}
	return b.String()
}

// recorder stores readings with their judgements, many in one change. A reading equal to the one before is not judged,
// and nothing is looked up for it.
type recorder struct {
	s     *Service
	seen  []store.Seen
	fresh []kept
}

// kept is a reading that differs from the one before.
type kept struct {
	id     int64
	key    string
	sight  Sight
	next   store.Moment
	misses int
}

const mostKept = 200

// take stores one reading.
func (r *recorder) take(ctx context.Context, row store.SlotToRead, sight Sight) error {
	outcome := "new"
	if sight.Why != nil {
		outcome = "unreachable"
	}
	defer func() { r.s.tally.count(outcome, sight.Took) }()
	if sight.Why != nil && r.s.access.Away(ctx, row.Site, sight.At) {
		return nil // a ship at sea: what it served last still counts
	}
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	key := keyOf(row, sight)
	next, misses := r.s.reading.again(snapshot, row, sight)
	known, ok := r.s.knowledge.judged.Load(row.ID)
	if v, _ := known.(verdict); sight.Closer == nil && ok && v.version == snapshot.Version && v.reading == key &&
		(v.until.IsZero() || sight.At.Before(v.until)) {
		if outcome == "new" {
			outcome = "unchanged"
		}
		r.seen = append(r.seen, store.Seen{Slot: row.ID, At: store.At(sight.At), Next: next, Misses: misses})
	} else {
		if sight.Same { // and judged again in the meantime
			if sight.Chain, err = r.s.store.Chains.Certificates(ctx, row.Chain.V); err != nil {
				return err
			}
			sight.Same = false
		}
		r.fresh = append(r.fresh, kept{row.ID, key, sight, next, misses})
	}
	if len(r.seen)+len(r.fresh) >= mostKept {
		return r.flush(ctx)
	}
	return nil
}

// flush writes what is not written yet.
func (r *recorder) flush(ctx context.Context) error {
	seen, fresh := r.seen, r.fresh
	r.seen, r.fresh = nil, nil
	if len(seen) > 0 {
		if err := r.s.store.Readings.TouchAll(ctx, seen); err != nil {
			return err
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	ids := make([]int64, len(fresh))
	for i, one := range fresh {
		ids[i] = one.id
	}
	rows, err := r.s.store.Slots.ByID(ctx, ids)
	if err != nil {
		return err
	}
	byID := make(map[int64]store.Slot, len(rows))
	for _, row := range rows {
		byID[row.ID] = row
	}
	var readings []store.NewReading
	var marks []verdict
	for _, one := range fresh {
		row, there := byID[one.id]
		if !there {
			continue // removed while it was read
		}
		r.s.closely.looked(&row, one.sight)
		until, err := r.s.judge(ctx, snapshot, &row, one.sight)
		if err != nil {
			return err
		}
		row.NextAt, row.Misses = one.next, one.misses
		readings, marks = append(readings, store.NewReading{Slot: row, Served: served(one.sight)}),
			append(marks, verdict{one.key, snapshot.Version, until})
	}
	late, err := r.s.store.Readings.Add(ctx, readings)
	if err != nil {
		return fmt.Errorf("keeping readings: %w", err)
	}
	for i, one := range readings {
		if !slices.Contains(late, i) {
			r.s.knowledge.judged.Store(one.ID, marks[i])
		}
	}
	for _, i := range late {
		if err := r.again(ctx, readings[i]); err != nil {
			return err
		}
	}
	return nil
}

// served returns all certificates of a reading.
func served(sight Sight) []*cert.Certificate {
	if sight.Closer == nil {
		return sight.Chain
	}
	return append(slices.Clone(sight.Chain), sight.Closer.Second...)
}

// again stores a reading of a slot on which something was installed while it was read. A reading that is older than the
// stored one, or of a removed slot, is dropped.
func (r *recorder) again(ctx context.Context, one store.NewReading) error {
	row, err := r.s.store.Slots.Get(ctx, one.Device, one.Name)
	if errors.Is(err, store.ErrNotFound) || err == nil && (row.ID != one.ID || one.ReadAt.Before(row.ReadAt.Time)) {
		return nil
	}
	if err != nil {
		return err
	}
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	reading := Sight{wire.Reading{At: one.ReadAt.Time, Chain: one.Served, Version: one.Version, Suite: one.Suite,
		Remarks: one.Remarks.V, Why: one.Failure.V}, one.Others.V}
	if _, err := r.s.judge(ctx, snapshot, &row, reading); err != nil {
		return err
	}
	_, err = r.s.store.Readings.Add(ctx, []store.NewReading{{Slot: row, Served: one.Served}})
	return err
}

// record stores a single reading.
func (s *Service) record(ctx context.Context, row store.Slot, reading Sight) error {
	row, err := s.store.Slots.Get(ctx, row.Device, row.Name)
	if err != nil {
		return fmt.Errorf("keeping the reading: %w", err)
	}
	r := recorder{s: s}
	if err := r.take(ctx, row.ToRead(), reading); err != nil {
		return err
	}
	return r.flush(ctx)
}

// judge fills in a slot with a reading and its judgement, and returns until when that is valid.
func (s *Service) judge(ctx context.Context, snapshot *judge.Snapshot, row *store.Slot,
	reading Sight) (until time.Time, err error) {
	row.ReadAt, row.Version, row.Suite, row.Remarks.V = store.At(reading.At), reading.Version, reading.Suite,
		append([]finding.Finding{}, reading.Remarks...)
	notAfter := row.NotAfter
	row.Chain.V, row.Failure.V, row.Others.V = []string{}, reading.Why, reading.Others
	row.Subject, row.Issuer, row.KeyType, row.Signature, row.SearchText = "", "", "", "", ""
	row.SelfSigned, row.NotBefore, row.NotAfter = false, store.Moment{}, store.Moment{}
	about, err := judgedSlot(s, ctx, *row, reading.Closer)
	if err != nil {
		return until, err
	}
	var judged judge.Judgement
	if reading.Why != nil {
		judged = snapshot.Unreachable(*reading.Why, about)
	} else {
		leaf := reading.Leaf()
		row.Subject, row.SearchText = leaf.ShortName(), searchText(leaf)
		row.Issuer, row.KeyType, row.Signature = leaf.IssuerName(), leaf.Key(), leaf.SignatureText()
		row.SelfSigned, row.NotBefore, row.NotAfter = leaf.SelfSigned(), store.At(leaf.NotBefore),
			store.At(leaf.NotAfter)
		for _, c := range reading.Chain {
			row.Chain.V = append(row.Chain.V, c.SHA256)
		}
		judged = snapshot.Judge(reading.Chain, about, s.now())
	}
	if s.applyJudgement(row, judged) && len(row.Chain.V) == 0 {
		row.NotAfter = notAfter // it restarts, and has not expired
	}
	return judged.Until, nil
}

// maxSearchText is how many bytes of a certificate's names are searched.
const maxSearchText = 4000

// searchText returns the words of a leaf by which its slot is found, each once.
func searchText(leaf *cert.Certificate) string {
	text := strings.ToLower(visible.Line(leaf.Subject()))
	for _, word := range append([]string{leaf.Serial(), leaf.SHA1()}, leaf.Names()...) {
		if len(text) > maxSearchText {
			break
		}
		if word = strings.ToLower(visible.Line(word)); !strings.Contains(text, word) {
			text += " " + word
		}
	}
	return text[:min(len(text), maxSearchText)]
}

// applyJudgement writes a judgement into a slot's row. It reports whether a replacement that is under way expects
// what the slot serves: its condition then stays as it was.
func (s *Service) applyJudgement(row *store.Slot, j judge.Judgement) (expected bool) {
	served := ""
	if len(row.Chain.V) > 0 {
		served = row.Chain.V[0]
	}
	if expected = row.Base != due.Unreachable && s.expects(row.ID, served); expected {
		j.State = due.State{Base: row.Base, Overdue: row.OverdueFrom.Time, Due: row.DueFrom.Time}
	}
	row.Findings.V, row.Above.V = j.Findings, append([]string{}, j.Path[min(1, len(j.Path)):]...)
	row.Base, row.OverdueFrom, row.DueFrom = j.State.Base, store.At(j.State.Overdue), store.At(j.State.Due)
	return expected
}
