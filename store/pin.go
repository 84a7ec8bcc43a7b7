package store

import (
	"bytes"
	"context"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/replacement"
	"freshseal/store/chains"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Pin is a user who recorded something of a slot's certificate.
type Pin struct {
	ID      int64    `db:"id"`
	SlotID  int64    `db:"slot_id"`
	Who     string   `db:"who"`
	What    cert.Pin `db:"what"`
	How     string   `db:"how"` // they are told
	AddedBy string   `db:"added_by"`
	AddedAt Moment   `db:"added_at"`

	Device string `db:"device"`
	Slot   string `db:"slot"`
}

// PinUpdate is a pin whose holder needs the new value after a change.
type PinUpdate struct {
	ID            int64    `db:"id"`
	ReplacementID int64    `db:"replacement_id"`
	SlotID        int64    `db:"slot_id"`
	Who           string   `db:"who"`
	What          cert.Pin `db:"what"`
	How           string   `db:"how"`
	OldSHA256     string   `db:"old_sha256"` // of the certificate before, or its root; empty where it was not known
	NewSHA256     string   `db:"new_sha256"`
	AroseAt       Moment   `db:"arose_at"`
	ConfirmedAt   Moment   `db:"confirmed_at"` // zero while nobody was
	ConfirmedBy   string   `db:"confirmed_by"`
	Note          string   `db:"note"`

	Device string `db:"device"`
	Slot   string `db:"slot"`
}

const pinRows = `SELECT pin.*, device.name AS device, slot.name AS slot FROM pin JOIN slot ON slot.id = pin.slot_id
	JOIN device ON device.id = slot.device_id `

// Add records a pin; one of the same who and what is ErrTaken.
func (s Pins) Add(ctx context.Context, p Pin) (int64, error) {
	var id int64
	err := s.change(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.NamedExecContext(ctx, `INSERT INTO pin (slot_id, who, what, how, added_by, added_at)
			VALUES (:slot_id, :who, :what, :how, :added_by, :added_at)`, p)
		if err != nil {
			return sqlite.Taken(err)
		}
		id, err = result.LastInsertId()
		return err
	})
	return id, err
}

// Get finds one by its id.
func (s Pins) Get(ctx context.Context, id int64) (Pin, error) {
	var p Pin
	return p, sqlite.Row(s.Read.GetContext(ctx, &p, pinRows+`WHERE pin.id = ?`, id))
}

// List returns those of some slots, by who it is; of all slots where none is named.
func (s Pins) List(ctx context.Context, slots ...int64) ([]Pin, error) {
	var out []Pin
	if len(slots) == 0 {
		return out, s.Read.SelectContext(ctx, &out, pinRows+`ORDER BY device.name, slot.name, who, what`)
	}
	query, args, err := sqlx.In(pinRows+`WHERE slot_id IN (?) ORDER BY device.name, slot.name, who, what`, slots)
	if err != nil {
		return nil, err
	}
	return out, s.Read.SelectContext(ctx, &out, query, args...)
}

// Remove deletes one. Its pending updates stay.
func (s Pins) Remove(ctx context.Context, id int64) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM pin WHERE id = ?`, id))
	})
}

const pinUpdateRows = `SELECT pin_update.*, device.name AS device, slot.name AS slot FROM pin_update
	JOIN slot ON slot.id = pin_update.slot_id JOIN device ON device.id = slot.device_id `

// PinUpdates are those that are open, oldest first; of a replacement all, told ones too.
func (s Pins) Updates(ctx context.Context, replacementID int64) ([]PinUpdate, error) {
	var out []PinUpdate
	if replacementID != 0 {
		return out, s.Read.SelectContext(ctx, &out, pinUpdateRows+`WHERE replacement_id = ? ORDER BY pin_update.id`,
			replacementID)
	}
	return out, s.Read.SelectContext(ctx, &out, pinUpdateRows+`WHERE confirmed_at = 0 ORDER BY pin_update.id`)
}

// CountUpdates returns how many are open.
func (s Pins) CountUpdates(ctx context.Context) (int, error) {
	var n int
	return n, s.Read.GetContext(ctx, &n, `SELECT count(*) FROM pin_update WHERE confirmed_at = 0`)
}

// PinUpdate finds one by its id.
func (s Pins) Update(ctx context.Context, id int64) (PinUpdate, error) {
	var t PinUpdate
	return t, sqlite.Row(s.Read.GetContext(ctx, &t, pinUpdateRows+`WHERE pin_update.id = ?`, id))
}

// Confirm records who told them; one that is told already is ErrNotFound.
func (s Pins) Confirm(ctx context.Context, id int64, by, note string, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE pin_update SET confirmed_at = ?, confirmed_by = ?, note = ?
			WHERE id = ? AND confirmed_at = 0`, at, by, note, id))
	})
}

// addPinUpdates records the pins of a replacement's slots as pending, now
// that it is sealed, or reverted after that. A pin still pending of an
// earlier change gets this one alone, with what they know as the old one; where they know
// that already, or what they pinned stays the same, nothing is pending.
func addPinUpdates(ctx context.Context, tx *sqlx.Tx, r Replacement, at Moment) error {
	var pins []struct {
		Pin
		Old string `db:"old_sha256"`
	}
	if err := tx.SelectContext(ctx, &pins, `SELECT pin.*, target.old_sha256 FROM pin JOIN target USING (slot_id)
		WHERE replacement_id = ? ORDER BY pin.id`, r.ID); err != nil || len(pins) == 0 {
		return err
	}
	for _, p := range pins {
		known, new := p.Old, r.NewSHA256
		if r.State == replacement.Reverted {
			known, new = new, known
		}
		if p.What == cert.PinRoot {
			var err error
			if known, new, err = rootsOf(ctx, tx, p.SlotID, at, known, new); err != nil {
				return err
			}
			var early bool // they were told at the gate
			if err = tx.GetContext(ctx, &early, `SELECT EXISTS (SELECT 1 FROM pin_update WHERE replacement_id = ?
				AND slot_id = ? AND who = ? AND what = ? AND new_sha256 = ?)`, r.ID, p.SlotID, p.Who, p.What,
				new); err != nil {
				return err
			}
			if early && r.State == replacement.Sealed {
				continue
			}
		}
		var open []PinUpdate
		if err := tx.SelectContext(ctx, &open, `SELECT * FROM pin_update WHERE slot_id = ? AND who = ? AND what = ?
			AND confirmed_at = 0 ORDER BY id`, p.SlotID, p.Who, p.What); err != nil {
			return err
		}
		if len(open) > 0 {
			known = open[0].OldSHA256
			if _, err := tx.ExecContext(ctx, `DELETE FROM pin_update WHERE slot_id = ? AND who = ? AND what = ?
				AND confirmed_at = 0`, p.SlotID, p.Who, p.What); err != nil {
				return err
			}
		}
		same, err := samePin(ctx, tx, p.What, known, new)
		if err != nil {
			return err
		}
		if same {
			continue
		}
		_, err = tx.NamedExecContext(ctx, `INSERT INTO pin_update (replacement_id, slot_id, who, what, how,
			old_sha256, new_sha256, arose_at)
			VALUES (:replacement_id, :slot_id, :who, :what, :how, :old_sha256, :new_sha256, :arose_at)`,
			PinUpdate{ReplacementID: r.ID, SlotID: p.SlotID, Who: p.Who, What: p.What, How: p.How, OldSHA256: known,
				NewSHA256: new, AroseAt: at})
		if err != nil {
			return err
		}
	}
	return nil
}

// TellRoots notes, before a device is touched, what those who pinned the root of a replacement's slots must trust
// from now on. It returns how many of them have not confirmed it yet. It may be called again and again.
func (s Pins) TellRoots(ctx context.Context, id int64, at Moment) (pending int, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		var pins []struct {
			Pin
			Old string `db:"old_sha256"`
			New string `db:"new_sha256"`
		}
		if err := tx.SelectContext(ctx, &pins, `SELECT pin.*, target.old_sha256, replacement.new_sha256 FROM pin
			JOIN target USING (slot_id) JOIN replacement ON replacement.id = target.replacement_id
			WHERE replacement_id = ? AND pin.what = ? AND replacement.new_sha256 <> '' ORDER BY pin.id`, id,
			cert.PinRoot); err != nil {
			return err
		}
		for _, p := range pins {
			known, new, err := rootsOf(ctx, tx, p.SlotID, at, p.Old, p.New)
			if err != nil {
				return err
			}
			if known == new { // of this slot; another one may get another root
				continue
			}
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO pin_update (replacement_id, slot_id, who, what, how,
				old_sha256, new_sha256, arose_at)
				SELECT :replacement_id, :slot_id, :who, :what, :how, :old_sha256, :new_sha256, :arose_at
				WHERE NOT EXISTS
				(SELECT 1 FROM pin_update WHERE replacement_id = :replacement_id AND slot_id = :slot_id AND who = :who
				AND what = :what AND new_sha256 = :new_sha256)`,
				PinUpdate{ReplacementID: id, SlotID: p.SlotID, Who: p.Who, What: p.What, How: p.How, OldSHA256: known,
					NewSHA256: new, AroseAt: at}); err != nil {
				return err
			}
		}
		return tx.GetContext(ctx, &pending, `SELECT count(*) FROM pin_update WHERE replacement_id = ? AND what = ?
			AND confirmed_at = 0`, id, cert.PinRoot)
	})
	return pending, err
}

// removePinUpdates removes what is pending no longer: the replacement was given up, or went back before its seal.
func removePinUpdates(ctx context.Context, tx *sqlx.Tx, id int64) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM pin_update WHERE replacement_id = ? AND confirmed_at = 0`, id)
	return err
}

// rootsOf returns the roots at the end of the chains of two leaves of a slot, as far as they are known:
// from the pool, the trusted roots, and what came with the leaves.
func rootsOf(ctx context.Context, tx *sqlx.Tx, slotID int64, at Moment, old, new string) (string, string, error) {
	var rows []chains.KeptCertificate
	if err := tx.SelectContext(ctx, &rows, `SELECT der, self_signed FROM certificate WHERE sha256 IN (SELECT sha256
		FROM authority UNION SELECT sha256 FROM anchor
		UNION SELECT value FROM chain_of, json_each(chain_of.chain) WHERE leaf IN (?, ?) UNION SELECT value
		FROM replacement, json_each(replacement.path) WHERE slot_id = ? AND new_sha256 IN (?, ?))`, old, new, slotID,
		old, new); err != nil {
		return "", "", err
	}
	pool, roots := chain.NewPool(), chain.NewPool()
	for _, row := range rows {
		c, err := row.Parse()
		if err != nil {
			return "", "", err
		}
		if pool.Add(c); c.SelfSigned() {
			roots.Add(c)
		}
	}
	var out [2]string
	for i, sha256 := range []string{old, new} {
		if sha256 == "" {
			continue
		}
		var row chains.KeptCertificate
		if err := sqlite.Row(tx.GetContext(ctx, &row, `SELECT der, self_signed FROM certificate WHERE sha256 = ?`,
			sha256)); err != nil {
			return "", "", err
		}
		leaf, err := row.Parse()
		if err != nil {
			return "", "", err
		}
		path := chain.Complete(leaf, pool, roots, at.Time).Certificates
		out[i] = path[len(path)-1].SHA256
	}
	return out[0], out[1], nil
}

// samePin says that what is pinned is the same of two certificates.
func samePin(ctx context.Context, tx *sqlx.Tx, what cert.Pin, old, new string) (bool, error) {
	if old == new || old == "" {
		return old == new, nil
	}
	var pinned [2][]byte
	for i, sha256 := range []string{old, new} {
		var der []byte
		if err := sqlite.Row(tx.GetContext(ctx, &der, `SELECT der FROM certificate WHERE sha256 = ?`,
			sha256)); err != nil {
			return false, err
		}
		c, err := cert.Parse(der)
		if err != nil {
			return false, err
		}
		pinned[i] = []byte(what.Of(c))
	}
	return bytes.Equal(pinned[0], pinned[1]), nil
}
