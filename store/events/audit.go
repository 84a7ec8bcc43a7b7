package events

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"freshseal/core/auditfile"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Audit is who did what, each entry chained to the one before.
type Audit struct{ DB *sqlite.DB }

// AuditEntry is one line of the audit log.
type AuditEntry struct {
	ID    int64         `db:"id"`
	At    sqlite.Moment `db:"at"`
	Who   string        `db:"who"`
	What  string        `db:"what"`
	About string        `db:"about"`
	Hash  string        `db:"hash"` // over the entry and the hash of the one before

	Through string `db:"through"` // the session or token; empty: the service itself
	Address string `db:"address"` // from which it was used
}

// Kept returns the entry as it is kept elsewhere, without its chain.
func (e AuditEntry) Kept() auditfile.Entry {
	return auditfile.Entry{ID: e.ID, At: e.At.UTC(), Who: e.Who, What: e.What, About: e.About, Through: e.Through,
		Address: e.Address, Hash: e.Hash}
}

// sum returns the HMAC-SHA256 (RFC 2104) of the hash before and the entry as a JSON list,
// in hexadecimal. Who can write the database and has no key cannot make one.
func (e AuditEntry) sum(key []byte, before string) string {
	fields := []any{before, e.ID, e.At.UnixMilli(), e.Who, e.What, e.About}
	if e.Through+e.Address != "" {
		fields = append(fields, e.Through, e.Address)
	}
	text, _ := json.Marshal(fields) // plain fields cannot fail
	mac := hmac.New(sha256.New, key)
	mac.Write(text)
	return hex.EncodeToString(mac.Sum(nil))
}

// record adds an entry to the audit log.
func record(ctx context.Context, tx *sqlx.Tx, key []byte, e AuditEntry) error {
	var last AuditEntry
	if err := tx.GetContext(ctx, &last, `SELECT * FROM audit ORDER BY id DESC LIMIT 1`); err != nil &&
		!errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.ID = last.ID + 1
	e.Hash = e.sum(key, last.Hash)
	_, err := tx.NamedExecContext(ctx, `INSERT INTO audit (id, at, who, what, about, hash, through, address)
		VALUES (:id, :at, :who, :what, :about, :hash, :through, :address)`, e)
	return err
}

// AuditFilter narrows the audit log; empty fields do not.
type AuditFilter struct {
	Who, Text   string // Text: somewhere in what, and about what
	From, Until sqlite.Moment
}

var auditList = sqlite.List[AuditEntry]{
	Columns: `*`, From: `audit`, Natural: "id",
	Orders: map[string][]string{"id": {"id"}, "who": {"who", "id"}, "what": {"what", "id"}, "about": {"about", "id"}},
	Keyed: func(e AuditEntry) map[string]any {
		return map[string]any{"id": e.ID, "who": e.Who, "what": e.What, "about": e.About}
	},
}

// Page returns a page of the audit log, the oldest first unless the page says otherwise.
func (s Audit) Page(ctx context.Context, f AuditFilter, p sqlite.Page) ([]AuditEntry, string, error) {
	return auditList.Page(ctx, s.DB, p, f.narrowings()...)
}

// Count returns how many entries fit a filter.
func (s Audit) Count(ctx context.Context, f AuditFilter) (int, error) {
	return auditList.Count(ctx, s.DB, f.narrowings()...)
}

func (f AuditFilter) narrowings() []sqlite.Narrowing {
	out := sqlite.Narrow(map[string]string{"who = ?": f.Who,
		"instr(lower(what || ' ' || about), ?) > 0": strings.ToLower(f.Text)})
	if !f.From.IsZero() {
		out = append(out, sqlite.Where("at >= ?", f.From))
	}
	if !f.Until.IsZero() {
		out = append(out, sqlite.Where("at < ?", f.Until))
	}
	return out
}

// Verify goes through the whole audit log and says how many entries it has;
// an error names the first that was changed, or is missing.
func (s Audit) Verify(ctx context.Context) (entries int, err error) {
	before := ""
	err = s.Walk(ctx, func(e AuditEntry) error {
		if e.ID != int64(entries+1) {
			return fmt.Errorf("entry %d is missing", entries+1)
		}
		if e.Hash != e.sum(s.DB.AuditKey, before) {
			return fmt.Errorf("entry %d of %s is not what was written", e.ID, e.At.Format("2006-01-02 15:04:05 MST"))
		}
		before = e.Hash
		entries++
		return nil
	})
	return entries, err
}

// Walk goes through the whole audit log, the oldest entry first.
func (s Audit) Walk(ctx context.Context, look func(AuditEntry) error) error {
	rows, err := s.DB.Read.QueryxContext(ctx, `SELECT * FROM audit ORDER BY id`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var e AuditEntry
		if err := rows.StructScan(&e); err != nil {
			return err
		}
		if err := look(e); err != nil {
			return err
		}
	}
	return rows.Err()
}

// After returns entries behind one, the oldest first.
func (s Audit) After(ctx context.Context, id int64, most int) ([]AuditEntry, error) {
	var out []AuditEntry
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM audit WHERE id > ? ORDER BY id LIMIT ?`, id, most)
}

// Head returns the newest entry; ErrNotFound: there is none.
func (s Audit) Head(ctx context.Context) (AuditEntry, error) {
	var e AuditEntry
	return e, sqlite.Row(s.DB.Read.GetContext(ctx, &e, `SELECT * FROM audit ORDER BY id DESC LIMIT 1`))
}

// Entry returns the entry of a number.
func (s Audit) Entry(ctx context.Context, id int64) (AuditEntry, error) {
	var e AuditEntry
	return e, sqlite.Row(s.DB.Read.GetContext(ctx, &e, `SELECT * FROM audit WHERE id = ?`, id))
}
