package memory

import (
	"context"
	"strings"

	"freshseal/contract"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store"
	"freshseal/store/issuance"
)

// What the room needs in which people deal with replacements.

// begin makes a row the replacement in hand, behind the one before.
func (w *World) begin(r store.Replacement, p replacement.Progress) (int64, error) {
	if err := w.written(); err != nil {
		return 0, err
	}
	if !w.Row.State.Over() {
		return 0, store.ErrTaken
	}
	w.Over = append(w.Over, w.Row)
	r.ID = w.Row.ID + 1
	set(&r, p)
	w.Row, w.Steps, w.Standing, w.Done = r, nil, nil, nil
	return r.ID, nil
}

func (s Sites) Get(context.Context, string) (store.Site, error) {
	if err := s.w.called("Sites.Get"); err != nil {
		return *new(store.Site), err
	}

	return store.Site{}, store.ErrNotFound
}
func (s Slots) Peers(context.Context, store.Slot, string) ([]store.Slot, error) {
	if err := s.w.called("Slots.Peers"); err != nil {
		return *new([]store.Slot), err
	}
	return nil, nil
}
func (s Signers) UnusedAnswers(context.Context, int64) ([]issuance.UnusedAnswer, error) {
	if err := s.w.called("Signers.UnusedAnswers"); err != nil {
		return *new([]issuance.UnusedAnswer), err
	}
	return nil, nil
}

// Names returns those that fit a filter.
func (s Slots) Names(_ store.Moment, f store.SlotFilter) []store.SlotName {
	if f.Device != "" && f.Device != s.w.Device.Name {
		return nil
	}
	return []store.SlotName{{Device: "gate-1", Slot: "web", Site: "mainquay", Family: "quay-gateway"}}
}

// EndProof ends the task of a proof, and remembers its domains.
func (s Tasks) EndProof(_ context.Context, step store.Step, _ string, domains []string, by string) error {
	if err := s.w.called("Tasks.EndProof"); err != nil {
		return err
	}

	t, has := s.w.Jobs[step.ID]
	if !has || !t.Open {
		return store.ErrNotFound
	}
	t.Open = false
	s.w.Jobs[step.ID] = t
	for _, d := range domains {
		s.w.Proofs[d] = issuance.Proven{Domain: d, At: step.EndedAt, By: by}
	}
	return s.w.written()
}

func (s Signers) ProvenTo(context.Context, string) (map[string]issuance.Proven, error) {
	if err := s.w.called("Signers.ProvenTo"); err != nil {
		return *new(map[string]issuance.Proven), err
	}

	return s.w.Proofs, nil
}

// Parcels is the noun of the store.
type Parcels struct{ w *World }

func (s Parcels) Get(context.Context, int64) (store.Parcel, []store.Replacement, error) {
	if err := s.w.called("Parcels.Get"); err != nil {
		return *new(store.Parcel), *new([]store.Replacement), err
	}

	return s.w.Parcel, []store.Replacement{s.w.Row}, nil
}

// SlotRow returns the slot.
func (k Families) SlotRow(_ context.Context, device, name string) (store.Slot, error) {
	if err := k.w.called("Families.SlotRow"); err != nil {
		return *new(store.Slot), err
	}

	if device != k.w.Device.Name || name != "web" {
		return store.Slot{}, store.ErrNotFound
	}
	return k.w.Slot(), nil
}

// Follow ends at once.
func (k Knowledge) Follow(context.Context, string, int64, func(contract.Event) error, func() error,
	func() (bool, error)) error {
	if err := k.w.called("Knowledge.Follow"); err != nil {
		return err
	}

	return nil
}

func (s Signing) Signers(ctx context.Context) ([]contract.Signer, error) {
	if err := s.w.called("Signing.Signers"); err != nil {
		return *new([]contract.Signer), err
	}

	one, err := s.Signer(ctx, "bench")
	return []contract.Signer{one}, err
}

func (s Signing) Cautions(context.Context, string, request.Plan) ([]string, error) {
	if err := s.w.called("Signing.Cautions"); err != nil {
		return *new([]string), err
	}
	return nil, nil
}

// Record stores what is audited.
func (w *World) Record(_ context.Context, who, what, about string) error {
	w.Audited = append(w.Audited, strings.Join([]string{who, what, about}, "; "))
	return w.written()
}

// Parcel returns the one that is out.
func (s Signing) Parcel(context.Context, string) (contract.Parcel, error) {
	if err := s.w.called("Signing.Parcel"); err != nil {
		return *new(contract.Parcel), err
	}

	return contract.Parcel{ID: "p1", Late: true, Reminder: "remind the harbour office"}, nil
}
