package replace

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
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/store"
)

// sights tell the runner what a device serves, and compare it with what stood.
type sights struct {
	s     *Service
	j     *job
	stood []store.Stood
	new   *cert.Certificate
	old   look.Identity
}

// sights loads what stood of a job, as far as it was read already.
func (s *Service) sights(ctx context.Context, j *job) (*sights, error) {
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

// look reads all addresses of a job's slots, and loads what stood there.
func (s *Service) look(ctx context.Context, j *job) (*sights, []served, error) {
	w, err := s.sights(ctx, j)
	if err != nil {
		return w, nil, err
	}
	all, err := s.serves(ctx, j.targets, w.new)
	return w, all, err
}

// certificate is the one with a fingerprint; nil where that is empty or it is not known.
func (s *Service) certificate(ctx context.Context, sha256 string) (*cert.Certificate, error) {
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

// served is what one address of a slot serves.
type served struct {
	slot   store.Target
	place  judge.Other
	first  bool   // of its slot: the one that the slot is listed under
	sha256 string // empty: it cannot be read
	none   bool   // it serves no TLS at all
	said   string // the certificate for people, or why it cannot be read
}

// serves reads all addresses of all slots of a replacement.
func (s *Service) serves(ctx context.Context, targets []store.Target, new *cert.Certificate) ([]served, error) {
	var out []served
	for _, t := range targets {
		sight, err := s.monitor.Read(ctx, t.Slot)
		if err != nil {
			return nil, err
		}
		for i, at := range monitor.Places(t.Slot.ToRead()) {
			one := served{slot: t, place: at, first: i == 0}
			switch leaf := sight.Leaf(); {
			case i > 0:
				o := sight.Others[i-1]
				one.sha256, one.said = o.SHA256, o.Subject
				if o.Failure != nil {
					one.sha256, one.said, one.none = "", o.Failure.What, o.Failure.NoTLS()
				}
			case leaf == nil:
				one.said, one.none = sight.Why.What, sight.Why.NoTLS()
			default:
				one.sha256, one.said = leaf.SHA256, leaf.ShortName()
				if seen, err := s.servesAs(ctx, t, leaf, new); err != nil {
					return nil, err
				} else if seen {
					one.sha256, one.said = new.SHA256, new.ShortName()
				}
			}
			out = append(out, one)
		}
	}
	return out, nil
}

// servesAs reports whether a slot serves the new certificate to clients of its kind of key, although it serves another
// one to usual clients.
func (s *Service) servesAs(ctx context.Context, t store.Target, leaf, new *cert.Certificate) (bool, error) {
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

// stands is what is noted of an address: the SHA-256 of its leaf, that there is no TLS, or nothing where it cannot be
// read.
func (v served) stands() string {
	if v.none {
		return look.Nothing
	}
	return v.sha256
}

func (v served) at() string {
	return store.Place{Address: v.place.Address, Port: v.place.Port}.String()
}

// text says for people what the address serves.
func (v served) text() string {
	if v.sha256 == "" {
		return v.said
	}
	return fmt.Sprintf("%s serves “%s” (SHA-256 %.16s…)", v.at(), v.said, v.sha256)
}

// knew reports whether it is known of every address what it served before the first change, be it no TLS at all.
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

// stoodAt is what an address served before; known says that it was looked at.
func (w *sights) stoodAt(slotID int64, place string) (sha256 string, known bool) {
	for _, row := range w.stood {
		if row.Look == look.Wire && row.SlotID == slotID && row.Place == place {
			return row.Value, true
		}
	}
	return "", false
}

// place compares what an address serves with what it served before. Of a replacement that an earlier program began,
// only the first address is known: whatever the others serve counts as before, unless it is the new certificate.
func (w *sights) place(v served) look.Place {
	p := look.Place{Serves: v.stands()}
	stood, known := w.stoodAt(v.slot.ID, v.at())
	switch {
	case !v.first && v.sha256 != "" && v.sha256 == v.slot.OldSHA256 &&
		slices.ContainsFunc(w.j.device.Nodes.V, func(n store.Node) bool {
			return n.Address == v.place.Address
		}) && !nodeByNode(w.j.procedure.Steps):
		p.Stood = v.sha256 // a node that had its own before gets the restored one from the device
	case known:
		p.Stood = stood
	case v.first:
		p.Stood = v.slot.OldSHA256
	case v.sha256 != w.j.NewSHA256:
		p.Stood = v.sha256
	}
	return p
}

// nodeByNode reports whether any step works on each node by itself, so that each gets back its own.
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
	all, err := w.s.serves(ctx, w.j.targets, w.new)
	if err != nil {
		return look.Unknown, "", err
	}
	var places []look.Place
	var said []string
	for _, v := range all {
		if node != "" && v.place.Address != node {
			continue
		}
		place := w.place(v)
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

func (w *sights) said(v served, word look.Word) string {
	text := v.text()
	if len(w.j.targets) > 1 {
		text = "slot " + v.slot.Name + ": " + text
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

// lookBefore reads what stands directly before the first change: every address, and what the device says. It is held
// where that is not what was surveyed, or where something is staged already; nothing was touched then. done says that
// everything is new already.
func (s *Service) lookBefore(ctx context.Context, j *job, runner *device.Runner) (done bool, err error) {
	w, all, err := s.look(ctx, j)
	if err != nil {
		return false, err
	}
	rows, differs, new := []store.Stood{}, "", j.NewSHA256 != ""
	for _, v := range all {
		new = new && v.sha256 == j.NewSHA256
		before, known := w.stoodAt(v.slot.ID, v.at())
		if !known && v.first {
			before, known = v.slot.OldSHA256, v.slot.OldSHA256 != ""
		}
		switch {
		case v.sha256 == "" && !j.Unseen:
			return false, fmt.Errorf("%s cannot be read, so a way back could not be proven: %s; nothing was touched",
				v.at(), strings.TrimSuffix(v.said, "."))
		case known && before != "" && before != v.stands():
			differs = cmp.Or(differs, fmt.Sprintf("%s, and what was surveyed is another one (SHA-256 %.16s…)",
				v.text(), before))
		}
		rows = append(rows, store.Stood{SlotID: v.slot.ID, Look: look.Wire, Place: v.at(), Value: v.stands()})
	}
	if new {
		return true, nil
	}
	told, err := runner.Looks(ctx, j.scope, true)
	if err != nil {
		return false, err
	}
	for name, value := range told {
		rows = append(rows, store.Stood{Look: name, Value: value})
	}
	if err := s.store.Replacements.SetStood(ctx, j.ID, rows); err != nil {
		return false, err
	}
	if now, next := look.Plain(told[look.Now]), look.Plain(told[look.Next]); now != "" && next != "" && now != next {
		return false, fmt.Errorf("another certificate is staged on the device already (%.16s…), and its next "+
			"restart would put that in use; discard it there, then resume. Nothing was touched", next)
	}
	if differs != "" {
		return false, errors.New(differs + "; somebody changed it meanwhile. Nothing was touched: resume to go on " +
			"from what stands now, or cancel")
	}
	return false, s.recordOld(ctx, j, rows)
}

// recordOld takes what the first address of each slot serves for the old certificate of it.
func (s *Service) recordOld(ctx context.Context, j *job, rows []store.Stood) error {
	for i, t := range j.targets {
		for _, row := range rows {
			if row.SlotID != t.ID {
				continue
			}
			if row.Value != "" && row.Value != look.Nothing && row.Value != t.OldSHA256 {
				if err := s.store.Replacements.SetOld(ctx, j.ID, t.ID, row.Value); err != nil {
					return err
				}
				if j.targets[i].OldSHA256 = row.Value; t.ID == j.SlotID {
					j.OldSHA256 = row.Value
				}
			}
			break
		}
	}
	return nil
}

// closings are the ways in which a person can end a held replacement, by what the wire shows: closing as old or new
// needs every address to serve it.
func closings(id string, words []look.Word) []next.Action {
	all := func(want look.Word) bool {
		for _, word := range words {
			if word != want {
				return false
			}
		}
		return len(words) > 0
	}
	switch {
	case all(look.New):
		return []next.Action{next.CloseNew.On(id)}
	case all(look.Before):
		return []next.Action{next.CloseOld.On(id)}
	}
	return []next.Action{next.CloseNeither.On(id)}
}

var _ device.Sights = (*sights)(nil)
