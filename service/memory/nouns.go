package memory

import (
	"context"

	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/store"
	"freshseal/store/issuance"
)

// Store are the nouns of the store.
type Store struct {
	Replacements
	Journal
	Chains
	Devices
	Slots
	Secrets
	Pins
	Requests
	Tasks
	Signers
	Sites
	Batches
	Parcels
}

// Store returns the nouns of the store.
func (w *World) Store() *Store {
	return &Store{Replacements{w}, Journal{w}, Chains{w}, Devices{w}, Slots{w}, Secrets{w}, Pins{w}, Requests{w},
		Tasks{w},
		Signers{w}, Sites{w}, Batches{w}, Parcels{w}}
}

// Chains is the noun of the store.
type Chains struct{ w *World }

func (s Chains) Certificates(_ context.Context, fingerprints []string) ([]*cert.Certificate, error) {
	if err := s.w.called("Chains.Certificates"); err != nil {
		return *new([]*cert.Certificate), err
	}

	var out []*cert.Certificate
	for _, f := range fingerprints {
		c, has := s.w.Certs[f]
		if !has {
			return nil, store.ErrNotFound
		}
		out = append(out, c)
	}
	return out, nil
}

func (s Chains) AddAuthorities(context.Context, []*cert.Certificate) error {
	if err := s.w.called("Chains.AddAuthorities"); err != nil {
		return err
	}
	return nil
}

// Devices is the noun of the store.
type Devices struct{ w *World }

func (s Devices) Get(_ context.Context, name string) (store.Device, error) {
	if err := s.w.called("Devices.Get"); err != nil {
		return *new(store.Device), err
	}

	if name != s.w.Device.Name {
		return store.Device{}, store.ErrNotFound
	}
	return s.w.Device, nil
}

func (s Devices) MovePins(context.Context, string, string, string, int64, []string, []int64) error {
	if err := s.w.called("Devices.MovePins"); err != nil {
		return err
	}

	return s.w.written()
}

// Slots is the noun of the store.
type Slots struct{ w *World }

func (s Slots) Get(context.Context, string, string) (store.Slot, error) {
	if err := s.w.called("Slots.Get"); err != nil {
		return *new(store.Slot), err
	}
	return s.w.Slot(), nil
}

func (s Slots) Of(context.Context, string) ([]store.Slot, error) {
	if err := s.w.called("Slots.Of"); err != nil {
		return *new([]store.Slot), err
	}

	return append(s.w.More, s.w.Slot()), nil
}

func (s Slots) SetInstalled(_ context.Context, _ int64, sha256, _ string, _ store.Moment) error {
	if err := s.w.called("Slots.SetInstalled"); err != nil {
		return err
	}

	s.w.Last = sha256
	return s.w.written()
}

// Secrets is the noun of the store.
type Secrets struct{ w *World }

func (s Secrets) Get(_ context.Context, purpose string) ([]byte, error) {
	if err := s.w.called("Secrets.Get"); err != nil {
		return *new([]byte), err
	}

	sealed, has := s.w.Secrets[purpose]
	if !has {
		return nil, store.ErrNotFound
	}
	return sealed, nil
}

func (s Secrets) Put(_ context.Context, purpose string, sealed []byte) error {
	if err := s.w.called("Secrets.Put"); err != nil {
		return err
	}

	if err := s.w.written(); err != nil {
		return err
	}
	s.w.Secrets[purpose] = sealed
	return nil
}

func (s Secrets) Remove(_ context.Context, purposes ...string) error {
	if err := s.w.called("Secrets.Remove"); err != nil {
		return err
	}

	if err := s.w.written(); err != nil {
		return err
	}
	for _, p := range purposes {
		delete(s.w.Secrets, p)
	}
	return nil
}

func (s Signers) PutUnusedAnswer(context.Context, *cert.Certificate, issuance.UnusedAnswer, bool) error {
	if err := s.w.called("Signers.PutUnusedAnswer"); err != nil {
		return err
	}

	return s.w.written()
}

func (s Sites) NamedSite(context.Context, string) (store.Site, error) {
	if err := s.w.called("Sites.NamedSite"); err != nil {
		return *new(store.Site), err
	}

	return store.Site{Name: "mainquay", Paused: s.w.Paused}, nil
}
