package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store/chains"
	"freshseal/store/events"
	"freshseal/store/issuance"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Replacement is one replacement with its progress.
type Replacement struct {
	ID         int64                  `db:"id"`
	DeviceID   int64                  `db:"device_id"`
	SlotID     int64                  `db:"slot_id"`
	Signer     string                 `db:"signer"`
	Plan       JSON[request.Plan]     `db:"plan"`
	Stage      replacement.Stage      `db:"stage"`
	State      replacement.State      `db:"state"`
	WaitingFor replacement.WaitingFor `db:"waiting_for"`
	Reverting  bool                   `db:"reverting"`
	Stopping   bool                   `db:"stopping"`
	Asked      bool                   `db:"asked"`
	Why        string                 `db:"why"`
	OldSHA256  string                 `db:"old_sha256"`
	NewSHA256  string                 `db:"new_sha256"`
	Request    []byte                 `db:"request"`
	Offered    string                 `db:"offered"`
	SPKI       string                 `db:"spki"`
	Path       JSON[[]string]         `db:"path"`
	ParcelID   *int64                 `db:"parcel_id"`
	AskedBy    string                 `db:"asked_by"`
	Cluster    string                 `db:"cluster"`
	ApprovedBy string                 `db:"approved_by"`
	Since      int64                  `db:"since"`       // the journal's last entry before the action in hand
	Resumed    int64                  `db:"resumed"`     // the journal's last entry before a person let it go on
	Procedure  string                 `db:"procedure"`   // SHA-256 of the procedure's text that it began with
	Mark       string                 `db:"mark"`        // random, part of its work folder's name
	Leftover   string                 `db:"leftover"`    // what is left on the device after the end
	Unseen     bool                   `db:"unseen"`      // begun although the slot could not be read
	Tidied     bool                   `db:"tidied"`      // its work folder was removed
	Edition    int                    `db:"edition"`     // of the language of procedures in which it began
	Back       string                 `db:"back"`        // why the way back did not come to its end
	ClosedAs   string                 `db:"closed_as"`   // by a person: new, old or neither
	KeepsUntil Moment                 `db:"keeps_until"` // until when it can be retried; zero: nothing is kept
	RetryOf    *int64                 `db:"retry_of"`
	NotBefore  Moment                 `db:"not_before"` // nothing live is touched before; zero: at any time
	// it waits for a window that opens after this moment; zero: the one that is open will do
	AfterOpen    Moment `db:"after_open"`
	StopAfter    string `db:"stop_after"`    // the stage after which it waits for a go-ahead
	PausedBy     string `db:"paused_by"`     // who paused it
	AnyTime      string `db:"any_time"`      // why it touches the device outside of the windows
	OpensAt      Moment `db:"opens_at"`      // when the device may be touched; zero: not known
	Closed       string `db:"closed"`        // what is in the way until then
	ApprovedWhat string `db:"approved_what"` // digest of what was approved

	Work      string `db:"work"` // the name of its work folder, where it took over that of another
	StartedAt Moment `db:"started_at"`
	ChangedAt Moment `db:"changed_at"`

	Device string `db:"device"`
	Slot   string `db:"slot"`
}

// Progress returns the part that the stage machine knows.
func (r Replacement) Progress() replacement.Progress {
	return replacement.Progress{Stage: r.Stage, State: r.State, WaitingFor: r.WaitingFor,
		Reverting: r.Reverting, Stopping: r.Stopping, Asked: r.Asked, Why: r.Why, Back: r.Back}
}

func (r *Replacement) setProgress(p replacement.Progress) {
	r.Stage, r.State, r.WaitingFor = p.Stage, p.State, p.WaitingFor
	r.Reverting, r.Stopping, r.Asked, r.Why, r.Back = p.Reverting, p.Stopping, p.Asked, p.Why, p.Back
}

const (
	replacementColumns = `replacement.*, device.name AS device, slot.name AS slot`
	replacementTables  = `replacement JOIN device ON device.id = replacement.device_id
		JOIN slot ON slot.id = replacement.slot_id`
	replacementRows = `SELECT ` + replacementColumns + ` FROM ` + replacementTables + ` `
)

// Add begins a replacement of these slots, of which the first is the one
// by which it is listed; where it is of a batch, the batch knows it from then on.
// It returns ErrTaken where one of the slots has one that has not ended.
func (s Replacements) Add(ctx context.Context, r Replacement, slotIDs []int64, p replacement.Progress, yaml string,
	of *BatchItem) (int64, error) {
	r.setProgress(p)
	err := s.change(ctx, func(tx *sqlx.Tx) error { return s.addReplacement(ctx, tx, &r, slotIDs, yaml, of) })
	return r.ID, err
}

// addReplacement is AddReplacement within a transaction; it sets the number.
func (s *db) addReplacement(ctx context.Context, tx *sqlx.Tx, r *Replacement, slotIDs []int64, yaml string,
	of *BatchItem) error {
	r.Procedure, r.Edition = Digest(yaml), procedure.Edition
	if err := tx.GetContext(ctx, &r.ID,
		`UPDATE counter SET last = last + 1 WHERE name = 'replacement' RETURNING last`); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO procedure_text (sha256, yaml) VALUES (?, ?) ON CONFLICT DO NOTHING`,
		r.Procedure, yaml); err != nil {
		return err
	}
	if has, err := hasOpen(ctx, tx, slotIDs, 0); err != nil || has {
		return cmp.Or(err, ErrTaken)
	}
	_, err := tx.NamedExecContext(ctx, `INSERT INTO replacement
		(id, device_id, slot_id, cluster, signer, plan, stage, state, waiting_for, reverting, stopping, why, asked_by,
		started_at, changed_at, procedure, mark, unseen, edition, not_before, after_open, stop_after)
		VALUES (:id, :device_id, :slot_id, :cluster, :signer, :plan, :stage, :state, :waiting_for, :reverting,
		:stopping, :why, :asked_by, :started_at, :changed_at, :procedure, :mark, :unseen, :edition, :not_before,
		:after_open, :stop_after)`, r)
	if err != nil {
		return sqlite.Taken(err)
	}
	for i, slotID := range slotIDs {
		if _, err := tx.ExecContext(ctx, `INSERT INTO target (replacement_id, slot_id, position) VALUES (?, ?, ?)`,
			r.ID, slotID, i); err != nil {
			return err
		}
	}
	if of != nil {
		if err := itemStarted(ctx, tx, *of, r.ID); err != nil {
			return err
		}
	}
	if err := enter(ctx, tx, *r, r.StartedAt); err != nil {
		return err
	}
	about := fmt.Sprintf("r%d %s/%s signer %s", r.ID, r.Device, r.Slot, r.Signer)
	if err := events.Happened(ctx, tx, s.AuditKey, events.Event{At: r.StartedAt, Kind: "act", Who: r.AskedBy,
		Text:  "replacement started",
		About: about}); err != nil {
		return err
	}
	return events.Happened(ctx, tx, s.AuditKey, events.Event{About: events.AboutReplacement(r.ID), At: r.StartedAt,
		Kind:  "stage",
		Stage: string(r.Stage), State: string(r.State)})
}

// Advance lets the stage machine take one event and keeps what comes of it. The
// replacement is read, changed and told of in one transaction, so that two
// events never pass each other.
func (s Replacements) Advance(ctx context.Context, id int64, e replacement.Event,
	at Moment) (r Replacement, action replacement.Action, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		r, action, err = s.advance(ctx, tx, id, e, at)
		return err
	})
	return r, action, err
}

// advance is Advance within a transaction.
func (s *db) advance(ctx context.Context, tx *sqlx.Tx, id int64, e replacement.Event,
	at Moment) (r Replacement, action replacement.Action, err error) {
	if err := sqlite.Row(tx.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id)); err != nil {
		return r, action, err
	}
	before := r.Progress()
	p, next, err := before.On(e)
	if err != nil {
		return r, action, err
	}
	action = next
	if before.State.Over() && !p.State.Over() { // a revert after the seal
		if err := stillAlone(ctx, tx, id); err != nil {
			return r, replacement.Nothing, err
		}
	}
	r.setProgress(p)
	r.ChangedAt = at
	if before.State == replacement.Waiting { // tasks that nobody does any more
		_, err := tx.ExecContext(ctx, `UPDATE step SET ended_at = ?, why = 'it did not come to its end'
			WHERE replacement_id = ? AND ended_at = 0`, at, id)
		if err != nil {
			return r, action, err
		}
	}
	if err := markSteps(ctx, tx, &r, !before.Within(e), e.Kind == replacement.AskedResume); err != nil {
		return r, action, err
	}
	if _, err := tx.NamedExecContext(ctx, `UPDATE replacement SET stage = :stage, state = :state,
		waiting_for = :waiting_for,
		reverting = :reverting, stopping = :stopping, asked = :asked, why = :why, back = :back, since = :since,
		resumed = :resumed, changed_at = :changed_at WHERE id = :id`, r); err != nil {
		return r, action, sqlite.Taken(err)
	}
	if err := enter(ctx, tx, r, at); err != nil {
		return r, action, err
	}
	return r, action, s.tellAdvance(ctx, tx, r, p, at)
}

// tellAdvance writes what a step of a replacement means for others: pins, the audit log and the outbox.
func (s *db) tellAdvance(ctx context.Context, tx *sqlx.Tx, r Replacement, p replacement.Progress, at Moment) error {
	if p.State == replacement.Sealed || p.State == replacement.Reverted && p.Stage == replacement.Seal {
		if err := addPinUpdates(ctx, tx, r, at); err != nil {
			return err
		}
	} else if p.State.Over() {
		if err := removePinUpdates(ctx, tx, r.ID); err != nil {
			return err
		}
	}
	if p.State.Over() || p.State == replacement.Held {
		if err := events.Happened(ctx, tx, s.AuditKey, events.Event{At: at, Kind: "act", Who: "freshseal",
			Text:  "replacement " + string(p.State),
			About: fmt.Sprintf("r%d %s/%s %s", r.ID, r.Device, r.Slot, r.NewSHA256)}); err != nil {
			return err
		}
	}
	kind := "stage"
	if p.State != replacement.Running || p.Reverting || p.Stopping {
		kind = "state"
	}
	return events.Happened(ctx, tx, s.AuditKey, events.Event{About: events.AboutReplacement(r.ID), At: at, Kind: kind,
		Stage: string(p.Stage), State: string(p.State), Text: p.Why})
}

// stillAlone says that no other replacement has the targets of one that has ended; ErrTaken: another one has.
func stillAlone(ctx context.Context, tx *sqlx.Tx, id int64) error {
	targets := []int64{}
	if err := tx.SelectContext(ctx, &targets, `SELECT slot_id FROM target WHERE replacement_id = ?`, id); err != nil {
		return err
	}
	has, err := hasOpen(ctx, tx, targets, id)
	if err == nil && has {
		return ErrTaken
	}
	return err
}

// markSteps marks the last step so far as that after which a stage began, or after which it was resumed.
func markSteps(ctx context.Context, tx *sqlx.Tx, r *Replacement, began, resumed bool) error {
	if !began && !resumed {
		return nil
	}
	var last int64
	if err := tx.GetContext(ctx, &last, `SELECT coalesce(max(id), 0) FROM step WHERE replacement_id = ?`,
		r.ID); err != nil {
		return err
	}
	if began {
		r.Since = last
	}
	if resumed {
		r.Resumed = last
	}
	return nil
}

// ProcedureText returns the text of a procedure that a replacement began with.
func (s Replacements) ProcedureText(ctx context.Context, sha256 string) (string, error) {
	var yaml string
	return yaml, sqlite.Row(s.Read.GetContext(ctx, &yaml, `SELECT yaml FROM procedure_text WHERE sha256 = ?`, sha256))
}

// SetLeftover records what is left on the device after the end; empty: nothing. What is left is a task for a person.
func (s Replacements) SetLeftover(ctx context.Context, id int64, what string, at, due Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET leftover = ? WHERE id = ?`, what,
			id)); err != nil || what == "" {
			return err
		}
		var has int
		if err := tx.GetContext(ctx, &has, `SELECT count(*) FROM step WHERE replacement_id = ? AND section = ?`, id,
			Clearing); err != nil || has > 0 {
			return err
		}
		step, err := tx.ExecContext(ctx, `INSERT INTO step (replacement_id, section, name, verb, text, repeatable,
			began_at, ended_at, why)
			VALUES (?, ?, 'remove what is left on the device', 'person', '', 1, ?, ?, ?)`, id, Clearing, at, at, what)
		if err != nil {
			return err
		}
		t := Task{ReplacementID: id, DueAt: due}
		if t.StepID, err = step.LastInsertId(); err != nil {
			return err
		}
		return addTask(ctx, tx, t)
	})
}

// SetTidied records that the work folders of replacements were removed.
func (s Replacements) SetTidied(ctx context.Context, ids []int64) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, `UPDATE replacement SET tidied = 1 WHERE id = ?`, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Of returns the replacements of a device, newest first.
func (s Replacements) Of(ctx context.Context, deviceID int64) ([]Replacement, error) {
	var out []Replacement
	return out, s.Read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.device_id = ?
		ORDER BY replacement.id DESC`, deviceID)
}

// Digest returns the SHA-256 by which a procedure's text is kept, in hex.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Get returns the one with this number, or ErrNotFound.
func (s Replacements) Get(ctx context.Context, id int64) (Replacement, error) {
	var r Replacement
	return r, sqlite.Row(s.Read.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id))
}

// whyBegins is the part of a reason by which lists sort: a cursor travels in an address.
const whyBegins = "substr(replacement.why, 1, 100)"

func begin(why string) string { return string([]rune(why)[:min(100, len([]rune(why)))]) }

var replacementList = sqlite.List[Replacement]{
	Columns: replacementColumns,
	From:    replacementTables,
	Orders: map[string][]string{"id": {"replacement.id"}, "slot": {"device.name", "slot.name", "replacement.id"},
		"state": {"replacement.state", "replacement.id"}, "why": {whyBegins, "replacement.id"},
		"signer":     {"replacement.signer", "replacement.id"},
		"started_at": {"replacement.started_at", "replacement.id"},
		"asked_by":   {"replacement.asked_by", "replacement.id"}},
	Natural: "id",
	Keyed: func(r Replacement) map[string]any {
		return map[string]any{"replacement.id": r.ID, "device.name": r.Device, "slot.name": r.Slot,
			"replacement.state": r.State, whyBegins: begin(r.Why), "replacement.signer": r.Signer,
			"replacement.started_at": r.StartedAt.Milliseconds(), "replacement.asked_by": r.AskedBy}
	},
}

// SetOld records the leaf that a slot of a replacement served before.
func (s Replacements) SetOld(ctx context.Context, id, slotID int64, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE replacement SET old_sha256 = ? WHERE id = ? AND slot_id = ?`, sha256,
			id, slotID); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx,
			`UPDATE target SET old_sha256 = ? WHERE replacement_id = ? AND slot_id = ?`, sha256, id, slotID))
	})
}

// SetRequest records the request that the device made.
func (s Replacements) SetRequest(ctx context.Context, id int64, r request.Request) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET request = ?, spki = ? WHERE id = ?`, r.Raw,
			cert.Fingerprint(r.SPKI()), id))
	})
}

// SetPath records the path that is going to be installed. It is ErrNotFound
// once the stage sign is over: what goes to a device does not change on its way.
func (s Replacements) SetPath(ctx context.Context, id int64, path []*cert.Certificate) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return setPath(ctx, tx, id, path) })
}

func setPath(ctx context.Context, tx *sqlx.Tx, id int64, path []*cert.Certificate) error {
	if err := chains.PutCertificates(ctx, tx, path); err != nil {
		return err
	}
	fingerprints := make([]string, len(path))
	for i, c := range path {
		fingerprints[i] = c.SHA256
	}
	if err := chains.NoteChain(ctx, tx, fingerprints); err != nil {
		return err
	}
	return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET path = ?, new_sha256 = ? WHERE id = ?
		AND (stage = 'sign' OR stage = 'prove' AND new_sha256 = '')`, JSON[[]string]{V: fingerprints}, path[0].SHA256,
		id))
}

// Accept records the path that came from the signer and what it tells about the signer, and lets the replacement go
// on, all or nothing. A leaf that was unmatched or unused is so no more.
func (s Replacements) Accept(ctx context.Context, id int64, path []*cert.Certificate, learnt *issuance.Learnt,
	at Moment) (r Replacement, action replacement.Action, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		if err := setPath(ctx, tx, id, path); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unmatched WHERE sha256 = ?`, path[0].SHA256); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unused_answer WHERE replacement_id = ? AND sha256 = ?`, id,
			path[0].SHA256); err != nil {
			return err
		}
		if learnt != nil {
			if err := issuance.LearnHabits(ctx, tx, *learnt, path[0], true); err != nil {
				return err
			}
			i := learnt.Issuer
			if err := issuance.LearnIssuer(ctx, tx, issuance.SignerIssuer{Signer: learnt.Signer, SPKI: i.SPKI,
				Subject: i.Subject,
				Days:    i.Days, Confirmed: learnt.Confirmed, KnownBy: learnt.By, KnownAt: at}); err != nil {
				return err
			}
		}
		r, action, err = s.advance(ctx, tx, id, replacement.Event{Kind: replacement.Arrived}, at)
		return err
	})
	return r, action, err
}
