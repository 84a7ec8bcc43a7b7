package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"freshseal/core/cert"
	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/judge"
	"freshseal/core/visible"
	"freshseal/store"
	"freshseal/wire"
)

// knowledge holds the snapshot by which readings are judged. It is made anew when
// something of it changes, and not for each reading.
type knowledge struct {
	lock    sync.Mutex
	now     *judge.Snapshot
	version int64
	judged  sync.Map // slot id → verdict
}

// verdict says by what a slot's reading was judged: where nothing of it changed,
// it need not be judged again.
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
}

// snapshot is what is known of the fleet now.
func (s *Service) snapshot(ctx context.Context) (*judge.Snapshot, error) {
	k := &s.knowledge
	k.lock.Lock()
	defer k.lock.Unlock()
	if k.now != nil {
		return k.now, nil
	}
	roots, err := s.store.Anchors(ctx, Fleet)
	if err != nil {
		return nil, err
	}
	middle, err := s.store.Authorities(ctx)
	if err != nil {
		return nil, err
	}
	scopes, err := s.store.Policies(ctx)
	if err != nil {
		return nil, err
	}
	signers, err := s.store.Signers(ctx)
	if err != nil {
		return nil, err
	}
	k.version++
	k.now = &judge.Snapshot{Version: k.version, Anchors: chain.NewPool(roots...), Authorities: chain.NewPool(middle...), Scopes: scopes, Turnaround: map[string]int{}}
	for _, each := range signers {
		k.now.Turnaround[each.Name] = each.TurnaroundDays
	}
	return k.now, nil
}

// judgedSlot is what a judgement must know of a slot.
func judgedSlot(row store.Slot) judge.Slot {
	return judge.Slot{Place: placeOf(row), ServerName: row.ServerName, Installed: row.Installed, Others: row.Others.V, Version: row.Version, Remarks: row.Remarks.V}
}

func placeOf(row store.Slot) judge.Place {
	return judge.Place{Site: row.Site, Device: row.Device, Signer: row.Signer}
}

// keyOf is equal for readings that say the same.
func keyOf(r Sight) string {
	var b strings.Builder
	for _, c := range r.Chain {
		b.WriteString(c.SHA256)
	}
	fmt.Fprint(&b, "\x00", r.Version, "\x00", r.Suite)
	for _, f := range r.Remarks {
		fmt.Fprint(&b, "\x00", f.Code, "\x00", f.What)
	}
	if r.Why != nil {
		fmt.Fprint(&b, "\x00", r.Why.Code, "\x00", r.Why.What)
	}
	for _, o := range r.Others {
		fmt.Fprint(&b, "\x00", o, "\x00", o.SHA256)
		if o.Failure != nil {
			fmt.Fprint(&b, "\x00", o.Failure.Code, "\x00", o.Failure.What)
		}
	}
	return b.String()
}

// recorder keeps readings with their judgement, many in one change. Those that say
// what the one before said are not judged, and nothing is looked up for them.
type recorder struct {
	s     *Service
	seen  []store.Seen
	fresh []store.NewReading
	marks []verdict // of fresh
}

const mostKept = 200

// take keeps one reading.
func (r *recorder) take(ctx context.Context, row store.Slot, reading Sight) error {
	snapshot, err := r.s.snapshot(ctx)
	if err != nil {
		return err
	}
	key := keyOf(reading)
	known, ok := r.s.knowledge.judged.Load(row.ID)
	if v, _ := known.(verdict); ok && !row.ReadAt.IsZero() && v.version == snapshot.Version && v.reading == key && (v.until.IsZero() || reading.At.Before(v.until)) {
		r.seen = append(r.seen, store.Seen{Slot: row.ID, At: store.At(reading.At)})
	} else {
		until := r.s.judge(snapshot, &row, reading)
		r.fresh, r.marks = append(r.fresh, store.NewReading{Slot: row, Served: reading.Chain}), append(r.marks, verdict{key, snapshot.Version, until})
	}
	if len(r.seen)+len(r.fresh) >= mostKept {
		return r.flush(ctx)
	}
	return nil
}

// flush writes what is not written yet.
func (r *recorder) flush(ctx context.Context) error {
	seen, fresh, marks := r.seen, r.fresh, r.marks
	r.seen, r.fresh, r.marks = nil, nil, nil
	if len(seen) > 0 {
		if err := r.s.store.TouchSlots(ctx, seen); err != nil {
			return err
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	late, err := r.s.store.AddReadings(ctx, fresh)
	if err != nil {
		return fmt.Errorf("keeping readings: %w", err)
	}
	for i, one := range fresh {
		if !slices.Contains(late, i) {
			r.s.knowledge.judged.Store(one.ID, marks[i])
		}
	}
	for _, i := range late {
		if err := r.again(ctx, fresh[i]); err != nil {
			return err
		}
	}
	return nil
}

// again keeps a reading of a slot on which something was installed while it was
// read. One that is older than what stands there, or of a slot that was removed, is
// dropped.
func (r *recorder) again(ctx context.Context, one store.NewReading) error {
	row, err := r.s.store.Slot(ctx, one.Device, one.Name)
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
	reading := Sight{wire.Reading{At: one.ReadAt.Time, Chain: one.Served, Version: one.Version, Suite: one.Suite, Remarks: one.Remarks.V, Why: one.Failure.V}, one.Others.V}
	r.s.judge(snapshot, &row, reading)
	_, err = r.s.store.AddReadings(ctx, []store.NewReading{{Slot: row, Served: one.Served}})
	return err
}

// record keeps a single reading.
func (s *Service) record(ctx context.Context, row store.Slot, reading Sight) error {
	row, err := s.store.Slot(ctx, row.Device, row.Name)
	if err != nil {
		return fmt.Errorf("keeping the reading: %w", err)
	}
	r := recorder{s: s}
	if err := r.take(ctx, row, reading); err != nil {
		return err
	}
	return r.flush(ctx)
}

// judge fills in a slot with a reading and what it means, and says until when that
// holds.
func (s *Service) judge(snapshot *judge.Snapshot, row *store.Slot, reading Sight) (until time.Time) {
	row.ReadAt, row.Version, row.Suite, row.Remarks.V = store.At(reading.At), reading.Version, reading.Suite, append([]finding.Finding{}, reading.Remarks...)
	row.Chain.V, row.Failure.V, row.Others.V = []string{}, reading.Why, reading.Others
	row.Subject, row.SelfSigned, row.NotAfter, row.Sought = "", false, store.Moment{}, ""
	var judged judge.Judgement
	if reading.Why != nil {
		judged = snapshot.Dark(*reading.Why, judgedSlot(*row))
	} else {
		leaf := reading.Leaf()
		row.Subject, row.SelfSigned, row.NotAfter, row.Sought = leaf.ShortName(), leaf.SelfSigned(), store.At(leaf.NotAfter), sought(leaf)
		for _, c := range reading.Chain {
			row.Chain.V = append(row.Chain.V, c.SHA256)
		}
		judged = snapshot.Judge(reading.Chain, judgedSlot(*row), s.now())
	}
	settleOn(row, judged)
	return judged.Until
}

// mostSought is how many bytes of a certificate's names are searched.
const mostSought = 4000

// sought are the words of a leaf by which its slot is found.
func sought(leaf *cert.Certificate) string {
	words := append([]string{leaf.Subject(), leaf.Serial(), leaf.SHA1()}, leaf.Names()...)
	text := strings.ToLower(visible.Line(strings.Join(words, " ")))
	return text[:min(len(text), mostSought)]
}

func settleOn(row *store.Slot, j judge.Judgement) {
	row.Findings.V, row.Path.V = j.Findings, append([]string{}, j.Path...)
	row.Standing, row.OverdueFrom, row.DueFrom = j.Standing.Base, store.At(j.Standing.Overdue), store.At(j.Standing.Due)
}
