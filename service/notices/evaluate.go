package notices

import (
	"context"
	"crypto/rand"
	"strings"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
	"freshseal/store"
	"freshseal/store/messages"
)

const (
	slotsAtOnce = 500
	settling    = 300 * time.Millisecond // several events that come together are looked at together
	// rounds of time: how often all slots are looked at and not only those of events
	wholeEvery = 5
)

// newID is an id that nobody has.
func newID(kind string) string { return kind + strings.ToLower(rand.Text()) }

// evaluateAlways looks at rules when something happened, and now and then because time goes by.
func (s *Service) evaluateAlways() {
	woken, leave := s.store.Outbox.Listen()
	defer leave()
	tick := time.NewTicker(s.every)
	defer tick.Stop()
	round := 0
	for {
		whole := round%wholeEvery == 0
		if err := s.evaluate(s.stopping, whole); err != nil && s.stopping.Err() == nil {
			s.log.Error("evaluating the slots for notices", "error", err)
		}
		select {
		case <-woken:
			round = 1
		case <-s.wake:
			round = 0
		case <-tick.C:
			round++
		case <-s.stopping.Done():
			return
		}
		select {
		case <-time.After(settling):
		case <-s.stopping.Done():
			return
		}
	}
}

// happened makes the notices of what happened after a moment, in the order in which it did, and returns how far it
// came.
func (e *evaluation) happened(ctx context.Context, cursor int64) (int64, error) {
	for {
		events, err := e.s.store.Outbox.Events(ctx, "", cursor)
		if err != nil {
			return cursor, err
		}
		if len(events) == 0 {
			return cursor, nil
		}
		seen := map[string][]due.Condition{}
		var order []string
		for _, event := range events {
			cursor = event.ID
			if slot, about := strings.CutPrefix(event.About, "slot/"); about && event.Kind == "condition" {
				if seen[slot] == nil {
					order = append(order, slot)
				}
				seen[slot] = append(seen[slot], due.Condition(event.State))
			}
		}
		if len(e.rules) == 0 {
			order = nil
		}
		if err := e.slots(ctx, order, seen, cursor); err != nil {
			return cursor, err
		}
	}
}

// evaluate makes the notices that are due: for slots with new events, and where whole says so for all.
func (s *Service) evaluate(ctx context.Context, whole bool) error {
	rows, err := s.store.Channels.Rules(ctx)
	if err != nil {
		return err
	}
	cursor, err := s.store.Notices.Cursor(ctx)
	if err != nil {
		return err
	}
	known, err := s.known(ctx)
	if err != nil {
		return err
	}
	e := evaluation{s: s, rules: rows, known: known, at: s.now()}
	if cursor, err = e.happened(ctx, cursor); err != nil {
		return err
	}
	if !whole || len(rows) == 0 {
		return nil
	}
	if err := e.things(ctx, cursor); err != nil {
		return err
	}
	var conditions []due.Condition
	days := 0
	for _, r := range rows {
		conditions = append(conditions, r.Terms.V.Conditions...)
		for _, d := range r.Terms.V.Days {
			days = max(days, d)
		}
	}
	for last := int64(0); ; {
		slots, err := s.store.Notices.SlotsForRules(ctx, conditions,
			store.At(e.at.AddDate(0, 0, days)), last, slotsAtOnce)
		if err != nil || len(slots) == 0 {
			return err
		}
		last = slots[len(slots)-1].ID
		if err := e.look(ctx, slots, nil, cursor, false); err != nil {
			return err
		}
	}
}

func (s *Service) known(ctx context.Context) (map[int64]*notice.Acknowledged, error) {
	rows, err := s.store.Notices.Acknowledgements(ctx, s.moment())
	out := map[int64]*notice.Acknowledged{}
	for _, a := range rows {
		out[a.SlotID] = &notice.Acknowledged{Until: a.Until.Time, Worst: a.Worst}
	}
	return out, err
}

// evaluation is one look at the rules.
type evaluation struct {
	s     *Service
	rules []messages.NoticeRule
	known map[int64]*notice.Acknowledged
	at    time.Time
}

// slots looks at slots by their names, and at the conditions in which they were since.
func (e evaluation) slots(ctx context.Context, names []string, seen map[string][]due.Condition, cursor int64) error {
	var rows []messages.SlotForRules
	were := map[int64][]due.Condition{}
	for _, name := range names {
		device, slot, _ := strings.Cut(name, "/")
		row, err := e.s.store.Notices.SlotForRules(ctx, device, slot)
		if err == store.ErrNotFound {
			continue // removed since
		}
		if err != nil {
			return err
		}
		rows, were[row.ID] = append(rows, row), seen[name]
	}
	return e.look(ctx, rows, were, cursor, true)
}

// look computes the notices of slots and stores them, with the place in the outbox up to which it was looked, where
// that moved.
func (e evaluation) look(ctx context.Context, rows []messages.SlotForRules, were map[int64][]due.Condition,
	cursor int64,
	moved bool) error {
	ids := make([]int64, len(rows))
	for i, row := range rows {
		ids[i] = row.ID
	}
	kept, err := e.s.store.Notices.Matters(ctx, ids)
	if err != nil {
		return err
	}
	type key struct {
		rule string
		slot int64
	}
	matters := map[key]notice.Matter{}
	for _, m := range kept {
		matters[key{m.Rule, m.Slot}] = m.State.V
	}
	var changed []messages.Matter
	var made []messages.Notice
	for _, row := range rows {
		now, err := e.s.asSlot(ctx, row, e.at)
		if err != nil {
			return err
		}
		for _, r := range e.rules {
			if r.Terms.V.Paused { // what was told is remembered until it goes on
				continue
			}
			before := matters[key{r.Name, row.ID}]
			matter := before
			// What it was in between counts, and then what it is: something that was exchanged and put back is told
			// too.
			for i, condition := range append(were[row.ID], now.Condition) {
				slot := now
				if i < len(were[row.ID]) && condition != now.Condition {
					slot.Condition, slot.Why, slot.Remedy = condition, "it was "+string(condition)+" for a while",
						"find out why"
				}
				stage := r.Terms.V.StageOf(slot, e.at)
				var kind notice.Kind
				kind, matter = r.Terms.V.Next(matter, stage, e.known[row.ID], e.at)
				if kind != "" {
					made = append(made, e.notice(r, kind, stage, slot, matter))
				}
			}
			if !same(before, matter) {
				m := messages.Matter{Rule: r.Name, Slot: row.ID}
				m.State.V = matter
				changed = append(changed, m)
			}
		}
	}
	if len(changed)+len(made) == 0 && !moved {
		return nil
	}
	if err := e.s.store.Notices.Add(ctx, changed, made, cursor); err != nil {
		return err
	}
	if len(made) > 0 {
		e.s.changed()
	}
	return nil
}

func (e evaluation) notice(r messages.NoticeRule, kind notice.Kind, stage notice.Stage, slot notice.Slot,
	m notice.Matter) messages.Notice {
	n := messages.Notice{ID: newID("n"), Rule: r.Name, Slot: slot.Device + "/" + slot.Name, Kind: kind,
		Stage: stage.Name, MadeAt: store.At(e.at), Channels: r.Terms.V.Channels(kind),
		DueAt: store.At(r.Terms.V.Due(e.at))}
	n.Item.V = notice.ItemOf(n.ID, r.Name, kind, stage, slot, m.Reminders, e.at)
	return n
}

func same(a, b notice.Matter) bool {
	return len(a.Told) == len(b.Told) && a.Worst == b.Worst && a.Last.Equal(b.Last) && a.Reminders == b.Reminders
}
