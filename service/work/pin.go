package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"freshseal/core/cert"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store"
)

// Pin is somebody who recorded something of a slot's certificate, and has to be told
// when it changes.
type Pin struct {
	ID      string    `json:"id" required:"true"`
	Device  string    `json:"device" required:"true"`
	Slot    string    `json:"slot" required:"true"`
	Who     string    `json:"who" required:"true"`
	What    cert.Pin  `json:"what" required:"true" enum:"sha256,sha1,key,certificate,root"`
	How     string    `json:"how" required:"true" description:"they are told"`
	Breaks  string    `json:"breaks" required:"true" description:"what happens to them at a replacement, until they are told"`
	AddedBy string    `json:"added_by" required:"true"`
	AddedAt time.Time `json:"added_at" required:"true"`
}

// NewPin describes a pin.
type NewPin struct {
	Device string   `json:"device" required:"true"`
	Slot   string   `json:"slot" required:"true"`
	Who    string   `json:"who" required:"true" description:"a system or a person, in a line"`
	What   cert.Pin `json:"what,omitempty" enum:"sha256,sha1,key,certificate,root" description:"what they recorded; where it is not said, sha256"`
	How    string   `json:"how" required:"true" description:"how they are told, such as whom to write to or where to enter it"`
}

// Telling is a task that stands after a replacement: somebody must be told what the
// slot serves now.
type Telling struct {
	ID          string     `json:"id" required:"true"`
	Replacement string     `json:"replacement" required:"true"`
	Device      string     `json:"device" required:"true"`
	Slot        string     `json:"slot" required:"true"`
	Who         string     `json:"who" required:"true"`
	What        cert.Pin   `json:"what" required:"true" enum:"sha256,sha1,key,certificate,root"`
	How         string     `json:"how" required:"true"`
	Old         string     `json:"old" required:"true" description:"what they recorded; empty where it was not known"`
	New         string     `json:"new" required:"true"`
	Subject     string     `json:"subject" required:"true" description:"of the new certificate, or of its root where the root is pinned"`
	NewSHA256   string     `json:"new_sha256" required:"true" description:"of that certificate"`
	AroseAt     time.Time  `json:"arose_at" required:"true"`
	ToldAt      *time.Time `json:"told_at,omitempty"`
	ToldBy      string     `json:"told_by,omitempty"`
	Note        string     `json:"note,omitempty"`
}

// mostPins bounds those of one slot.
const mostPins = 200

func pinID(n int64) string     { return "p" + strconv.FormatInt(n, 10) }
func tellingID(n int64) string { return "n" + strconv.FormatInt(n, 10) }

// AddPin records who pinned what of a slot.
func (s *Service) AddPin(ctx context.Context, n NewPin, by string) (Pin, error) {
	row, err := s.fleet.SlotRow(ctx, n.Device, n.Slot)
	if err != nil {
		return Pin{}, err
	}
	cannot := "the pin was not recorded"
	if n.What == "" {
		n.What = cert.PinSHA256
	}
	n.Who, n.How = strings.TrimSpace(n.Who), strings.TrimSpace(n.How)
	switch {
	case !oneLine(n.Who, 200):
		return Pin{}, problem.Reject(cannot, "who pinned it is not a line of up to 200 characters", "name the system or person", next.Give.On("who"))
	case n.How == "" || len(n.How) > 2000 || !utf8.ValidString(n.How):
		return Pin{}, problem.Reject(cannot, "how they are told is missing, or longer than 2000 characters", "write whom to tell and where", next.Give.On("how"))
	case !slices.Contains(cert.Pins, n.What):
		return Pin{}, problem.Reject(cannot, fmt.Sprintf("%q is not something that can be pinned", n.What), "give sha256, sha1, key, certificate or root", next.Give.On("what"))
	}
	known, err := s.store.Pins(ctx, row.ID)
	if err != nil {
		return Pin{}, err
	}
	if len(known) >= mostPins {
		return Pin{}, problem.Reject(cannot, fmt.Sprintf("the slot has %d pins", mostPins), "remove those that are not needed")
	}
	id, err := s.store.AddPin(ctx, store.Pin{SlotID: row.ID, Who: n.Who, What: n.What, How: n.How, AddedBy: by, AddedAt: s.moment()})
	if errors.Is(err, store.ErrTaken) {
		return Pin{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("%s has pinned the %s of %s/%s already", n.Who, n.What, n.Device, n.Slot), "remove that pin first, to change it")
	}
	if err != nil {
		return Pin{}, err
	}
	made, err := s.store.Pin(ctx, id)
	return showPin(made), err
}

func oneLine(text string, most int) bool {
	return text != "" && utf8.ValidString(text) && utf8.RuneCountInString(text) <= most && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}

// Pins are those of a slot, or of all slots where none is named.
func (s *Service) Pins(ctx context.Context, device, slot string) ([]Pin, error) {
	slots := []int64{}
	if device != "" || slot != "" {
		row, err := s.fleet.SlotRow(ctx, device, slot)
		if err != nil {
			return nil, err
		}
		slots = append(slots, row.ID)
	}
	return s.pinsOf(ctx, slots...)
}

func (s *Service) pinsOf(ctx context.Context, slots ...int64) ([]Pin, error) {
	rows, err := s.store.Pins(ctx, slots...)
	out := make([]Pin, 0, len(rows))
	for _, row := range rows {
		out = append(out, showPin(row))
	}
	return out, err
}

func showPin(p store.Pin) Pin {
	return Pin{ID: pinID(p.ID), Device: p.Device, Slot: p.Slot, Who: p.Who, What: p.What, How: p.How, Breaks: p.What.Breaks(), AddedBy: p.AddedBy, AddedAt: p.AddedAt.Time}
}

// RemovePin deletes a pin. What is still to be told of an earlier change stays.
func (s *Service) RemovePin(ctx context.Context, id string) error {
	n, err := numbered("p", id)
	if err == nil {
		err = s.store.RemovePin(ctx, n)
	}
	return problem.Missing(err, next.ListPins, "no pin is called %q", id)
}

// Tellings are those that are open, oldest first; of one replacement all of them.
func (s *Service) Tellings(ctx context.Context, of string) ([]Telling, error) {
	id, err := taskFilter(of)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Tellings(ctx, id)
	if err != nil {
		return nil, err
	}
	out := make([]Telling, 0, len(rows))
	for _, row := range rows {
		shown, err := s.showTelling(ctx, row)
		if err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

func (s *Service) showTelling(ctx context.Context, t store.Telling) (Telling, error) {
	out := Telling{ID: tellingID(t.ID), Replacement: replacement.Name(t.ReplacementID), Device: t.Device, Slot: t.Slot, Who: t.Who, What: t.What, How: t.How, AroseAt: t.AroseAt.Time, ToldBy: t.ToldBy, Note: t.Note}
	if !t.ToldAt.IsZero() {
		out.ToldAt = &t.ToldAt.Time
	}
	for sha256, to := range map[string]*string{t.OldSHA256: &out.Old, t.NewSHA256: &out.New} {
		if sha256 == "" {
			continue
		}
		found, err := s.store.Certificates(ctx, []string{sha256})
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

// Told records that somebody was told, and how where a note says so.
func (s *Service) Told(ctx context.Context, id, note, by string) (Telling, error) {
	n, err := numbered("n", id)
	if err != nil {
		return Telling{}, problem.Missing(err, next.ListTasks, "nobody is to be told as %q", id)
	}
	row, err := s.store.Telling(ctx, n)
	if err != nil {
		return Telling{}, problem.Missing(err, next.ListTasks, "nobody is to be told as %q", id)
	}
	if note = strings.TrimSpace(note); len(note) > 2000 || !utf8.ValidString(note) {
		return Telling{}, problem.Reject("it was not recorded", "the note is longer than 2000 characters", "shorten it")
	}
	err = s.store.SetTold(ctx, n, by, note, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Telling{}, problem.New(problem.Conflict, id+" is over", fmt.Sprintf("%s was told by %s already, or of a later change", row.Who, dashed(row.ToldBy)), "", next.ListTasks.On(""))
	}
	if err != nil {
		return Telling{}, err
	}
	if row, err = s.store.Telling(ctx, n); err != nil {
		return Telling{}, err
	}
	if err := s.toldRoot(ctx, row.ReplacementID); err != nil {
		return Telling{}, err
	}
	return s.showTelling(ctx, row)
}

func dashed(name string) string {
	if name == "" {
		return "nobody"
	}
	return name
}

// numbered reads an id of a letter and a number; anything else is ErrNotFound.
func numbered(letter, id string) (int64, error) {
	digits, ok := strings.CutPrefix(id, letter)
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		return 0, store.ErrNotFound
	}
	return n, nil
}
