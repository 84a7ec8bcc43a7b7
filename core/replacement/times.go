package replacement

import (
	"slices"
	"time"
)

// Revert is the name of the way back where times are listed beside those of the stages.
const Revert Stage = "revert"

// Entry is one change of a replacement's stage or state.
type Entry struct {
	At    time.Time
	Stage Stage
	State State
	Back  bool // on the way back
}

// Spent is how long a replacement was in a stage, all visits to it together.
type Spent struct {
	Stage   Stage      `json:"stage" required:"true"` // revert: the way back
	BeganAt time.Time  `json:"began_at" required:"true"`
	EndedAt *time.Time `json:"ended_at,omitempty"` // of the last visit; not given while it is in the stage
	// seconds at work, and seconds waiting for somebody, a window or a decision
	Ran    float64 `json:"ran_seconds" required:"true"`
	Waited float64 `json:"waited_seconds" required:"true"`
}

// Times returns the time spent in each stage, in the order in which they were first entered. The entries are sorted
// by time; the visit that has not ended lasts until now. A clock that was set back counts as no time.
func Times(entries []Entry, now time.Time) []Spent {
	out := []Spent{}
	for i, e := range entries {
		if e.State.Over() {
			continue
		}
		stage := e.Stage
		if e.Back {
			stage = Revert
		}
		at := slices.IndexFunc(out, func(s Spent) bool { return s.Stage == stage })
		if at < 0 {
			at, out = len(out), append(out, Spent{Stage: stage, BeganAt: e.At})
		}
		s, end := &out[at], now
		if s.EndedAt = nil; i+1 < len(entries) {
			end = entries[i+1].At
			s.EndedAt = &end
		}
		took := max(0, end.Sub(e.At).Seconds())
		if e.State == Running {
			s.Ran += took
		} else {
			s.Waited += took
		}
	}
	return out
}
