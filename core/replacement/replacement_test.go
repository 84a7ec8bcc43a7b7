package replacement_test

import (
	"strings"
	"testing"

	. "freshseal/core/replacement"
)

// play lets events happen one after the other and tells where each leads:
// stage/state/action.
func play(t *testing.T, events ...Event) (Progress, string) {
	t.Helper()
	var p Progress
	var trail []string
	for _, e := range events {
		var action Action
		var err error
		if p, action, err = p.On(e); err != nil {
			trail = append(trail, "impossible")
			continue
		}
		trail = append(trail, string(p.Stage)+"/"+string(p.State)+"/"+string(action))
	}
	return p, strings.Join(trail, " ")
}

// until are the events that lead to a stage in hand.
func until(stage Stage) []Event {
	events := []Event{{Kind: Begun}}
	for _, s := range Stages {
		if s == stage {
			break
		}
		events = append(events, Event{Kind: Done})
	}
	return events
}

func TestAllGoesWell(t *testing.T) {
	p, trail := play(t, append(until(Seal), Event{Kind: Done})...)
	want := "survey/running/carry request/running/carry sign/running/carry gate/running/carry backup/running/carry " +
		"trust/running/carry " +
		"install/running/carry trial/running/carry activate/running/carry prove/running/carry mirror/running/carry " +
		"seal/running/carry seal/sealed/"
	if trail != want || !p.State.Over() {
		t.Errorf("trail\n%s", trail)
	}
}

func TestWhereAFailureLeads(t *testing.T) {
	for stage, want := range map[Stage]string{
		Survey: "survey/held/", Request: "request/held/", Sign: "sign/held/", Gate: "gate/held/",
		Backup: "backup/held/",
		Trust:  "trust/running/put-back", Install: "install/running/put-back", Activate: "activate/running/put-back",
		Prove: "prove/running/put-back", Mirror: "mirror/running/put-back", Seal: "seal/held/",
	} {
		_, trail := play(t, append(until(stage), Event{Kind: Failed, Why: "no"})...)
		if !strings.HasSuffix(trail, " "+want) && trail != "survey/running/carry "+want {
			t.Errorf("a failure in %s leads to %s, want %s", stage, trail, want)
		}
	}
}

func TestStories(t *testing.T) {
	wait, person := Event{Kind: Waits, Waiting: Signer}, Event{Kind: Waits, Waiting: Person}
	for name, c := range map[string]struct {
		from   Stage
		events []Event
		want   string // the end of the trail
	}{
		"the signer takes his time": {Sign, []Event{wait, {Kind: Arrived}},
			"sign/waiting/ gate/running/carry"},
		"what arrives twice is taken once": {Sign, []Event{wait, {Kind: Arrived}, {Kind: Arrived}},
			"gate/running/carry impossible"},
		"the way back is proven": {Prove, []Event{{Kind: Failed}, {Kind: Restored}},
			"prove/running/put-back prove/reverted/"},
		"the way back fails, is mended and goes on": {Prove,
			[]Event{{Kind: Failed}, {Kind: Failed, Why: "unreachable"}, {Kind: AskedResume}},
			"prove/held/ prove/running/put-back"},
		"a lost step is left to a person": {Activate, []Event{{Kind: Unknown}, {Kind: AskedRevert}},
			"activate/held/ activate/running/put-back"},
		"cancelled while it waits": {Sign, []Event{wait, {Kind: AskedCancel}, {Kind: ClearedAway}},
			"sign/running/clear-away sign/cancelled/"},
		"cancelled before anything changed": {Backup,
			[]Event{{Kind: AskedCancel}, {Kind: Done}, {Kind: NotClearable, Why: "unreachable"}},
			"backup/running/ backup/running/clear-away backup/cancelled/"},
		"cancelled when the device is changed": {Install,
			[]Event{{Kind: AskedCancel}, {Kind: Done}, {Kind: Restored}}, "install/running/ " +
				"install/running/put-back install/reverted/"},
		"cancelled while the request fails": {Request, []Event{{Kind: AskedCancel}, {Kind: Failed}},
			"request/running/ request/running/clear-away"},
		"killed and started again": {Install, []Event{{Kind: Interrupted}}, "install/running/carry"},
		"killed on the way back": {Install, []Event{{Kind: Failed}, {Kind: Interrupted}},
			"install/running/put-back install/running/put-back"},
		"held at the beginning and tried again": {Survey, []Event{{Kind: Failed}, {Kind: AskedResume}},
			"survey/held/ survey/running/carry"},
		"reverted after it was sealed": {Seal,
			[]Event{{Kind: Done}, {Kind: AskedRevert}, {Kind: Restored}}, "seal/sealed/ seal/running/put-back " +
				"seal/reverted/"},
		"a person helps to clear it away": {Sign, []Event{wait, {Kind: AskedCancel}, {Kind: ClearWaits},
			{Kind: Arrived}, {Kind: ClearedAway}}, "sign/running/clear-away sign/waiting/ sign/running/clear-away " +
			"sign/cancelled/"},
		"nothing revives what is over": {Sign, []Event{wait, {Kind: AskedCancel}, {Kind: ClearedAway},
			{Kind: AskedResume}, {Kind: Arrived}}, "sign/cancelled/ impossible impossible"},
		"a person does one step of a stage": {Install, []Event{person, {Kind: Arrived}, {Kind: Done}},
			"install/waiting/ install/running/carry trial/running/carry"},
		"a person puts back by hand": {Activate, []Event{{Kind: Failed}, person, {Kind: Arrived},
			{Kind: Restored}}, "activate/running/put-back activate/waiting/ activate/running/put-back " +
			"activate/reverted/"},
		"the domain is proven first": {Sign, []Event{wait, {Kind: WantsProof}, {Kind: Proven},
			{Kind: Arrived}}, "sign/waiting/ sign/waiting/ sign/waiting/ gate/running/carry"},
		"signed before the proof was told": {Sign, []Event{wait, {Kind: WantsProof}, {Kind: Arrived}},
			"sign/waiting/ gate/running/carry"},
		"asked again with another request": {Sign, []Event{wait, {Kind: AskedAgain}, {Kind: Done}},
			"sign/waiting/ request/running/carry sign/running/carry"},
		"not asked again once it is signed": {Gate,
			[]Event{{Kind: Waits, Waiting: Approval}, {Kind: AskedAgain}}, "gate/waiting/ impossible"},
		"nobody does the step": {Install, []Event{person, {Kind: Expired}, {Kind: AskedResume}},
			"install/waiting/ install/held/ install/running/carry"},
		"reverted while a person is waited for": {Activate, []Event{person, {Kind: AskedRevert}},
			"activate/waiting/ activate/running/put-back"},
		"no revert where nothing was changed": {Sign, []Event{wait, {Kind: AskedRevert}},
			"sign/waiting/ impossible"},
	} {
		if _, trail := play(t, append(until(c.from), c.events...)...); !strings.HasSuffix(trail, c.want) {
			t.Errorf("%s: %s", name, trail)
		}
	}
}

// Whatever happens in whatever order, a replacement that has ended stays over,
// and one that runs always has an action or waits for the one in hand.
func FuzzOn(f *testing.F) {
	f.Add([]byte{0, 1, 1, 2, 3})
	kinds := []EventKind{Begun, Done, Waits, Arrived, Failed, Unknown, Restored, AskedCancel, AskedRevert,
		AskedResume, Interrupted, ClearedAway, NotClearable, ClearWaits, Expired, WantsProof, Proven, AskedAgain}
	f.Fuzz(func(t *testing.T, choices []byte) {
		var p Progress
		for _, c := range choices {
			before := p
			next, action, err := p.On(Event{Kind: kinds[int(c)%len(kinds)], Why: "x",
				Waiting: []WaitingFor{Signer, Person}[c>>7]})
			if err != nil {
				continue
			}
			p = next
			if before.State.Over() && p.State.Over() && before != p {
				t.Fatalf("%+v became %+v", before, p)
			}
			if action != Nothing && p.State != Running {
				t.Fatalf("%s for a replacement that is %s", action, p.State)
			}
			if p.State == Cancelled && p.Touched() {
				t.Fatalf("cancelled and left changed: %+v", p)
			}
		}
	})
}
