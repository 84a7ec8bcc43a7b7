package watch

import (
	"context"
	"encoding/json"
	"time"

	"freshseal/store"
)

// Event is one thing that happened, in order of ID.
type Event struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Kind  string    `json:"kind" required:"true" enum:"stage,step,screen,state,condition,act"`
	About string    `json:"about" required:"true" description:"replacement/ID, slot/DEVICE/SLOT, or what an act was asked of"`
	Who   string    `json:"who,omitempty" description:"of an act"`
	Stage string    `json:"stage" required:"true"`
	State string    `json:"state" required:"true" description:"of a replacement or step, or the condition of a slot"`
	Text  string    `json:"text,omitempty"`
	Usual int       `json:"usual_seconds,omitempty" description:"how long a step that began usually takes on devices of this family"`
}

// JSON is the event on one line.
func (e Event) JSON() []byte {
	line, _ := json.Marshal(e) // plain fields cannot fail
	return line
}

// beatEvery is how often who follows is told that the service is still there.
const beatEvery = 15 * time.Second

// LastEvent is the number of the newest event: who wants only news begins there.
func (s *Service) LastEvent(ctx context.Context) (int64, error) { return s.store.LastEvent(ctx) }

// Follow hands every event after a known one to take, as they come: all, or those
// about one thing. It ends when over said so before the last of them was read, when
// take fails, or with the context. While nothing happens beat is called, which finds
// out whether anybody listens.
func (s *Service) Follow(ctx context.Context, about string, after int64, take func(Event) error, beat func() error, over func() (bool, error)) error {
	woken, leave := s.store.Listen()
	defer leave()
	for {
		ended, err := over()
		if err != nil {
			return err
		}
		events, err := s.store.Events(ctx, about, after)
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

func show(e store.Event) Event {
	return Event{ID: e.ID, At: e.At.Time, Kind: e.Kind, About: e.About, Who: e.Who, Stage: e.Stage, State: e.State, Text: e.Text}
}
