package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"

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
	BegunAt   Moment `db:"begun_at"`
	ChangedAt Moment `db:"changed_at"`

	Device string `db:"device"`
	Slot   string `db:"slot"`
}

// Progress is the part that the stage machine knows.
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
// It returns ErrTaken where one of the slots has one that is not over.
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
		begun_at, changed_at, procedure, mark, unseen, edition, not_before, after_open, stop_after)
		VALUES (:id, :device_id, :slot_id, :cluster, :signer, :plan, :stage, :state, :waiting_for, :reverting,
		:stopping, :why, :asked_by, :begun_at, :changed_at, :procedure, :mark, :unseen, :edition, :not_before,
		:after_open, :stop_after)`, r)
	if err != nil {
		return taken(err)
	}
	for i, slotID := range slotIDs {
		if _, err := tx.ExecContext(ctx, `INSERT INTO target (replacement_id, slot_id, position) VALUES (?, ?, ?)`,
			r.ID, slotID, i); err != nil {
			return err
		}
	}
	if of != nil {
		if err := begun(ctx, tx, *of, r.ID); err != nil {
			return err
		}
	}
	about := fmt.Sprintf("r%d %s/%s signer %s", r.ID, r.Device, r.Slot, r.Signer)
	if err := s.happened(ctx, tx, Event{At: r.BegunAt, Kind: "act", Who: r.AskedBy, Text: "replacement begun",
		About: about}); err != nil {
		return err
	}
	return s.happened(ctx, tx, Event{About: AboutReplacement(r.ID), At: r.BegunAt, Kind: "stage",
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
	if err := one(tx.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id)); err != nil {
		return r, action, err
	}
	before := r.Progress()
	p, next, err := before.On(e)
	if err != nil {
		return r, action, err
	}
	action = next
	if before.State.Over() && !p.State.Over() { // a revert after the seal
		targets := []int64{}
		if err := tx.SelectContext(ctx, &targets, `SELECT slot_id FROM target WHERE replacement_id = ?`,
			id); err != nil {
			return r, action, err
		}
		if has, err := hasOpen(ctx, tx, targets, id); err != nil || has {
			return r, replacement.Nothing, cmp.Or(err, ErrTaken)
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
	if !before.Within(e) {
		if err := tx.GetContext(ctx, &r.Since, `SELECT coalesce(max(id), 0) FROM step WHERE replacement_id = ?`,
			id); err != nil {
			return r, action, err
		}
	}
	if e.Kind == replacement.AskedResume {
		if err := tx.GetContext(ctx, &r.Resumed, `SELECT coalesce(max(id), 0) FROM step WHERE replacement_id = ?`,
			id); err != nil {
			return r, action, err
		}
	}
	if _, err := tx.NamedExecContext(ctx, `UPDATE replacement SET stage = :stage, state = :state,
		waiting_for = :waiting_for,
		reverting = :reverting, stopping = :stopping, asked = :asked, why = :why, back = :back, since = :since,
		resumed = :resumed, changed_at = :changed_at WHERE id = :id`, r); err != nil {
		return r, action, taken(err)
	}
	if p.State == replacement.Sealed || p.State == replacement.Reverted && p.Stage == replacement.Seal {
		if err := addPinUpdates(ctx, tx, r, at); err != nil {
			return r, action, err
		}
	} else if p.State.Over() {
		if err := removePinUpdates(ctx, tx, id); err != nil {
			return r, action, err
		}
	}
	if p.State.Over() || p.State == replacement.Held {
		err := s.happened(ctx, tx, Event{At: at, Kind: "act", Who: "freshseal", Text: "replacement " +
			string(p.State), About: fmt.Sprintf("r%d %s/%s %s", id, r.Device, r.Slot, r.NewSHA256)})
		if err != nil {
			return r, action, err
		}
	}
	kind := "stage"
	if p.State != replacement.Running || p.Reverting || p.Stopping {
		kind = "state"
	}
	return r, action,
		s.happened(ctx, tx, Event{About: AboutReplacement(id), At: at, Kind: kind, Stage: string(p.Stage),
			State: string(p.State), Text: p.Why})
}

// ProcedureText is the text of a procedure that a replacement began with.
func (s Replacements) ProcedureText(ctx context.Context, sha256 string) (string, error) {
	var yaml string
	return yaml, one(s.read.GetContext(ctx, &yaml, `SELECT yaml FROM procedure_text WHERE sha256 = ?`, sha256))
}

// SetLeftover records what is left on the device after the end; empty: nothing. What is left is a task for a person.
func (s Replacements) SetLeftover(ctx context.Context, id int64, what string, at, due Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.ExecContext(ctx, `UPDATE replacement SET leftover = ? WHERE id = ?`, what,
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
	return out, s.read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.device_id = ?
		ORDER BY replacement.id DESC`, deviceID)
}

// Digest is the SHA-256 by which a procedure's text is kept, in hex.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Get returns the one with this number, or ErrNotFound.
func (s Replacements) Get(ctx context.Context, id int64) (Replacement, error) {
	var r Replacement
	return r, one(s.read.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id))
}

// List returns the newest, newest first; slotID 0 means of every slot.
func (s Replacements) List(ctx context.Context, slotID int64, most int) ([]Replacement, error) {
	var out []Replacement
	return out, s.read.SelectContext(ctx, &out, replacementRows+`WHERE ? IN (0, replacement.slot_id)
		ORDER BY replacement.id DESC LIMIT ?`, slotID, most)
}

// Install is what a replacement did, or is doing, to a slot.
type Install struct {
	ID        int64             `db:"id"`
	State     replacement.State `db:"state"`
	OldSHA256 string            `db:"old_sha256"`
	NewSHA256 string            `db:"new_sha256"`
	BegunAt   Moment            `db:"begun_at"`
	ChangedAt Moment            `db:"changed_at"`
}

// Installs are the newest replacements that a slot is a target of, newest first.
func (s Replacements) Installs(ctx context.Context, slotID int64) ([]Install, error) {
	var out []Install
	return out, s.read.SelectContext(ctx, &out, `SELECT replacement.id, state, target.old_sha256, new_sha256,
		begun_at, changed_at
		FROM target JOIN replacement ON replacement.id = target.replacement_id WHERE target.slot_id = ?
		ORDER BY replacement.id DESC LIMIT 200`, slotID)
}

// ReplacementFilter narrows a list of replacements; empty fields do not.
type ReplacementFilter struct {
	Device, Slot string
	State        replacement.State
	Stage        replacement.Stage
	WaitingFor   replacement.WaitingFor
	Signer       string
	Text         string // somewhere in its id, slot or who asked for it
}

var replacementList = list[Replacement]{
	columns: replacementColumns,
	from:    replacementTables,
	orders:  map[string][]string{"id": {"replacement.id"}},
	natural: "id",
	keyed:   func(r Replacement) map[string]any { return map[string]any{"replacement.id": r.ID} },
}

// Page is a page of the replacements.
func (s Replacements) Page(ctx context.Context, f ReplacementFilter, p Page) ([]Replacement, string, error) {
	return replacementList.page(ctx, s.db, p, f.narrowings()...)
}

// CountOf says how many replacements fit a filter.
func (s Replacements) CountOf(ctx context.Context, f ReplacementFilter) (int, error) {
	return replacementList.count(ctx, s.db, f.narrowings()...)
}

func (f ReplacementFilter) narrowings() []narrowing {
	return narrow(map[string]string{"device.name = ?": f.Device, "EXISTS (SELECT 1 FROM target JOIN slot also ON " +
		"also.id = target.slot_id WHERE target.replacement_id = replacement.id AND also.name = ?)": f.Slot,
		"replacement.state = ?": string(f.State), "replacement.stage = ?": string(f.Stage),
		"replacement.waiting_for = ?": string(f.WaitingFor), "replacement.signer = ?": f.Signer,
		"instr(lower('r' || replacement.id || ' ' || device.name || '/' || slot.name || ' ' || " +
			"replacement.asked_by), ?) > 0": strings.ToLower(f.Text)})
}

// Count says how many stand in each state and wait for whom.
func (s Replacements) Count(ctx context.Context) (map[replacement.State]int, map[replacement.WaitingFor]int, error) {
	var rows []struct {
		State      replacement.State      `db:"state"`
		WaitingFor replacement.WaitingFor `db:"waiting_for"`
		Count      int                    `db:"count"`
	}
	states, waiting := map[replacement.State]int{}, map[replacement.WaitingFor]int{}
	err := s.read.SelectContext(ctx, &rows, `SELECT state, waiting_for, count(*) AS count FROM replacement
		GROUP BY state, waiting_for`)
	for _, row := range rows {
		states[row.State] += row.Count
		waiting[row.WaitingFor] += row.Count
	}
	return states, waiting, err
}

// In are those in a state, oldest first.
func (s Replacements) In(ctx context.Context, state replacement.State) ([]Replacement, error) {
	var out []Replacement
	return out, s.read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.state = ? ORDER BY replacement.id`,
		state)
}

// ByKey are those whose request has this public key (SHA-256 of
// its SubjectPublicKeyInfo), newest first.
func (s Replacements) ByKey(ctx context.Context, spki string) ([]Replacement, error) {
	var out []Replacement
	return out, s.read.SelectContext(ctx, &out, replacementRows+`WHERE replacement.spki = ?
		ORDER BY replacement.id DESC`, spki)
}

// SetOld records the leaf that a slot of a replacement served before.
func (s Replacements) SetOld(ctx context.Context, id, slotID int64, sha256 string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE replacement SET old_sha256 = ? WHERE id = ? AND slot_id = ?`, sha256,
			id, slotID); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx,
			`UPDATE target SET old_sha256 = ? WHERE replacement_id = ? AND slot_id = ?`, sha256, id, slotID))
	})
}

// Target is a slot that a replacement gives the new certificate.
type Target struct {
	Slot
	ReplacementID int64  `db:"replacement_id"`
	OldSHA256     string `db:"old_sha256"`
}

// Targets returns the slots of replacements, by replacement, the first one first.
func (s Replacements) Targets(ctx context.Context, ids ...int64) (map[int64][]Target, error) {
	out := map[int64][]Target{}
	if len(ids) == 0 {
		return out, nil
	}
	query, args, err := sqlx.In(`SELECT slot.*, device.name AS device, device.site AS site, device.nodes AS nodes,
		target.replacement_id, target.old_sha256 FROM target
		JOIN slot ON slot.id = target.slot_id JOIN device ON device.id = slot.device_id
		WHERE target.replacement_id IN (?) ORDER BY target.position`, ids)
	if err != nil {
		return nil, err
	}
	var rows []Target
	err = s.read.SelectContext(ctx, &rows, query, args...)
	for _, row := range rows {
		out[row.ReplacementID] = append(out[row.ReplacementID], row)
	}
	return out, err
}

// SetRequest records the request that the device made.
func (s Replacements) SetRequest(ctx context.Context, id int64, r request.Request) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `UPDATE replacement SET request = ?, spki = ? WHERE id = ?`, r.Raw,
			cert.Fingerprint(r.SPKI()), id))
	})
}

// SetPath records the path that is going to be installed. It is ErrNotFound
// once the stage sign is over: what goes to a device does not change on its way.
func (s Replacements) SetPath(ctx context.Context, id int64, path []*cert.Certificate) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return setPath(ctx, tx, id, path) })
}

func setPath(ctx context.Context, tx *sqlx.Tx, id int64, path []*cert.Certificate) error {
	if err := putCertificates(ctx, tx, path); err != nil {
		return err
	}
	fingerprints := make([]string, len(path))
	for i, c := range path {
		fingerprints[i] = c.SHA256
	}
	if err := noteChain(ctx, tx, fingerprints); err != nil {
		return err
	}
	return changed(tx.ExecContext(ctx, `UPDATE replacement SET path = ?, new_sha256 = ? WHERE id = ?
		AND (stage = 'sign' OR stage = 'prove' AND new_sha256 = '')`, JSON[[]string]{fingerprints}, path[0].SHA256, id))
}

// Accept records the path that came from the signer and what it tells about the signer, and lets the replacement go
// on, all or nothing. A leaf that was unmatched or unused is so no more.
func (s Replacements) Accept(ctx context.Context, id int64, path []*cert.Certificate, learnt *Learnt,
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
			if err := learnHabits(ctx, tx, *learnt, path[0], true); err != nil {
				return err
			}
			i := learnt.Issuer
			if err := learnIssuer(ctx, tx, SignerIssuer{Signer: learnt.Signer, SPKI: i.SPKI, Subject: i.Subject,
				Days: i.Days, Confirmed: learnt.Confirmed, KnownBy: learnt.By, KnownAt: at}); err != nil {
				return err
			}
		}
		r, action, err = s.advance(ctx, tx, id, replacement.Event{Kind: replacement.Arrived}, at)
		return err
	})
	return r, action, err
}
