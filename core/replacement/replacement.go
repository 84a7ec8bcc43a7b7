// Package replacement is the stage machine that gives one slot a new
// certificate. It is pure: an event goes in, the new state and what to do next
// come out; nothing is sent, stored or timed here.
//
//	survey → request → sign → gate → backup → trust → install → trial →
//	activate → prove → mirror → seal
//
// A failure after backup leads back: revert, then proof of the old certificate.
package replacement

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Stage is where a replacement is.
type Stage string

// The stages, see Stages for their order.
const (
	Survey   Stage = "survey"
	Request  Stage = "request"
	Sign     Stage = "sign"
	Gate     Stage = "gate"
	Backup   Stage = "backup"
	Trust    Stage = "trust"
	Install  Stage = "install"
	Trial    Stage = "trial"
	Activate Stage = "activate"
	Prove    Stage = "prove"
	Mirror   Stage = "mirror"
	Seal     Stage = "seal"
)

// Stages are all stages in their order.
var Stages = []Stage{Survey, Request, Sign, Gate, Backup, Trust, Install, Trial, Activate, Prove, Mirror, Seal}

// Before reports whether the stage comes before another one.
func (s Stage) Before(other Stage) bool { return s.index() < other.index() }

func (s Stage) index() int { return slices.Index(Stages, s) }

// State reports whether a replacement goes on, and if not, why.
type State string

// The states.
const (
	Running   State = "running"
	Waiting   State = "waiting"   // for somebody, see WaitingFor
	Held      State = "held"      // something is not known or failed: a person decides
	Sealed    State = "sealed"    // done and proven
	Reverted  State = "reverted"  // the old certificate is back and proven
	Cancelled State = "cancelled" // given up before anything on the device changed
	Closed    State = "closed"    // a person ended it, as the wire shows
)

// Over reports whether the state is an end.
func (s State) Over() bool { return s == Sealed || s == Reverted || s == Cancelled || s == Closed }

// WaitingFor names who or what a waiting replacement needs.
type WaitingFor string

// States are all states.
var States = []State{Running, Waiting, Held, Sealed, Reverted, Cancelled, Closed}

// Text names what is waited for: "waiting for " + w.Text().
func (w WaitingFor) Text() string {
	if w == Person {
		return "manual step"
	}
	return string(w)
}

// WaitingFors are all those whom a replacement can wait for.
var WaitingFors = []WaitingFor{Signer, Validation, Approval, Window, Person, Device, GoAhead}

// Whom a replacement can wait for.
const (
	Nobody     WaitingFor = ""
	Signer     WaitingFor = "signer"
	Validation WaitingFor = "validation" // the signer waits itself: for somebody to prove whose the domain is
	Approval   WaitingFor = "approval"
	Window     WaitingFor = "window"
	Person     WaitingFor = "person"
	Device     WaitingFor = "device"   // another replacement touches it, or its cluster
	GoAhead    WaitingFor = "go-ahead" // it was paused, or was to stop after a stage
)

// Progress is all that the machine knows of a replacement.
type Progress struct {
	Stage      Stage      `json:"stage" required:"true"`
	State      State      `json:"state" required:"true"`
	WaitingFor WaitingFor `json:"waiting_for" required:"true"`
	Reverting  bool       `json:"reverting" required:"true"` // on the way back
	Stopping   bool       `json:"stopping" required:"true"`  // a person asked to stop at the next stage
	Asked      bool       `json:"asked,omitempty"`           // a person asked for the way back
	// of held, reverted, cancelled and closed: the first reason
	Why  string `json:"why,omitempty"`
	Back string `json:"back,omitempty"` // of held: why the way back did not come to its end
}

// Event is something that happened.
type Event struct {
	Kind    EventKind
	Why     string
	Waiting WaitingFor // of Waits
	Runs    bool       // of Unknown: something of it may still be running on the device
}

// EventKind names what happened.
type EventKind string

// The events.
const (
	Begun      EventKind = "begun"       // somebody asked for the replacement
	Done       EventKind = "done"        // the stage in hand was carried out
	Waits      EventKind = "waits"       // the stage in hand needs somebody
	Arrived    EventKind = "arrived"     // what was waited for is there
	WantsProof EventKind = "wants-proof" // the signer wants the domain to be proven first
	Proven     EventKind = "proven"      // it is
	Expired    EventKind = "expired"     // what was waited for did not come in its time
	Failed     EventKind = "failed"      // the stage in hand, or the way back, failed
	// the stage in hand was left between two steps, because a person asked to stop
	Stopped      EventKind = "stopped"
	Unknown      EventKind = "unknown"       // nobody knows whether the step in hand was done
	Restored     EventKind = "restored"      // the old certificate is back and proven
	AskedCancel  EventKind = "asked-cancel"  // a person wants it given up
	AskedRevert  EventKind = "asked-revert"  // a person wants the old certificate back
	AskedResume  EventKind = "asked-resume"  // a person wants it to go on
	AskedClose   EventKind = "asked-close"   // a person ends it as the wire shows
	Already      EventKind = "already"       // every address serves the new certificate before anything was changed
	AskedAgain   EventKind = "asked-again"   // a person wants another request to be signed instead
	Interrupted  EventKind = "interrupted"   // the service was stopped in the middle of the stage
	ClearedAway  EventKind = "cleared-away"  // nothing of it is left on the device
	NotClearable EventKind = "not-clearable" // something of it may be left on the device
	ClearWaits   EventKind = "clear-waits"   // a person must do the next step of clearing it away
)

// Action is what to do next.
type Action string

// The actions. After Advance comes Done, Waits, Failed, Stopped or Unknown; after
// PutBack comes Restored or Failed; after ClearAway comes ClearedAway, NotClearable or ClearWaits.
const (
	Nothing   Action = ""
	Advance   Action = "carry"      // runReady out the stage in hand
	PutBack   Action = "put-back"   // put the old certificate back and prove it
	ClearAway Action = "clear-away" // remove from the device what the request left there
)

// Impossible means that an event does not fit the state.
type Impossible struct {
	Event EventKind
	State State
	Stage Stage
}

func (e Impossible) Error() string {
	return fmt.Sprintf("a replacement that is %s in stage %s cannot take the event %q", e.State, e.Stage, e.Event)
}

// Touched reports whether the device may serve something else than before: a failure
// from here on must lead back.
func (p Progress) Touched() bool { return p.Stage.index() > Backup.index() }

// AtSigner reports whether the request is out and an answer to it is waited for.
func (p Progress) AtSigner() bool {
	return p.Stage == Sign && p.State == Waiting && (p.WaitingFor == Signer || p.WaitingFor == Validation)
}

// On takes an event and gives the new progress and the next action.
func (p Progress) On(e Event) (Progress, Action, error) {
	switch e.Kind {
	case Begun:
		if p.State == "" {
			return Progress{Stage: Survey, State: Running}, Advance, nil
		}
	case Done, Already, Waits, Failed, Stopped, Unknown, Restored, Interrupted, ClearedAway, NotClearable, ClearWaits:
		if p.State == Running {
			return p.work(e)
		}
	case Arrived:
		if p.State == Waiting {
			return p.arrived()
		}
	case WantsProof:
		if p.AtSigner() {
			p.WaitingFor = Validation
			return p, Nothing, nil
		}
	case Proven:
		if p.AtSigner() {
			p.WaitingFor = Signer
			return p, Nothing, nil
		}
	case Expired:
		if p.State == Waiting {
			p.State, p.WaitingFor, p.Why = Held, Nobody, e.Why
			return p, Nothing, nil
		}
	case AskedCancel, AskedRevert, AskedResume, AskedAgain, AskedClose:
		return p.asked(e)
	}
	return p, Nothing, Impossible{e.Kind, p.State, p.Stage}
}

// work takes what became of the action in hand.
// revive:disable-next-line:cyclomatic the machine is a table
func (p Progress) work(e Event) (Progress, Action, error) {
	switch {
	case e.Kind == Interrupted:
		return p, p.InHand(), nil
	case e.Kind == Unknown:
		return p.held(e.Why), Nothing, nil
	case p.Reverting && e.Kind == Restored:
		p.State = Reverted
		return p, Nothing, nil
	case p.Reverting && e.Kind == Failed:
		return p.held(e.Why), Nothing, nil
	case p.Stopping && !p.Touched() && (e.Kind == ClearedAway || e.Kind == NotClearable):
		p.State = Cancelled
		if e.Why != "" {
			p.Why = e.Why
		}
		return p, Nothing, nil
	case p.Stopping && !p.Touched() && e.Kind == ClearWaits:
		p.State, p.WaitingFor = Waiting, Person
		return p, Nothing, nil
	case e.Kind == Waits && e.Waiting == Person && (p.Reverting || !p.Stopping):
		p.State, p.WaitingFor = Waiting, Person
		return p, Nothing, nil
	case p.Reverting:
	case e.Kind == Already && p.Stage == Backup && !p.Stopping:
		p.Stage = Prove
		return p, Advance, nil
	case (e.Kind == Done || e.Kind == Already) && p.Stopping && p.Stage != Seal:
		return p.stop()
	case e.Kind == Done:
		return p.next()
	case e.Kind == Stopped && p.Stopping && p.Stage != Seal:
		p.Why = after(e.Why, p.Why)
		return p.stop()
	case p.Stopping && (e.Kind == Waits || !p.Touched() && e.Kind == Failed):
		return p.stop()
	case e.Kind == Waits:
		p.State, p.WaitingFor = Waiting, e.Waiting
		return p, Nothing, nil
	case e.Kind == Failed && p.Touched() && p.Stage != Seal:
		p.Reverting = true
		if p.Stopping { // the wish to stop came first
			p.Why = after(e.Why, p.Why)
		} else {
			p.Why = e.Why
		}
		return p, PutBack, nil
	case e.Kind == Failed:
		return p.held(e.Why), Nothing, nil
	}
	return p, Nothing, Impossible{e.Kind, p.State, p.Stage}
}

// held waits for a person to decide. On the way back the first reason stays, and why it did not come to its end
// is beside it.
func (p Progress) held(why string) Progress {
	p.State, p.WaitingFor = Held, Nobody
	if p.Reverting && p.Why != "" {
		p.Back = why
	} else {
		p.Why = why
	}
	return p
}

// arrived goes on with what was waited for. A person does a step in the middle
// of a stage, or of the way back; the gate looks at all its conditions again; all
// others end their stage.
func (p Progress) arrived() (Progress, Action, error) {
	within := p.WaitingFor == Person || p.WaitingFor == GoAhead || p.Stage == Gate
	p.State, p.WaitingFor = Running, Nobody
	if within {
		return p, p.InHand(), nil
	}
	return p.next()
}

// Within reports whether after this event the action in hand goes on where it was,
// instead of from its beginning: its steps that are done stay done.
func (p Progress) Within(e Event) bool {
	after, _, err := p.On(e)
	return e.Kind == Interrupted || e.Kind == AskedResume || err == nil && after.State == Held || e.Kind == Waits &&
		e.Waiting == Person || e.Kind == ClearWaits || e.Kind == Arrived &&
		(p.WaitingFor == Person || p.WaitingFor == GoAhead)
}

// next goes to the stage after the one in hand, or to the end.
func (p Progress) next() (Progress, Action, error) {
	if p.Stage == Seal {
		p.State, p.Stopping = Sealed, false
		return p, Nothing, nil
	}
	p.Stage = Stages[p.Stage.index()+1]
	return p, Advance, nil
}

// InHand returns the action that a running replacement is at.
func (p Progress) InHand() Action {
	switch {
	case p.Reverting:
		return PutBack
	case p.Stopping && !p.Touched():
		return ClearAway
	}
	return Advance
}

// stop gives up: if nothing changed yet by clearing away, else by going back.
func (p Progress) stop() (Progress, Action, error) {
	p.State, p.WaitingFor, p.Back = Running, Nobody, ""
	if p.Touched() {
		p.Reverting = true
		return p, PutBack, nil
	}
	p.Stopping = true
	return p, ClearAway, nil
}

// asked takes what a person wants.
// revive:disable-next-line:cyclomatic the machine is a table
func (p Progress) asked(e Event) (Progress, Action, error) {
	p.Asked = p.Asked || e.Kind == AskedCancel || e.Kind == AskedRevert
	switch {
	case e.Kind == AskedResume && p.State == Held:
		if p.State, p.Back = Running, ""; !p.Reverting {
			p.Why = ""
		}
		return p, p.InHand(), nil
	case e.Kind == AskedClose && p.State == Held:
		p.State, p.Stopping, p.Why = Closed, false, after(e.Why, p.Why)
		return p, Nothing, nil
	case e.Kind == AskedAgain && (p.AtSigner() || p.State == Held && (p.Stage == Request || p.Stage == Sign)):
		p.Stage, p.State, p.WaitingFor, p.Why = Request, Running, Nobody, ""
		return p, Advance, nil
	case e.Kind == AskedRevert && p.State == Sealed,
		e.Kind == AskedRevert && p.State == Held && p.Touched():
		p.State, p.Reverting, p.Back, p.Why = Running, true, "", after(e.Why, p.Why)
		return p, PutBack, nil
	case e.Kind == AskedRevert && p.State == Running && p.Touched() && !p.Reverting,
		e.Kind == AskedCancel && p.State == Running && !p.Reverting:
		p.Stopping, p.Why = true, after(e.Why, p.Why)
		return p, Nothing, nil // taken up when the stage in hand is done
	case e.Kind == AskedCancel && (p.State == Waiting && !p.Reverting || p.State == Held),
		e.Kind == AskedRevert && p.State == Waiting && p.Touched() && !p.Reverting:
		p.Why = after(e.Why, p.Why)
		return p.stop()
	}
	return p, Nothing, Impossible{e.Kind, p.State, p.Stage}
}

// after joins a new reason with the first one, which stays in front.
func after(why, first string) string {
	if first == "" || strings.Contains(first, why) {
		return cmp.Or(first, why)
	}
	return first + "; then " + why
}
