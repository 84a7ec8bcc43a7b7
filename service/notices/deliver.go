package notices

import (
	"context"
	"errors"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/notice"
	"freshseal/notify"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/messages"
)

const (
	mostPacked = 5000 // notices that are put into messages in one go
	mostItems  = 200  // in one message; the others are counted
	atOnce     = 4    // messages that are sent at once
	lease      = 2 * time.Minute
	firstAgain = time.Minute
	latest     = time.Hour
	giveUp     = 72 * time.Hour
	remember   = 400 * 24 * time.Hour
	sendEvery  = 2 * time.Second
	unserved   = 10 * time.Second
)

// deliverAlways packs and sends what is due.
func (s *Service) deliverAlways() {
	select { // messages say where the console is
	case <-s.served:
	case <-time.After(unserved):
	case <-s.stopping.Done():
		return
	}
	woken, leave := s.store.Outbox.Listen()
	defer leave()
	tick := time.NewTicker(sendEvery)
	defer tick.Stop()
	cleaned := time.Time{}
	for {
		err := errors.Join(s.pack(s.stopping), s.send(s.stopping))
		if now := s.now(); now.Sub(cleaned) > 24*time.Hour {
			cleaned = now
			err = errors.Join(err, s.store.Notices.Forget(s.stopping, store.At(now.Add(-remember))))
		}
		if err != nil && s.stopping.Err() == nil {
			s.log.Error("sending notices", "error", err)
		}
		select {
		case <-tick.C:
		case <-woken:
		case <-s.stopping.Done():
			return
		}
	}
}

// pack puts the notices whose time has come into messages: one for each channel and group of people.
func (s *Service) pack(ctx context.Context) error {
	due, err := s.store.Notices.ToPack(ctx, s.moment(), mostPacked)
	if err != nil || len(due) == 0 {
		return err
	}
	type key struct{ channel, people string }
	groups := map[key]*messages.Message{}
	var order []key
	channels := map[string]*contract.Channel{}
	for _, d := range due {
		c, known := channels[d.Channel]
		if !known {
			found, err := s.Channel(ctx, d.Channel)
			var gone *problem.Error
			if err != nil && !errors.As(err, &gone) {
				return err
			}
			if c = &found; err != nil {
				c = nil // it was removed: RemoveChannel takes its notices along
			}
			channels[d.Channel] = c
		}
		if c == nil {
			continue
		}
		k := key{d.Channel, notify.Channel(c.ChannelSetup).Group(d.Item.V.Owner)}
		m := groups[k]
		if m == nil {
			m = &messages.Message{ID: newID("m"), Channel: d.Channel, People: k.people, MadeAt: s.moment()}
			m.Body.V = notice.Message{ID: m.ID, At: s.now(), Service: s.sender.Name, URL: s.console()}
			groups[k], order = m, append(order, k)
		}
		m.Notices = append(m.Notices, d.Notice)
		if body := &m.Body.V; len(body.Items) < mostItems {
			body.Items = append(body.Items, d.Item.V)
		} else {
			body.More++
		}
	}
	var messages []messages.Message
	for _, k := range order {
		messages = append(messages, *groups[k])
	}
	return s.store.Notices.Pack(ctx, messages)
}

// send sends messages until none is due.
func (s *Service) send(ctx context.Context) error {
	for ctx.Err() == nil {
		now := s.now()
		messages, err := s.store.Notices.TakeMessages(ctx, store.At(now), store.At(now.Add(lease)), atOnce)
		if err != nil || len(messages) == 0 {
			return err
		}
		var sending sync.WaitGroup
		for _, m := range messages {
			sending.Go(func() { s.sendOne(ctx, m) })
		}
		sending.Wait()
	}
	return nil
}

func (s *Service) sendOne(ctx context.Context, m messages.Message) {
	c, err := s.Channel(ctx, m.Channel)
	if err == nil {
		var secret string
		if secret, err = s.secret(ctx, m.Channel); err == nil {
			err = s.sender.Send(ctx, notify.Channel(c.ChannelSetup), secret, m.People, m.Body.V)
		}
	}
	if ctx.Err() != nil {
		return // the lease ends, and the next service sends it
	}
	m.NextAt, m.SentAt, m.Error = store.Moment{}, s.moment(), ""
	if err != nil {
		m.SentAt, m.Error = store.Moment{}, err.Error()
		if s.now().Sub(m.MadeAt.Time) < giveUp {
			m.NextAt = store.At(s.now().Add(min(firstAgain<<min(m.Attempts-1, 10), latest)))
		}
		s.log.Warn("a message could not be sent", "message", m.ID, "channel", m.Channel, "attempt", m.Attempts,
			"error", err)
	}
	if err := s.store.Notices.EndMessage(context.WithoutCancel(ctx), m); err != nil &&
		!errors.Is(err, store.ErrNotFound) {
		s.log.Error("keeping what became of a message", "message", m.ID, "error", err)
	}
}

// Notices returns a page of the notices, newest first.
func (s *Service) Notices(ctx context.Context, f contract.NoticeFilter,
	p paging.Page) ([]contract.Notice, string, error) {
	rows := p.Rows()
	rows.Desc = true
	found, next, err := s.store.Notices.Page(ctx, messages.NoticeFilter(f), rows)
	out := []contract.Notice{}
	for _, row := range found {
		n := contract.Notice{Item: row.Item.V, State: "sent", Over: row.Over, Error: row.Error}
		switch {
		case row.Failed > 0:
			n.State = "failed"
		case row.Waiting > 0:
			n.State = "waiting"
		}
		out = append(out, n)
	}
	return out, next, err
}

// CountNotices returns how many notices fit a filter.
func (s *Service) CountNotices(ctx context.Context, f contract.NoticeFilter) (int, error) {
	return s.store.Notices.Count(ctx, messages.NoticeFilter(f))
}

// Queue returns how many notices are to be sent, and how many messages could not be.
func (s *Service) Queue(ctx context.Context) (waiting, failed int, err error) {
	return s.store.Notices.Queue(ctx)
}
