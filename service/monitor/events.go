package monitor

import (
	"context"
	"time"

	"freshseal/contract"
	"freshseal/store/events"
)

// beatEvery is how often who follows is told that the service is still there.
const beatEvery = 15 * time.Second

// LastEvent returns the number of the newest event: who wants only news begins there.
func (s *Service) LastEvent(ctx context.Context) (int64, error) { return s.store.Outbox.LastEvent(ctx) }

// Follow hands every event after a known one to take, as they come: all, or those
// about one thing. It ends when over said so before the last of them was read, when
// take fails, or with the context. While nothing happens beat is called, which finds
// out whether anybody listens.
func (s *Service) Follow(ctx context.Context, about string, after int64, take func(contract.Event) error,
	beat func() error, over func() (bool, error)) error {
	woken, leave := s.store.Outbox.Listen()
	defer leave()
	for {
		ended, err := over()
		if err != nil {
			return err
		}
		events, err := s.store.Outbox.Events(ctx, about, after)
		if err != nil {
			return err
		}
		for _, e := range events {
			if err := take(show(e)); err != nil {
				return err
			}
			after = e.ID
		}
		if len(events) > 0 {
			continue
		}
		if ended {
			return nil
		}
		select {
		case <-woken:
		case <-time.After(beatEvery):
			if err := beat(); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		case <-s.stopping.Done():
			return nil
		}
	}
}

func show(e events.Event) contract.Event {
	return contract.Event{ID: e.ID, At: e.At.Time, Kind: e.Kind, About: e.About, Who: e.Who, Stage: e.Stage,
		State: e.State, Text: e.Text}
}
