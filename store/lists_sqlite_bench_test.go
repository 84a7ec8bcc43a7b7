package store_test

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/testkit"
	"freshseal/store"
)

// BenchmarkListsBySQLite answers the kinds of page of BenchmarkLists that are of slots by SQLite alone: a table of what
// lists are filtered and sorted by, an index for each order alone and behind the filters that are usual, and trigrams
// (FTS5) for texts. The console wants a page and how many rows fit; both are asked for. It is why core/judgement/roster
// is kept, see there.
func BenchmarkListsBySQLite(b *testing.B) {
	s := fleetOf(b, 100_000)
	db := listed(b, s)
	filters := map[string]struct {
		where string
		args  []any
	}{
		"all": {"1", nil}, "site": {"site = ?", []any{"site 07"}}, "family": {"family = ?", []any{"family-3"}},
		"owner": {"owner = ?", []any{"owner 9"}}, "condition": {"rank = ?", []any{due.Flawed.Rank()}},
		"rare condition":    {"rank = ?", []any{due.Expired.Rank()}},
		"no condition":      {"rank = ?", []any{due.Unexpected.Rank()}},
		"no site":           {"site = ?", []any{"nowhere"}},
		"site, condition":   {"site = ? AND rank = ?", []any{"site 07", due.Factory.Rank()}},
		"family, condition": {"family = ? AND rank = ?", []any{"family-3", due.Flawed.Rank()}},
		"site, family":      {"site = ? AND family = ?", []any{"site 07", "family-3"}},
		"owner, site":       {"owner = ? AND site = ?", []any{"owner 9", "site 01"}},
		"family, nothing":   {"family = ? AND rank = ?", []any{"family-3", due.Unexpected.Rank()}},
		"text, one hit":     {"id IN (SELECT rowid FROM words WHERE words MATCH ?)", []any{`"box-000777-"`}},
		"text, none":        {"id IN (SELECT rowid FROM words WHERE words MATCH ?)", []any{`"nowhere at all"`}},
		"text, 1 of 10":     {"id IN (SELECT rowid FROM words WHERE words MATCH ?)", []any{`"box-0"`}},
		"text, all":         {"id IN (SELECT rowid FROM words WHERE words MATCH ?)", []any{`"tidewrack"`}},
		"text, site": {"site = ? AND id IN (SELECT rowid FROM words WHERE words MATCH ?)",
			[]any{"site 07", `"tidewrack"`}},
	}
	type kind struct {
		name  string
		times []time.Duration
	}
	var kinds []kind
	for b.Loop() {
		kinds = nil
		for _, sort := range []string{"rank", "not_after", "device", "site", "address"} {
			for name, f := range filters {
				for end, order := range map[string]string{"first": "%s, id LIMIT 50",
					"last":   "%s DESC, id DESC LIMIT 50",
					"middle": "%s, id LIMIT 50 OFFSET 30000"} {
					k := kind{name: fmt.Sprintf("by %s, %s, %s", sort, name, end)}
					for range 3 {
						begun := time.Now()
						rows, err := db.Query(`SELECT id FROM listed WHERE `+f.where+` ORDER BY `+
							fmt.Sprintf(order, sort), f.args...)
						if err != nil {
							b.Fatal(name, err)
						}
						for rows.Next() {
						}
						rows.Close()
						var n int
						if err := db.QueryRow(`SELECT count(*) FROM listed WHERE `+f.where,
							f.args...).Scan(&n); err != nil {
							b.Fatal(name, err)
						}
						k.times = append(k.times, time.Since(begun))
					}
					slices.Sort(k.times)
					kinds = append(kinds, k)
				}
			}
		}
	}
	slices.SortFunc(kinds, func(x, y kind) int { return int(y.times[1] - x.times[1]) })
	for _, k := range kinds[:8] {
		b.Logf("%8.1f ms  %s", float64(k.times[1].Microseconds())/1000, k.name)
	}
	b.ReportMetric(float64(kinds[len(kinds)/100].times[1].Microseconds())/1000, "ms-p99")
	b.ReportMetric(float64(kinds[len(kinds)/2].times[1].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(len(kinds)), "kinds")
}

// listed is a database with what lists need, of the slots of a store.
func listed(b *testing.B, s *store.Store) *sql.DB {
	b.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(b.TempDir(), "lists.db")+
		"?_pragma=journal_mode(wal)&_pragma=mmap_size(1000000000)&_pragma=cache_size(-64000)")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { db.Close() })
	steps := []string{`CREATE TABLE listed (id INTEGER PRIMARY KEY, device TEXT, site TEXT, family TEXT, owner TEXT,
		address TEXT, rank INTEGER, not_after INTEGER)`,
		`CREATE VIRTUAL TABLE words USING fts5(text, tokenize='trigram', content='', detail='full')`}
	for _, by := range []string{"", "site", "family", "owner", "rank", "site, rank", "site, family", "family, rank"} {
		for _, sort := range []string{"rank", "not_after", "device", "site", "address"} {
			columns := strings.TrimPrefix(by+", "+sort, ", ")
			name := strings.NewReplacer(", ", "_").Replace(columns)
			steps = append(steps, fmt.Sprintf(`CREATE INDEX listed_%s ON listed (%s, id)`, name, columns))
		}
	}
	for _, step := range steps {
		if _, err := db.Exec(step); err != nil && !strings.Contains(err.Error(), "duplicate column") {
			b.Fatal(step, err)
		}
	}
	all, err := s.Slots.List(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	devices := map[string]store.Device{}
	for after := ""; ; {
		rows, next, err := s.Devices.Page(b.Context(), store.DeviceFilter{},
			store.Page{Sort: "name", After: after, Most: 1000})
		if err != nil {
			b.Fatal(err)
		}
		for _, d := range rows {
			devices[d.Name] = d
		}
		if after = next; next == "" {
			break
		}
	}
	tx, err := db.Begin()
	if err != nil {
		b.Fatal(err)
	}
	for _, slot := range all {
		d := devices[slot.Device]
		rank := due.State{Base: slot.Base, Overdue: slot.OverdueFrom.Time, Due: slot.DueFrom.Time}.
			At(slot.NotAfter.Time, testkit.Now).Rank()
		_, err := tx.Exec(`INSERT INTO listed VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, slot.ID, slot.Device, d.Site, d.Family,
			d.Owner, slot.Address, rank, slot.NotAfter.UnixMilli())
		if err == nil {
			_, err = tx.Exec(`INSERT INTO words (rowid, text) VALUES (?, ?)`, slot.ID,
				strings.Join([]string{slot.Device, d.Site, d.Owner, slot.Address}, " "))
		}
		if err != nil {
			b.Fatal(err)
		}
	}
	if err := tx.Commit(); err != nil {
		b.Fatal(err)
	}
	if _, err := db.Exec(`ANALYZE`); err != nil {
		b.Fatal(err)
	}
	return db
}
