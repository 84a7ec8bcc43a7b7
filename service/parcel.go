package service

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"freshseal/core/due"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/signer"
	"freshseal/store"
)

// Parcel is a bundle of requests that went out to a signer.
type Parcel struct {
	ID       string    `json:"id" required:"true"`
	Signer   string    `json:"signer" required:"true"`
	PackedAt time.Time `json:"packed_at" required:"true"`
	PackedBy string    `json:"packed_by" required:"true"`
	Requests int       `json:"requests" required:"true"`
	Open     int       `json:"open" required:"true"`

	State     string     `json:"state" required:"true" enum:"packed,handed-over,partly-back,complete"`
	HandedTo  string     `json:"handed_to,omitempty"`
	Reference string     `json:"reference,omitempty" description:"the signer's number for it"`
	HandedAt  *time.Time `json:"handed_at,omitempty"`
	BackBy    *time.Time `json:"back_by,omitempty" description:"when the signer should have answered, working days counted"`
	Late      bool       `json:"late" required:"true" description:"that time is over and something is not back"`
	Obsolete  int        `json:"obsolete" required:"true" description:"requests of it that were asked for anew since"`
	Reminder  string     `json:"reminder,omitempty" description:"what to do about what is late"`
}

func parcelText(id int64) string { return "p" + strconv.FormatInt(id, 10) }

func (s *Service) showParcel(ctx context.Context, p store.Parcel) (Parcel, error) {
	signer, err := s.signer(ctx, p.Signer)
	if known := (*Error)(nil); err != nil && !errors.As(err, &known) { // it may have been removed since
		return Parcel{}, err
	}
	return s.parcelOf(p, signer), nil
}

// parcelOf shows a parcel that went to a signer.
func (s *Service) parcelOf(p store.Parcel, signer Signer) Parcel {
	out := Parcel{ID: parcelText(p.ID), Signer: p.Signer, PackedAt: p.PackedAt.Time, PackedBy: p.PackedBy, Requests: p.Requests, Open: p.Open, Obsolete: p.Obsolete,
		State: "packed", HandedTo: p.HandedTo, Reference: p.Reference}
	if !p.HandedAt.IsZero() {
		out.State, out.HandedAt = "handed-over", &p.HandedAt.Time
		if signer.TurnaroundDays > 0 {
			back := due.WorkingDays(p.HandedAt.Time, signer.TurnaroundDays)
			out.BackBy, out.Late = &back, p.Open > 0 && s.now().After(back)
		}
		if out.Late {
			out.Reminder = fmt.Sprintf("it was due back on %s: ask %s", out.BackBy.Format(time.DateOnly), p.HandedTo)
			if signer.Contact != "" && signer.Contact != p.HandedTo {
				out.Reminder += " (" + signer.Contact + ")"
			}
			if p.Reference != "" {
				out.Reminder += ", reference " + p.Reference
			}
		}
	}
	switch {
	case p.Open == 0:
		out.State = "complete"
	case p.Open < p.Requests:
		out.State = "partly-back"
	}
	return out
}

// PackParcel bundles the requests that wait for this signer and are in no
// parcel yet.
func (s *Service) PackParcel(ctx context.Context, signerName, by string) (Parcel, error) {
	signer, err := s.signer(ctx, signerName)
	if err != nil {
		return Parcel{}, err
	}
	if signer.Kind != DeskSigner {
		return Parcel{}, invalid("no parcel was packed", fmt.Sprintf("%s takes no parcels: it signs at once", signerName), "give --signer desk")
	}
	id, _, err := s.store.AddParcel(ctx, signerName, by, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Parcel{}, &Error{Conflict, "no parcel was packed", "no request waits for this signer that is not in a parcel already", "see: freshseal parcel list; an earlier one can be had again with parcel get"}
	}
	if err != nil {
		return Parcel{}, err
	}
	p, _, err := s.store.Parcel(ctx, id)
	if err != nil {
		return Parcel{}, err
	}
	return s.showParcel(ctx, p)
}

// Parcels are all parcels, newest first.
func (s *Service) Parcels(ctx context.Context) ([]Parcel, error) {
	rows, err := s.store.Parcels(ctx)
	if err != nil {
		return nil, err
	}
	signers, err := s.signersByName(ctx)
	out := make([]Parcel, 0, len(rows))
	for _, row := range rows {
		out = append(out, s.parcelOf(row, signers[row.Signer]))
	}
	return out, err
}

func (s *Service) parcelRow(ctx context.Context, id string) (store.Parcel, []store.Replacement, error) {
	digits, ok := strings.CutPrefix(id, "p")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		n = 0
	}
	p, packed, err := s.store.Parcel(ctx, n)
	return p, packed, notFound(err, "see: freshseal parcel list", "no parcel is called %q", id)
}

// ParcelArchive is the zip that goes to the signer; it can be had again.
func (s *Service) ParcelArchive(ctx context.Context, id string) ([]byte, error) {
	p, packed, err := s.parcelRow(ctx, id)
	if err != nil {
		return nil, err
	}
	var wish signer.Wish
	to, err := s.signer(ctx, p.Signer)
	if err == nil {
		wish = signer.Wish{Profile: to.Terms.Profile, Notes: to.Notes}
	}
	var errands []signer.Errand
	for _, r := range packed {
		made, err := request.Parse(r.Request)
		if err != nil {
			return nil, err
		}
		device, err := s.store.Device(ctx, r.Device)
		if err != nil {
			return nil, err
		}
		rules, err := s.rulesOf(ctx, r)
		if err != nil {
			return nil, err
		}
		errands = append(errands, signer.Errand{Replacement: idText(r.ID), Device: r.Device, Slot: r.Slot, Request: made, Days: rules.Lifetime(to.MaxDays, to.Terms.Public, s.now()), Notes: device.Notes})
	}
	return signer.Parcel(parcelText(p.ID), p.PackedAt.Time, wish, errands)
}

// Handover says to whom a parcel went.
type Handover struct {
	To        string `json:"to" required:"true"`
	Reference string `json:"reference,omitempty" description:"the signer's number for it"`
}

// HandOver records to whom a parcel went, and under which number.
func (s *Service) HandOver(ctx context.Context, id string, h Handover, by string) (Parcel, error) {
	row, _, err := s.parcelRow(ctx, id)
	if err != nil {
		return Parcel{}, err
	}
	if h.To = strings.TrimSpace(h.To); h.To == "" || len(h.To)+len(h.Reference) > 400 {
		return Parcel{}, invalid("nothing was recorded", "it is not said to whom the parcel went", "give a name, and the signer's number for it")
	}
	row.HandedTo, row.Reference, row.HandedBy, row.HandedAt = h.To, h.Reference, by, s.moment()
	if err := s.store.HandOver(ctx, row); err != nil {
		return Parcel{}, err
	}
	if err := s.seekProofs(ctx); err != nil {
		return Parcel{}, err
	}
	return s.showParcel(ctx, row)
}

// sayWhere adds to a replacement that waits for a signer where its request is.
func (s *Service) sayWhere(ctx context.Context, r *Replacement) error {
	row, _, err := s.parcelRow(ctx, r.Parcel)
	if err != nil {
		return err
	}
	p, err := s.showParcel(ctx, row)
	switch {
	case p.Late:
		r.Next = p.Reminder + "; then: freshseal intake FILE…"
	case p.BackBy != nil && r.WaitingFor == replacement.Signer:
		r.Next = fmt.Sprintf("%s has it, to be back by %s; then: freshseal intake FILE…", p.HandedTo, p.BackBy.Format(time.DateOnly))
	}
	return err
}
