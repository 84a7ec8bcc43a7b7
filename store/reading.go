package store

import (
	"context"

	"freshseal/core/cert"
	"freshseal/core/finding"

	"github.com/jmoiron/sqlx"
)

// Reading is what a slot was seen to serve, as the history keeps it.
type Reading struct {
	ID      int64                  `db:"id"`
	SlotID  int64                  `db:"slot_id"`
	At      Moment                 `db:"at"`
	Chain   JSON[[]string]         `db:"chain"`
	Version string                 `db:"version"`
	Suite   string                 `db:"suite"`
	Failure JSON[*finding.Failure] `db:"failure"`
}

// NewReading is a slot filled with what a reading of it says, and the chain.
type NewReading struct {
	Slot
	Served []*cert.Certificate
}

// AddReadings records readings on their slots, and in the history where they
// differ from the ones before. Slots on which something was installed since they
// were looked up, or that were read later, are left as they are; late are their
// places in the list.
func (s *Store) AddReadings(ctx context.Context, readings []NewReading) (late []int, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		known, err := tx.PreparexContext(ctx, `INSERT INTO certificate (sha256, der) VALUES (?, ?) ON CONFLICT DO NOTHING`)
		if err != nil {
			return err
		}
		defer known.Close()
		history, err := tx.PrepareNamedContext(ctx, `INSERT INTO reading (slot_id, at, chain, version, suite, failure)
			SELECT :id, :read_at, :chain, :version, :suite, :failure
			WHERE NOT EXISTS (SELECT 1 FROM slot WHERE id = :id AND read_at > 0
				AND chain = :chain AND version = :version AND suite = :suite AND failure = :failure)
			AND EXISTS (SELECT 1 FROM slot WHERE id = :id AND read_at <= :read_at AND installed = :installed)`)
		if err != nil {
			return err
		}
		defer history.Close()
		set, err := tx.PrepareNamedContext(ctx, `UPDATE slot SET read_at = :read_at, chain = :chain, version = :version, suite = :suite,
			failure = :failure, findings = :findings, subject = :subject, self_signed = :self_signed, not_after = :not_after,
			standing = :standing, overdue_from = :overdue_from, due_from = :due_from, rank = :rank, turns_at = :turns_at
			WHERE id = :id AND read_at <= :read_at AND installed = :installed`)
		if err != nil {
			return err
		}
		defer set.Close()
		for i, r := range readings {
			for _, c := range r.Served {
				if _, err := known.ExecContext(ctx, c.SHA256, c.Raw); err != nil {
					return err
				}
			}
			r.rank(r.ReadAt)
			if _, err := history.ExecContext(ctx, r.Slot); err != nil {
				return err
			}
			result, err := set.ExecContext(ctx, r.Slot)
			if err != nil {
				return err
			}
			if n, err := result.RowsAffected(); err != nil {
				return err
			} else if n == 0 {
				late = append(late, i)
			}
		}
		return nil
	})
	return late, err
}

// Seen says that a slot was read and that nothing had changed.
type Seen struct {
	Slot int64
	At   Moment
}

// TouchSlots records when slots were read that serve what they served before.
func (s *Store) TouchSlots(ctx context.Context, seen []Seen) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		set, err := tx.PreparexContext(ctx, `UPDATE slot SET read_at = ? WHERE id = ? AND read_at < ?`)
		if err != nil {
			return err
		}
		defer set.Close()
		for _, one := range seen {
			if _, err := set.ExecContext(ctx, one.At, one.Slot, one.At); err != nil {
				return err
			}
		}
		return nil
	})
}

// Readings are the newest of a slot's history, newest first.
func (s *Store) Readings(ctx context.Context, slotID int64, most int) ([]Reading, error) {
	var out []Reading
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM reading WHERE slot_id = ? ORDER BY id DESC LIMIT ?`, slotID, most)
}

func putCertificates(ctx context.Context, tx *sqlx.Tx, certificates []*cert.Certificate) error {
	for _, c := range certificates {
		if _, err := tx.ExecContext(ctx, `INSERT INTO certificate (sha256, der) VALUES (?, ?) ON CONFLICT DO NOTHING`, c.SHA256, c.Raw); err != nil {
			return err
		}
	}
	return nil
}

// Certificates finds certificates by their fingerprints, in that order.
func (s *Store) Certificates(ctx context.Context, fingerprints []string) ([]*cert.Certificate, error) {
	out := make([]*cert.Certificate, 0, len(fingerprints))
	for _, sha256 := range fingerprints {
		var der []byte
		if err := one(s.read.GetContext(ctx, &der, `SELECT der FROM certificate WHERE sha256 = ?`, sha256)); err != nil {
			return nil, err
		}
		c, err := cert.Parse(der)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// AddAuthorities puts authorities into the pool that chains are completed from.
func (s *Store) AddAuthorities(ctx context.Context, certificates []*cert.Certificate) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := putCertificates(ctx, tx, certificates); err != nil {
			return err
		}
		for _, c := range certificates {
			if _, err := tx.ExecContext(ctx, `INSERT INTO authority (sha256) VALUES (?) ON CONFLICT DO NOTHING`, c.SHA256); err != nil {
				return err
			}
		}
		return nil
	})
}

// Authorities are the certificates of that pool.
func (s *Store) Authorities(ctx context.Context) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der FROM certificate JOIN authority USING (sha256)`)
}

// AddAnchors adds trusted roots to an audience.
func (s *Store) AddAnchors(ctx context.Context, audience string, at Moment, certificates []*cert.Certificate) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := putCertificates(ctx, tx, certificates); err != nil {
			return err
		}
		for _, c := range certificates {
			if _, err := tx.ExecContext(ctx, `INSERT INTO anchor (audience, sha256, added_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING`, audience, c.SHA256, at); err != nil {
				return err
			}
		}
		return nil
	})
}

// RemoveAnchor takes a trusted root from an audience.
func (s *Store) RemoveAnchor(ctx context.Context, audience, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `DELETE FROM anchor WHERE audience = ? AND sha256 = ?`, audience, sha256))
	})
}

// CountAnchors says how many roots each audience trusts.
func (s *Store) CountAnchors(ctx context.Context) (map[string]int, error) {
	return s.counts(ctx, `SELECT audience AS name, count(*) AS count FROM anchor GROUP BY audience`)
}

// Anchors are the trusted roots of an audience.
func (s *Store) Anchors(ctx context.Context, audience string) ([]*cert.Certificate, error) {
	return s.parsed(ctx, `SELECT der FROM certificate JOIN anchor USING (sha256) WHERE audience = ? ORDER BY added_at, sha256`, audience)
}

func (s *Store) parsed(ctx context.Context, query string, args ...any) ([]*cert.Certificate, error) {
	var ders [][]byte
	if err := s.read.SelectContext(ctx, &ders, query, args...); err != nil {
		return nil, err
	}
	out := make([]*cert.Certificate, 0, len(ders))
	for _, der := range ders {
		c, err := cert.Parse(der)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}
