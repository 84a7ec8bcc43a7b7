package engine

import (
	"testing"

	"freshseal/core/judgement/judge"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/store"
)

// What an address serves after the way back is compared with what it served before. A node that had a certificate of
// its own gets the restored one from its device when that synchronises; where a step works on each node by itself,
// and for any address that is no node, that is not as it was.
func TestWhatAnAddressServesAfterTheWayBack(t *testing.T) {
	const old, own, new, third = "0ld", "0wn", "new", "third"
	target := store.Target{Slot: store.Slot{ID: 7}, OldSHA256: old}
	each := procedure.Step{Each: "nodes"}
	for about, c := range map[string]struct {
		address, serves string
		first           bool
		steps           []procedure.Step
		want            look.Word
	}{
		"the device serves the old one":         {"192.0.2.1", old, true, nil, look.Before},
		"the device serves the new one":         {"192.0.2.1", new, true, nil, look.New},
		"the device serves the one of its node": {"192.0.2.1", own, true, nil, look.Other},
		"the node serves its own":               {"192.0.2.2", own, false, nil, look.Before},
		"the node was given the restored one":   {"192.0.2.2", old, false, nil, look.Before},
		"the node serves the new one":           {"192.0.2.2", new, false, nil, look.New},
		"the node serves a third one":           {"192.0.2.2", third, false, nil, look.Other},
		"the node cannot be read":               {"192.0.2.2", "", false, nil, look.Unknown},
		"the node is worked on by itself, and lost its own": {"192.0.2.2", old, false, []procedure.Step{each},
			look.Other},
		"the node is worked on by itself, and has its own": {"192.0.2.2", own, false, []procedure.Step{each},
			look.Before},
		"a further address that is no node lost what it had": {"192.0.2.3", old, false, nil, look.Other},
	} {
		j := &Job{Replacement: store.Replacement{NewSHA256: new}, Targets: []store.Target{target}}
		j.Box.Nodes.V = []store.Node{{Name: "second", Address: "192.0.2.2"}}
		j.Family.Steps = map[procedure.Section][]procedure.Step{procedure.Activate: c.steps}
		w := &sights{j: j}
		for place, value := range map[string]string{"192.0.2.1:443": old, "192.0.2.2:443": own, "192.0.2.3:443": own} {
			w.stood = append(w.stood, store.Stood{SlotID: 7, Look: look.Wire, Place: place, Value: value})
		}
		v := Served{Slot: target, Place: judge.Other{Address: c.address, Port: 443}, SHA256: c.serves, First: c.first}
		if got := w.Place(v).Word(new); got != c.want {
			t.Errorf("%s: it reads %s, want %s", about, got, c.want)
		}
	}
}
