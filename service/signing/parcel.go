package signing

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/language/library"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/signer"
	"freshseal/store"
)

func ParcelName(id int64) string { return "p" + strconv.FormatInt(id, 10) }

func (s *Service) showParcel(ctx context.Context, p store.Parcel) (contract.Parcel, error) {
	signer, err := s.Signer(ctx, p.Signer)
	if known := (*problem.Error)(nil); err != nil && !errors.As(err, &known) { // it may have been removed since
		return contract.Parcel{}, err
	}
	return s.parcelOf(p, signer), nil
}

// parcelOf shows a parcel that went to a signer.
func (s *Service) parcelOf(p store.Parcel, signer contract.Signer) contract.Parcel {
	out := contract.Parcel{ID: ParcelName(p.ID), Signer: p.Signer, PackedAt: p.PackedAt.Time, PackedBy: p.PackedBy,
		Requests: p.Requests, Open: p.Open, Obsolete: p.Obsolete,
		State: "packed", HandedTo: p.HandedTo, Reference: p.Reference}
	if !p.HandedAt.IsZero() {
		out.State, out.HandedAt = "handed-over", &p.HandedAt.Time
		if signer.TurnaroundDays > 0 {
			back := due.WorkingDays(p.HandedAt.Time, signer.TurnaroundDays, nil)
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

// PackParcel bundles the requests that wait for this signer and are in no parcel yet, or only those of the named
// replacements.
func (s *Service) PackParcel(ctx context.Context, signerName string, only []string,
	by string) (contract.Parcel, error) {
	signer, err := s.Signer(ctx, signerName)
	if err != nil {
		return contract.Parcel{}, err
	}
	if signer.Kind != contract.DeskSigner {
		return contract.Parcel{}, problem.Reject("no parcel was packed", fmt.Sprintf("%s does not use parcels: it "+
			"signs at once", signerName), "name a signer that takes parcels, such as desk", next.Give.On("signer"))
	}
	var chosen []int64
	for _, name := range only {
		n, ok := replacement.Number(name)
		if !ok {
			return contract.Parcel{}, problem.Reject("no parcel was packed", fmt.Sprintf("no replacement is called %q",
				name), "name replacements such as r12", next.Give.On("replacements"))
		}
		if !slices.Contains(chosen, n) {
			chosen = append(chosen, n)
		}
	}
	id, _, err := s.store.Parcels.Add(ctx, signerName, by, s.moment(), chosen)
	if errors.Is(err, store.ErrTaken) {
		return contract.Parcel{}, problem.New(problem.Conflict, "no parcel was packed", "one of the chosen requests "+
			"does not wait for "+signerName+", or is in a parcel already", "choose among the pending requests")
	}
	if errors.Is(err, store.ErrNotFound) {
		return contract.Parcel{}, problem.New(problem.Conflict, "no parcel was packed", "this signer has no "+
			"pending request that is not in a parcel", "an earlier parcel can be downloaded again",
			next.ListParcels.On(""))
	}
	if err != nil {
		return contract.Parcel{}, err
	}
	p, _, err := s.store.Parcels.Get(ctx, id)
	if err != nil {
		return contract.Parcel{}, err
	}
	return s.showParcel(ctx, p)
}

// Parcels returns all parcels, newest first.
func (s *Service) Parcels(ctx context.Context, p paging.Page) ([]contract.Parcel, string, error) {
	p = p.NewestFirst()
	rows, next, err := s.store.Parcels.Page(ctx, p.Rows())
	if err != nil {
		return nil, "", p.Wrong(err)
	}
	out, err := s.showParcels(ctx, rows)
	return out, next, err
}

// CountParcels returns how many parcels there are.
func (s *Service) CountParcels(ctx context.Context) (int, error) {
	return s.store.Parcels.Count(ctx)
}

// LateParcels returns those whose answer is overdue.
func (s *Service) LateParcels(ctx context.Context) ([]contract.Parcel, error) {
	rows, err := s.store.Parcels.Open(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.showParcels(ctx, rows)
	return slices.DeleteFunc(out, func(p contract.Parcel) bool { return !p.Late }), err
}

func (s *Service) showParcels(ctx context.Context, rows []store.Parcel) ([]contract.Parcel, error) {
	signers, err := s.signersByName(ctx)
	out := make([]contract.Parcel, 0, len(rows))
	for _, row := range rows {
		out = append(out, s.parcelOf(row, signers[row.Signer]))
	}
	return out, err
}

// parcelNumber reads the name of a parcel; 0 if it is none.
func parcelNumber(name string) int64 {
	digits, ok := strings.CutPrefix(name, "p")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok || n < 0 {
		return 0
	}
	return n
}

// ParcelFilter returns the parcel by which replacements are filtered, as the store takes it.
func ParcelFilter(name string) (int64, error) {
	switch n := parcelNumber(name); {
	case name == "-":
		return store.NoParcel, nil
	case name != "" && n == 0:
		return 0, problem.Reject("the list cannot be filtered", fmt.Sprintf("no parcel is called %q", name),
			"give a parcel such as p3, or - for requests in no parcel")
	default:
		return n, nil
	}
}

func (s *Service) parcelRow(ctx context.Context, id string) (store.Parcel, []store.Replacement, error) {
	p, packed, err := s.store.Parcels.Get(ctx, parcelNumber(id))
	return p, packed, problem.Missing(err, next.ListParcels, "no parcel is called %q", id)
}

// ParcelArchive returns the zip archive for the signer; it can be downloaded again.
func (s *Service) ParcelArchive(ctx context.Context, id string) ([]byte, error) {
	p, packed, err := s.parcelRow(ctx, id)
	if err != nil {
		return nil, err
	}
	var wish signer.Wish
	to, err := s.Signer(ctx, p.Signer)
	if err == nil {
		wish = signer.Wish{Profile: to.Terms.Profile, Notes: to.Notes, Order: to.Order.Number}
		if to.Order.ApprovedBy != "" {
			wish.Order = strings.TrimPrefix(wish.Order+", approved by "+to.Order.ApprovedBy, ", ")
		}
	}
	var errands []signer.Errand
	for _, r := range packed {
		made, err := request.Parse(r.Request)
		if err != nil {
			return nil, err
		}
		device, err := s.store.Devices.Get(ctx, r.Device)
		if err != nil {
			return nil, err
		}
		rules, err := s.monitor.RulesOf(ctx, r)
		if err != nil {
			return nil, err
		}
		if root, err := s.needsRoot(ctx, r); err != nil {
			return nil, err
		} else if root {
			device.Notes = strings.TrimPrefix(device.Notes+"; the device needs the root too: please send its "+
				"certificate along", "; ")
		}
		errands = append(errands, signer.Errand{Replacement: replacement.Name(r.ID), Device: r.Device, Slot: r.Slot,
			Request: made, Days: rules.Lifetime(to.MaxDays, to.Terms.Public, s.now()), Notes: device.Notes})
	}
	return signer.Parcel(ParcelName(p.ID), p.PackedAt.Time, wish, errands)
}

// needsRoot reports whether the procedure of a replacement gives its device the root.
func (s *Service) needsRoot(ctx context.Context, r store.Replacement) (bool, error) {
	text, err := s.store.Replacements.ProcedureText(ctx, r.Procedure)
	if err != nil {
		return false, err
	}
	p, err := library.Read(text)
	return p.NeedsRoot(), err
}

// HandOver records to whom a parcel went, and under which number.
func (s *Service) HandOver(ctx context.Context, id string, h contract.Handover, by string) (contract.Parcel, error) {
	row, _, err := s.parcelRow(ctx, id)
	if err != nil {
		return contract.Parcel{}, err
	}
	if h.To = strings.TrimSpace(h.To); h.To == "" || len(h.To)+len(h.Reference) > 400 {
		return contract.Parcel{}, problem.Reject("nothing was recorded", "the recipient of the parcel is not given",
			"give a name, and the reference number of the signer")
	}
	row.HandedTo, row.Reference, row.HandedBy, row.HandedAt = h.To, h.Reference, by, s.moment()
	if err := s.store.Parcels.HandOver(ctx, row); err != nil {
		return contract.Parcel{}, err
	}
	if err := s.replacements.SeekProofs(ctx); err != nil {
		return contract.Parcel{}, err
	}
	return s.showParcel(ctx, row)
}

// Parcel shows one parcel.
func (s *Service) Parcel(ctx context.Context, id string) (contract.Parcel, error) {
	row, _, err := s.parcelRow(ctx, id)
	if err != nil {
		return contract.Parcel{}, err
	}
	return s.showParcel(ctx, row)
}
