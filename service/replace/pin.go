package replace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/replacement"
	"freshseal/service/engine"
	"freshseal/service/problem"
	"freshseal/store"
)

// mostPins bounds the pins of one slot.
const mostPins = 200

func pinUpdateID(n int64) string { return "n" + strconv.FormatInt(n, 10) }

// Add records who pinned what of a slot.
func (s *Pins) Add(ctx context.Context, n contract.NewPin, by string) (contract.Pin, error) {
	row, err := s.fleet.SlotRow(ctx, n.Device, n.Slot)
	if err != nil {
		return contract.Pin{}, err
	}
	cannot := "the pin was not recorded"
	if n.What == "" {
		n.What = cert.PinSHA256
	}
	n.Who, n.How = strings.TrimSpace(n.Who), strings.TrimSpace(n.How)
	switch {
	case !oneLine(n.Who, 200):
		return contract.Pin{}, problem.Reject(cannot, "who pinned it is not a line of up to 200 characters",
			"name the system or person", next.Give.On("who"))
	case n.How == "" || len(n.How) > 2000 || !utf8.ValidString(n.How):
		return contract.Pin{}, problem.Reject(cannot, "how they get the new one is missing, or longer than 2000 "+
			"characters", "write whom to inform, or where to enter it", next.Give.On("how"))
	case !slices.Contains(cert.Pins, n.What):
		return contract.Pin{}, problem.Reject(cannot, fmt.Sprintf("%q is not something that can be pinned", n.What),
			"give sha256, sha1, key, certificate or root", next.Give.On("what"))
	}
	known, err := s.store.Pins.List(ctx, row.ID)
	if err != nil {
		return contract.Pin{}, err
	}
	if len(known) >= mostPins {
		return contract.Pin{}, problem.Reject(cannot, fmt.Sprintf("the slot has %d pins", mostPins),
			"remove those that are not needed")
	}
	id, err := s.store.Pins.Add(ctx, store.Pin{SlotID: row.ID, Who: n.Who, What: n.What, How: n.How, AddedBy: by,
		AddedAt: s.moment()})
	if errors.Is(err, store.ErrTaken) {
		return contract.Pin{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("%s has pinned the %s of "+
			"%s/%s already", n.Who, n.What, n.Device, n.Slot), "remove that pin first, to change it")
	}
	if err != nil {
		return contract.Pin{}, err
	}
	made, err := s.store.Pins.Get(ctx, id)
	return engine.ShowPin(made), err
}

func oneLine(text string, most int) bool {
	return text != "" && utf8.ValidString(text) && utf8.RuneCountInString(text) <= most &&
		!strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// List returns the pins of a slot, or of all slots if none is named.
func (s *Pins) List(ctx context.Context, device, slot string) ([]contract.Pin, error) {
	slots := []int64{}
	if device != "" || slot != "" {
		row, err := s.fleet.SlotRow(ctx, device, slot)
		if err != nil {
			return nil, err
		}
		slots = append(slots, row.ID)
	}
	return s.PinsOf(ctx, slots...)
}

// Remove deletes a pin. Pending updates of earlier changes stay.
func (s *Pins) Remove(ctx context.Context, id string) error {
	n, err := numbered("p", id)
	if err == nil {
		err = s.store.Pins.Remove(ctx, n)
	}
	return problem.Missing(err, next.ListPins, "no pin is called %q", id)
}

// Updates returns the open updates, oldest first; of one replacement all of them.
func (s *Pins) Updates(ctx context.Context, of string) ([]contract.PinUpdate, error) {
	id, err := taskFilter(of)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Pins.Updates(ctx, id)
	if err != nil {
		return nil, err
	}
	out := make([]contract.PinUpdate, 0, len(rows))
	for _, row := range rows {
		shown, err := s.showPinUpdate(ctx, row)
		if err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

func (s *Pins) showPinUpdate(ctx context.Context, t store.PinUpdate) (contract.PinUpdate, error) {
	out := contract.PinUpdate{ID: pinUpdateID(t.ID), Replacement: replacement.Name(t.ReplacementID), Device: t.Device,
		Slot: t.Slot, Who: t.Who, What: t.What, How: t.How, AroseAt: t.AroseAt.Time, ConfirmedBy: t.ConfirmedBy,
		Note: t.Note}
	if !t.ConfirmedAt.IsZero() {
		out.ConfirmedAt = &t.ConfirmedAt.Time
	}
	for sha256, to := range map[string]*string{t.OldSHA256: &out.Old, t.NewSHA256: &out.New} {
		if sha256 == "" {
			continue
		}
		found, err := s.store.Chains.Certificates(ctx, []string{sha256})
		if err != nil {
			return out, err
		}
		*to = t.What.Of(found[0])
		if sha256 == t.NewSHA256 {
			out.Subject, out.NewSHA256 = found[0].Subject(), sha256
		}
	}
	return out, nil
}

// Confirm records that a pin was updated, with an optional note.
func (s *Pins) Confirm(ctx context.Context, id, note, by string) (contract.PinUpdate, error) {
	n, err := numbered("n", id)
	if err != nil {
		return contract.PinUpdate{}, problem.Missing(err, next.ListTasks, "no pending pin is called %q", id)
	}
	row, err := s.store.Pins.Update(ctx, n)
	if err != nil {
		return contract.PinUpdate{}, problem.Missing(err, next.ListTasks, "no pending pin is called %q", id)
	}
	if note = strings.TrimSpace(note); len(note) > 2000 || !utf8.ValidString(note) {
		return contract.PinUpdate{}, problem.Reject("it was not recorded", "the note is longer than 2000 characters",
			"shorten it")
	}
	err = s.store.Pins.Confirm(ctx, n, by, note, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return contract.PinUpdate{},
			problem.New(problem.Conflict, id+" is over", fmt.Sprintf("%s was confirmed by %s already, or by a "+
				"later change", row.Who, dashed(row.ConfirmedBy)), "", next.ListTasks.On(""))
	}
	if err != nil {
		return contract.PinUpdate{}, err
	}
	if row, err = s.store.Pins.Update(ctx, n); err != nil {
		return contract.PinUpdate{}, err
	}
	if err := s.ToldRoot(ctx, row.ReplacementID); err != nil {
		return contract.PinUpdate{}, err
	}
	return s.showPinUpdate(ctx, row)
}

func dashed(name string) string {
	if name == "" {
		return "nobody"
	}
	return name
}

// numbered parses an id of a letter and a number. It returns ErrNotFound for anything else.
func numbered(letter, id string) (int64, error) {
	digits, ok := strings.CutPrefix(id, letter)
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		return 0, store.ErrNotFound
	}
	return n, nil
}
