package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/core/judgement/judge"
	"freshseal/core/language/look"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/store"
)

// sights tells the runner what a device serves, compared with what it served before.
type sights struct {
	s     wires
	j     *Job
	stood []store.Stood
	new   *cert.Certificate
	old   look.Identity
}

// Sights loads what the slots of a job served before, as far as it was read already.
func (s wires) Sights(ctx context.Context, j *Job) (*sights, error) {
	stood, err := s.store.Replacements.Stood(ctx, j.ID)
	out := &sights{s: s, j: j, stood: stood}
	if err != nil {
		return out, err
	}
	if out.new, err = s.certificate(ctx, j.NewSHA256); err != nil {
		return out, err
	}
	old, err := s.certificate(ctx, j.OldSHA256)
	out.old = look.Of(old)
	return out, err
}

// Look reads all addresses of a job's slots, and loads what they served before.
func (s wires) Look(ctx context.Context, j *Job) (*sights, []Served, error) {
	w, err := s.Sights(ctx, j)
	if err != nil {
		return w, nil, err
	}
	all, err := s.serves(ctx, j.Targets, w.new)
	return w, all, err
}

// certificate returns the certificate with a fingerprint, nil if that is empty or unknown.
func (s wires) certificate(ctx context.Context, sha256 string) (*cert.Certificate, error) {
	if sha256 == "" {
		return nil, nil
	}
	found, err := s.store.Chains.Certificates(ctx, []string{sha256})
	if errors.Is(err, store.ErrNotFound) || err == nil && len(found) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return found[0], nil
}

// Served is what one address of a slot serves.
type Served struct {
	Slot   store.Target
	Place  judge.Other
	First  bool   // of its slot: the one that the slot is listed under
	SHA256 string // empty: it cannot be read
	none   bool   // it serves no TLS at all
	Said   string // the certificate for people, or why it cannot be read
}

// serves reads all addresses of all slots of a replacement.
func (s wires) serves(ctx context.Context, targets []store.Target, new *cert.Certificate) ([]Served, error) {
	var out []Served
	for _, t := range targets {
		sight, err := s.monitor.Read(ctx, t.Slot)
		if err != nil {
			return nil, err
		}
		for i, at := range monitor.Places(t.Slot.ToRead()) {
			one := Served{Slot: t, Place: at, First: i == 0}
			switch leaf := sight.Leaf(); {
			case i > 0:
				o := sight.Others[i-1]
				one.SHA256, one.Said = o.SHA256, o.Subject
				if o.Failure != nil {
					one.SHA256, one.Said, one.none = "", o.Failure.What, o.Failure.NoTLS()
				}
			case leaf == nil:
				one.Said, one.none = sight.Why.What, sight.Why.NoTLS()
			default:
				one.SHA256, one.Said = leaf.SHA256, leaf.ShortName()
				if seen, err := s.servesAs(ctx, t, leaf, new); err != nil {
					return nil, err
				} else if seen {
					one.SHA256, one.Said = new.SHA256, new.ShortName()
				}
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// servesAs reports whether a slot serves the new certificate to clients of its key type, although it serves another one
// to usual clients.
func (s wires) servesAs(ctx context.Context, t store.Target, leaf, new *cert.Certificate) (bool, error) {
	if new == nil || leaf.SHA256 == new.SHA256 {
		return false, nil
	}
	kind, _ := new.KeySize()
	if served, _ := leaf.KeySize(); kind == served || kind != cert.RSA && kind != cert.ECDSA {
		return false, nil
	}
	as, err := s.monitor.ReadAs(ctx, t.Slot, kind)
	if err != nil || as.Leaf() == nil {
		return false, err
	}
	return as.Leaf().SHA256 == new.SHA256, nil
}

// stands returns what is recorded of an address: the SHA-256 of its leaf, that there is no TLS, or nothing if it cannot
// be read.
func (v Served) stands() string {
	if v.none {
		return look.Nothing
	}
	return v.SHA256
}

// At returns the address and port that was read.
func (v Served) At() string {
	return store.Place{Address: v.Place.Address, Port: v.Place.Port}.String()
}

// Text describes for users what the address serves.
func (v Served) Text() string {
	if v.SHA256 == "" {
		return v.Said
	}
	return fmt.Sprintf("%s serves “%s” (SHA-256 %.16s…)", v.At(), v.Said, v.SHA256)
}

// knew reports whether it is known of every address what it served before the first change, even if that was no TLS.
func (w *sights) knew() bool {
	wire := 0
	for _, row := range w.stood {
		if row.Look == look.Wire {
			if wire++; row.Value == "" {
				return false
			}
		}
	}
	return wire > 0
}

// stoodAt returns what an address served before. known reports whether it was read.
func (w *sights) stoodAt(slotID int64, place string) (sha256 string, known bool) {
	for _, row := range w.stood {
		if row.Look == look.Wire && row.SlotID == slotID && row.Place == place {
			return row.Value, true
		}
	}
	return "", false
}

// Place compares what an address serves with what it served before. For a replacement that an earlier version began,
// only the first address is known: whatever the others serve counts as before, unless it is the new certificate.
func (w *sights) Place(v Served) look.Place {
	p := look.Place{Serves: v.stands()}
	stood, known := w.stoodAt(v.Slot.ID, v.At())
	switch {
	case !v.First && v.SHA256 != "" && v.SHA256 == v.Slot.OldSHA256 &&
		slices.ContainsFunc(w.j.Box.Nodes.V, func(n store.Node) bool {
			return n.Address == v.Place.Address
		}) && !nodeByNode(w.j.Family.Steps):
		p.Stood = v.SHA256 // a node that had its own before gets the restored one from the device
	case known:
		p.Stood = stood
	case v.First:
		p.Stood = v.Slot.OldSHA256
	case v.SHA256 != w.j.NewSHA256:
		p.Stood = v.SHA256
	}
	return p
}

// nodeByNode reports whether any step works on each node separately, so that each gets back its own certificate.
func nodeByNode(sections map[procedure.Section][]procedure.Step) bool {
	for _, steps := range sections {
		if slices.ContainsFunc(steps, func(step procedure.Step) bool { return step.Each == "nodes" }) {
			return true
		}
	}
	return false
}

// Wire implements device.Sights.
func (w *sights) Wire(ctx context.Context, node string) (look.Word, string, error) {
	all, err := w.s.serves(ctx, w.j.Targets, w.new)
	if err != nil {
		return look.Unknown, "", err
	}
	var places []look.Place
	var said []string
	for _, v := range all {
		if node != "" && v.Place.Address != node {
			continue
		}
		place := w.Place(v)
		places = append(places, place)
		if word := place.Word(w.j.NewSHA256); word != look.Before {
			said = append(said, w.said(v, word))
		}
	}
	word := look.OnWire(places, w.j.NewSHA256)
	if word == look.Before {
		return word, "what stood before is served", nil
	}
	return word, strings.Join(said, "; "), nil
}

func (w *sights) said(v Served, word look.Word) string {
	text := v.Text()
	if len(w.j.Targets) > 1 {
		text = "slot " + v.Slot.Name + ": " + text
	}
	switch word {
	case look.New:
		return text + ", the new leaf"
	case look.Other:
		return text + " instead of the old leaf"
	}
	return text
}

// Told implements device.Sights.
func (w *sights) Told(name, text string) look.Word {
	stood := ""
	for _, row := range w.stood {
		if row.Look == look.Now { // next and previous are compared with what was in use
			stood = row.Value
		}
	}
	return look.Told(text, stood, w.old, look.Of(w.new))
}

// lookBefore reads the state directly before the first change: every address, and what the device says. If it is not
// what was surveyed, or something is staged already, the replacement is held with nothing touched. done reports that
// everything is new already.
func (w *visit) lookBefore(ctx context.Context) (done bool, err error) {
	seen, all, err := w.Look(ctx, w.j)
	if err != nil {
		return false, err
	}
	rows, differs, new := []store.Stood{}, "", w.j.NewSHA256 != ""
	for _, v := range all {
		new = new && v.SHA256 == w.j.NewSHA256
		before, known := seen.stoodAt(v.Slot.ID, v.At())
		if !known && v.First {
			before, known = v.Slot.OldSHA256, v.Slot.OldSHA256 != ""
		}
		switch {
		case v.SHA256 == "" && !w.j.Unseen:
			return false, fmt.Errorf("%s cannot be read, so a way back could not be proven: %s; nothing was touched",
				v.At(), strings.TrimSuffix(v.Said, "."))
		case known && before != "" && before != v.stands():
			differs = cmp.Or(differs, fmt.Sprintf("%s, and what was surveyed is another one (SHA-256 %.16s…)",
				v.Text(), before))
		}
		rows = append(rows, store.Stood{SlotID: v.Slot.ID, Look: look.Wire, Place: v.At(), Value: v.stands()})
	}
	if new {
		return true, nil
	}
	told, err := w.Runner.Looks(ctx, w.j.Scope, true)
	if err != nil {
		return false, err
	}
	for name, value := range told {
		rows = append(rows, store.Stood{Look: name, Value: value})
	}
	if err := w.store.Replacements.SetStood(ctx, w.j.ID, rows); err != nil {
		return false, err
	}
	if now, next := look.Plain(told[look.Now]), look.Plain(told[look.Next]); now != "" && next != "" && now != next {
		return false, fmt.Errorf("another certificate is staged on the device already (%.16s…), and its next "+
			"restart would put that in use; discard it there, then resume. Nothing was touched", next)
	}
	if differs != "" {
		return false, errors.New(differs + "; somebody changed it meanwhile. Nothing was touched: resume to go on " +
			"from the current state, or cancel")
	}
	return false, w.recordOld(ctx, w.j, rows)
}

// recordOld records what the first address of each slot serves as its old certificate.
func (s *Service) recordOld(ctx context.Context, j *Job, rows []store.Stood) error {
	for i, t := range j.Targets {
		for _, row := range rows {
			if row.SlotID != t.ID {
				continue
			}
			if row.Value != "" && row.Value != look.Nothing && row.Value != t.OldSHA256 {
				if err := s.store.Replacements.SetOld(ctx, j.ID, t.ID, row.Value); err != nil {
					return err
				}
				if j.Targets[i].OldSHA256 = row.Value; t.ID == j.SlotID {
					j.OldSHA256 = row.Value
				}
			}
			break
		}
	}
	return nil
}

var _ device.Sights = (*sights)(nil)
