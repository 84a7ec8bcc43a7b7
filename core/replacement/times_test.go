package replacement

import (
	"fmt"
	"testing"
	"time"
)

func TestTimesTellsWorkFromWaiting(t *testing.T) {
	start := time.Date(2035, 3, 4, 8, 0, 0, 0, time.UTC)
	at := func(seconds int) time.Time { return start.Add(time.Duration(seconds) * time.Second) }
	entries := []Entry{
		{At: at(0), Stage: Survey, State: Running},
		{At: at(2), Stage: Request, State: Running},
		{At: at(5), Stage: Sign, State: Running},
		{At: at(6), Stage: Sign, State: Waiting},
		{At: at(3606), Stage: Sign, State: Running},
		{At: at(3607), Stage: Request, State: Running}, // asked for again
		{At: at(3611), Stage: Activate, State: Running},
		{At: at(3620), Stage: Activate, State: Running, Back: true},
		{At: at(3630), Stage: Activate, State: Held, Back: true},
		{At: at(3700), Stage: Activate, State: Running, Back: true},
	}
	said := func(all []Spent) (out string) {
		for _, s := range all {
			end := "…"
			if s.EndedAt != nil {
				end = fmt.Sprint(s.EndedAt.Sub(start).Seconds())
			}
			out += fmt.Sprintf("%s %v-%s ran %v waited %v\n", s.Stage, s.BeganAt.Sub(start).Seconds(), end, s.Ran,
				s.Waited)
		}
		return out
	}
	const stages = "survey 0-2 ran 2 waited 0\nrequest 2-3611 ran 7 waited 0\nsign 5-3607 ran 2 waited 3600\n" +
		"activate 3611-3620 ran 9 waited 0\n"
	if got, want := said(Times(entries, at(3705))), stages+"revert 3620-… ran 15 waited 70\n"; got != want {
		t.Errorf("under way:\n%swant\n%s", got, want)
	}
	over := append(entries, Entry{At: at(3710), Stage: Activate, State: Reverted, Back: true})
	if got, want := said(Times(over, at(9999))), stages+"revert 3620-3710 ran 20 waited 70\n"; got != want {
		t.Errorf("at the end:\n%swant\n%s", got, want)
	}
	setBack := []Entry{{At: at(10), Stage: Survey, State: Running}, {At: at(4), Stage: Request, State: Running}}
	const back = "survey 10-4 ran 0 waited 0\nrequest 4-… ran 1 waited 0\n"
	if got, want := said(Times(setBack, at(5))), back; got != want {
		t.Errorf("with a clock set back:\n%swant\n%s", got, want)
	}
}
