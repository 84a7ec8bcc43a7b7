package people

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/auditfile"
	"freshseal/core/terminal/visible"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/events"
)

// Log is the audit log: who did what.
type Log struct{ *Service }

// Record adds an entry to the audit log.
func (s *Service) Record(ctx context.Context, who, what, about string) error {
	return s.store.Outbox.Act(ctx, s.moment(), who, what, about)
}

func auditRows(f contract.AuditFilter) (events.AuditFilter, error) {
	out := events.AuditFilter{Who: f.Who, Text: f.Text}
	for _, bound := range []struct {
		text string
		to   *store.Moment
		more time.Duration
	}{{f.From, &out.From, 0}, {f.Until, &out.Until, 24 * time.Hour}} {
		if bound.text == "" {
			continue
		}
		at, err := time.Parse(time.DateOnly, bound.text)
		if at = at.Add(bound.more); err != nil {
			at, err = time.Parse(time.RFC3339, bound.text)
		}
		if err != nil {
			return out, problem.Reject("the audit log cannot be listed", fmt.Sprintf("%q is not a time", bound.text),
				"write a day such as 2026-03-01, or a time in RFC 3339")
		}
		*bound.to = store.At(at)
	}
	return out, nil
}

// Page returns a page of the audit log, newest first, and the cursor of the next page or
// nothing.
func (s Log) Page(ctx context.Context, f contract.AuditFilter,
	p store.Page) ([]contract.AuditEntry, string, error) {
	filter, err := auditRows(f)
	if err != nil {
		return nil, "", err
	}
	p.Desc = p.Desc || p.Sort == ""
	rows, next, err := s.store.Audit.Page(ctx, filter, p)
	out := make([]contract.AuditEntry, 0, len(rows))
	for _, e := range rows {
		out = append(out, contract.AuditEntry{ID: e.ID, At: e.At.Time, Who: e.Who, What: e.What, About: e.About,
			Hash: e.Hash, Through: e.Through, Address: e.Address})
	}
	return out, next, err
}

// mostOfSheet is the maximum number of entries of a sheet: it is built in memory.
const mostOfSheet = 200_000

// Sheet writes the entries that fit a filter as CSV, in the order of the page. It refuses to write more than
// mostOfSheet.
func (s Log) Sheet(ctx context.Context, w io.Writer, f contract.AuditFilter, p store.Page) error {
	if n, err := s.Count(ctx, f); err != nil {
		return err
	} else if n > mostOfSheet {
		return problem.Reject("the audit log was not exported", fmt.Sprintf("%d entries fit, and a file has at "+
			"most %d", n, mostOfSheet), "export it in parts: filter by date with from and until")
	}
	rows := csv.NewWriter(w)
	rows.Write([]string{"id", "at", "who", "what", "about", "hash", "through", "address"})
	for {
		some, next, err := s.Page(ctx, f, p)
		if err != nil {
			return err
		}
		for _, e := range some {
			rows.Write([]string{strconv.FormatInt(e.ID, 10), e.At.UTC().Format(time.RFC3339), visible.Cell(e.Who),
				visible.Cell(e.What), visible.Cell(e.About), e.Hash, visible.Cell(e.Through), e.Address})
		}
		if p.After, p.Skip = next, 0; next == "" {
			rows.Flush()
			return rows.Error()
		}
	}
}

// Export writes the entries of a period as JSON lines, which are verified without the service; see package auditfile.
// A period begins with the first entry that is not before from, and ends before until.
func (s Log) Export(ctx context.Context, w io.Writer, f contract.AuditFilter) error {
	const cannot = "the audit log was not exported"
	filter, err := auditRows(contract.AuditFilter{From: f.From, Until: f.Until})
	if err != nil {
		return err
	}
	if f.Who != "" || f.Text != "" {
		return problem.Reject(cannot, "a part of it is whole: it has all entries of a period",
			"give a period alone; the sheet can be filtered")
	}
	var to *auditfile.Writer
	chain, written := auditfile.Start, 0
	last := int64(0)
	err = s.store.Audit.Walk(ctx, func(row events.AuditEntry) error {
		e, before := row.Kept(), chain
		chain, last = e.After(chain), row.ID
		if to == nil && row.At.Before(filter.From.Time) {
			return nil
		}
		if !filter.Until.IsZero() && !row.At.Before(filter.Until.Time) {
			if to == nil {
				last, chain = row.ID-1, before
			}
			return errEnough
		}
		if written++; written > mostOfSheet {
			return problem.Reject(cannot, fmt.Sprintf("more than %d entries are in the period, and a file has at most "+
				"that many", mostOfSheet), "export it in parts, by from and until: the parts join")
		}
		if to == nil {
			if to, err = auditfile.NewWriter(w, row.ID, before); err != nil {
				return err
			}
		}
		return to.Add(e)
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	if to == nil { // there is no entry in the period
		if to, err = auditfile.NewWriter(w, last+1, chain); err != nil {
			return err
		}
	}
	return to.End()
}

var errEnough = errors.New("the period has ended")

// Count returns how many entries fit a filter.
func (s Log) Count(ctx context.Context, f contract.AuditFilter) (int, error) {
	filter, err := auditRows(f)
	if err != nil {
		return 0, err
	}
	return s.store.Audit.Count(ctx, filter)
}

// Head returns the newest entry.
func (s Log) Head(ctx context.Context) (contract.Head, error) {
	e, err := s.store.Audit.Head(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return contract.Head{}, nil
	}
	return contract.Head{ID: e.ID, Hash: e.Hash, At: e.At.Time}, err
}

// Verify verifies the whole audit log, and that it still holds a head that was
// noted earlier: ID:HASH, or nothing.
func (s Log) Verify(ctx context.Context, head string) (contract.Verification, error) {
	number, hash, noted := strings.Cut(head, ":")
	id, err := strconv.ParseInt(number, 10, 64)
	if head != "" && (!noted || err != nil) {
		return contract.Verification{}, problem.Reject("the audit log was not verified",
			fmt.Sprintf("%q is not a head", head), "give ID:HASH, as a head was noted")
	}
	n, err := s.store.Audit.Verify(ctx)
	if err != nil {
		return contract.Verification{Entries: n, Fault: err.Error()}, ctx.Err()
	}
	if head == "" || id == 0 {
		return contract.Verification{Entries: n, Whole: true}, nil
	}
	e, err := s.store.Audit.Entry(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return contract.Verification{Entries: n, Fault: fmt.Sprintf("it ends at entry %d, and entry %d was there "+
			"when the head was noted: its end was cut off", n, id)}, nil
	case err != nil:
		return contract.Verification{}, err
	case e.Hash != hash:
		return contract.Verification{Entries: n, Fault: fmt.Sprintf("entry %d has another hash than the head that "+
			"was noted", id)}, nil
	}
	return contract.Verification{Entries: n, Whole: true}, nil
}
