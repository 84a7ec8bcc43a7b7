package notices

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"freshseal/contract"
	"freshseal/core/auditfile"
	"freshseal/core/judgement/notice"
	"freshseal/core/next"
	"freshseal/notify"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/messages"
)

// Stream sends the audit log to a syslog server, as it grows. Every entry is sent at least once, in order; after a lost
// connection or a kill some are sent again, under the same number.
type Stream struct{ *Service }

const (
	mostEntries  = 500 // that are sent over one connection
	streamEvery  = 5 * time.Second
	streamLimit  = time.Minute     // for one connection
	streamAgain  = 5 * time.Second // after the first failure; then twice as long each time
	streamLatest = 5 * time.Minute
	headEvery    = 24 * time.Hour
)

// Show returns where the audit log is sent to, and how far it was.
func (s Stream) Show(ctx context.Context) (contract.AuditStream, error) {
	row, err := s.store.Streams.Get(ctx)
	if err != nil {
		return contract.AuditStream{}, err
	}
	out := contract.AuditStream{Sent: row.Sent, Error: row.Error,
		NewAuditStream: contract.NewAuditStream{Channel: row.Channel, HeadChannel: row.HeadChannel}}
	if !row.SentAt.IsZero() {
		out.SentAt = &row.SentAt.Time
	}
	if !row.HeadAt.IsZero() {
		out.HeadAt = &row.HeadAt.Time
	}
	head, err := s.store.Audit.Head(ctx)
	if errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	out.Newest = head.ID
	return out, err
}

// Set sets where the audit log is sent to. Another channel gets it from the first entry on.
func (s Stream) Set(ctx context.Context, n contract.NewAuditStream) (contract.AuditStream, error) {
	const cannot = "the audit log is not sent anywhere else than before"
	for field, name := range map[string]string{"channel": n.Channel, "head_channel": n.HeadChannel} {
		if name == "" {
			continue
		}
		c, err := s.Channel(ctx, name)
		if err != nil {
			return contract.AuditStream{}, err
		}
		if field == "channel" && c.Kind != contract.SyslogChannel {
			return contract.AuditStream{}, problem.Reject(cannot, fmt.Sprintf("%s is a channel of %s, and entries are "+
				"sent to a syslog server", name, c.Kind), "name a channel of syslog", next.Give.On(field))
		}
	}
	was, err := s.store.Streams.Get(ctx)
	if err != nil {
		return contract.AuditStream{}, err
	}
	if err := s.store.Streams.Set(ctx, n.Channel, n.HeadChannel); err != nil {
		return contract.AuditStream{}, err
	}
	audit.Differences(ctx, map[string]string{"channel": was.Channel, "head channel": was.HeadChannel},
		map[string]string{"channel": n.Channel, "head channel": n.HeadChannel})
	return s.Show(ctx)
}

// streamAlways sends what is new, and tries again later and later while that fails.
func (s *Service) streamAlways() {
	woken, leave := s.store.Outbox.Listen()
	defer leave()
	failed, headAgain := 0, time.Time{}
	for {
		pause := streamEvery
		if err := s.Stream.send(s.stopping); err == nil {
			failed = 0
		} else if failed++; s.stopping.Err() == nil {
			pause = min(streamAgain<<min(failed-1, 10), streamLatest)
			s.log.Warn("the audit log is not sent on", "error", err)
		}
		if now := s.now(); !now.Before(headAgain) {
			if err := s.Stream.tellHead(s.stopping); err != nil && s.stopping.Err() == nil {
				headAgain = now.Add(streamLatest)
				s.log.Warn("the newest entry of the audit log was not told", "error", err)
			}
		}
		tick := time.NewTimer(pause)
		for waiting := true; waiting; {
			select {
			case <-tick.C:
				waiting = false
			case <-woken: // a server that is away is not asked at each entry, another one at once
				row, err := s.store.Streams.Get(s.stopping)
				waiting = failed > 0 && (err != nil || row.Error != "")
			case <-s.stopping.Done():
				tick.Stop()
				return
			}
		}
		tick.Stop()
	}
}

// send sends all entries that were not sent yet.
func (s Stream) send(ctx context.Context) error {
	for {
		row, err := s.store.Streams.Get(ctx)
		if err != nil || row.Channel == "" {
			return err
		}
		entries, err := s.store.Audit.After(ctx, row.Sent, mostEntries)
		if err != nil || len(entries) == 0 {
			return err
		}
		kept := make([]auditfile.Entry, len(entries))
		for i, e := range entries {
			kept[i] = e.Kept()
		}
		if err := s.sendSome(ctx, row, kept); err != nil || ctx.Err() != nil {
			return err
		}
	}
}

func (s Stream) sendSome(ctx context.Context, row messages.Stream, entries []auditfile.Entry) error {
	c, err := s.Channel(ctx, row.Channel)
	if err != nil {
		return err
	}
	limited, end := context.WithTimeout(ctx, streamLimit)
	defer end()
	if err := s.sender.Entries(limited, notify.Channel(c.ChannelSetup), entries); err != nil {
		if ctx.Err() != nil {
			return nil // the service stops
		}
		return errors.Join(err, s.store.Streams.Tried(ctx, row.Channel, row.Sent, err.Error(), s.moment()))
	}
	return s.store.Streams.Tried(context.WithoutCancel(ctx), row.Channel, entries[len(entries)-1].ID, "", s.moment())
}

// tellHead tells a channel the newest entry, once a day.
func (s Stream) tellHead(ctx context.Context) error {
	row, err := s.store.Streams.Get(ctx)
	if err != nil || row.HeadChannel == "" || s.now().Sub(row.HeadAt.Time) < headEvery {
		return err
	}
	head, err := s.store.Audit.Head(ctx)
	if err != nil {
		return err
	}
	c, err := s.Channel(ctx, row.HeadChannel)
	if err != nil {
		return err
	}
	secret, err := s.secret(ctx, row.HeadChannel)
	if err != nil {
		return err
	}
	at, setup := s.now(), notify.Channel(c.ChannelSetup)
	m := notice.Message{ID: newID("m"), At: at, Service: s.sender.Name, URL: s.console(),
		Items: []notice.Item{{ID: newID("n"), Kind: notice.Head, Stage: "record", At: at,
			What: strconv.FormatInt(head.ID, 10) + ":" + head.Hash,
			Why:  "keep it: the audit log must still have this entry later", Next: "verify it with its head"}}}
	if err := s.sender.Send(ctx, setup, secret, setup.Group(""), m); err != nil {
		return err
	}
	return s.store.Streams.HeadTold(context.WithoutCancel(ctx), s.moment())
}
