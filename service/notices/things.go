package notices

import (
	"context"

	"freshseal/core/judgement/notice"
	"freshseal/store"
	"freshseal/store/messages"
)

// Expiring lists what expires within some days besides the certificates of slots.
type Expiring func(ctx context.Context, within int) ([]notice.Thing, error)

// Ask has the room ask for that. It comes before Start; without it, rules about such things tell of nothing.
func (s *Service) Ask(expiring Expiring) { s.expiring = expiring }

// things makes the notices about what else expires. What is listed no more was renewed or removed, or went when it
// expired.
func (e evaluation) things(ctx context.Context, cursor int64) error {
	within, asked := 0, false
	for _, r := range e.rules {
		for _, d := range r.Terms.V.Days {
			if asked = asked || r.Terms.V.Expiring; r.Terms.V.Expiring {
				within = max(within, d)
			}
		}
	}
	kept, err := e.s.store.Notices.ThingMatters(ctx)
	if err != nil || e.s.expiring == nil || !asked && len(kept) == 0 {
		return err
	}
	found, err := e.s.expiring(ctx, within+1)
	if err != nil {
		return err
	}
	type key struct{ rule, thing string }
	matters := map[key]messages.Matter{}
	for _, m := range kept {
		matters[key{m.Rule, m.Thing}] = m
	}
	var changed []messages.Matter
	var made []messages.Notice
	step := func(r messages.NoticeRule, t notice.Thing, before, after notice.Matter, kind notice.Kind,
		stage notice.Stage) {
		if kind != "" {
			n := messages.Notice{ID: newID("n"), Rule: r.Name, Kind: kind, Stage: stage.Name, MadeAt: store.At(e.at),
				Channels: r.Terms.V.Channels(kind), DueAt: store.At(r.Terms.V.Due(e.at))}
			n.Item.V = notice.ItemOfThing(n.ID, r.Name, kind, stage, t, after.Reminders, e.at)
			made = append(made, n)
		}
		if !same(before, after) {
			changed = append(changed,
				messages.Matter{Rule: r.Name, Thing: t.Key(), State: store.JSON[notice.Matter]{V: after},
					Of: store.JSON[notice.Thing]{V: t}})
		}
	}
	for _, r := range e.rules {
		if r.Terms.V.Paused {
			continue
		}
		for _, t := range found {
			at := key{r.Name, t.Key()}
			before, stage := matters[at].State.V, r.Terms.V.StageOfThing(t, e.at)
			kind, after := r.Terms.V.Next(before, stage, nil, e.at)
			step(r, t, before, after, kind, stage)
			delete(matters, at)
		}
		for at, before := range matters {
			if at.rule == r.Name {
				kind, stage := r.Terms.V.Gone(before.State.V, before.Of.V, e.at)
				step(r, before.Of.V, before.State.V, notice.Matter{}, kind, stage)
			}
		}
	}
	if len(changed)+len(made) == 0 {
		return nil
	}
	if err := e.s.store.Notices.Add(ctx, changed, made, cursor); err != nil {
		return err
	}
	e.s.changed()
	return nil
}
