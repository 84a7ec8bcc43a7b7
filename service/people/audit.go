package people

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/service/problem"
	"freshseal/store"
)

// Record adds an entry to the audit log.
func (s *Service) Record(ctx context.Context, who, what, about string) error {
	return s.store.Outbox.Act(ctx, s.moment(), who, what, about)
}

func auditRows(f contract.AuditFilter) (store.AuditFilter, error) {
	out := store.AuditFilter{Who: f.Who, Text: f.Text}
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

// Audit returns a page of the audit log, newest first, and the cursor of the next page or
// nothing.
func (s *Service) Audit(ctx context.Context, f contract.AuditFilter,
	p store.Page) ([]contract.AuditEntry, string, error) {
	filter, err := auditRows(f)
	if err != nil {
		return nil, "", err
	}
	p.Desc = true
	rows, next, err := s.store.Audit.Page(ctx, filter, p)
	out := make([]contract.AuditEntry, 0, len(rows))
	for _, e := range rows {
		out = append(out, contract.AuditEntry{ID: e.ID, At: e.At.Time, Who: e.Who, What: e.What, About: e.About,
			Hash: e.Hash})
	}
	return out, next, err
}

// CountAudit says how many entries fit a filter.
func (s *Service) CountAudit(ctx context.Context, f contract.AuditFilter) (int, error) {
	filter, err := auditRows(f)
	if err != nil {
		return 0, err
	}
	return s.store.Audit.Count(ctx, filter)
}

// AuditHead returns the newest entry.
func (s *Service) AuditHead(ctx context.Context) (contract.Head, error) {
	e, err := s.store.Audit.Head(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return contract.Head{}, nil
	}
	return contract.Head{ID: e.ID, Hash: e.Hash, At: e.At.Time}, err
}

// VerifyAudit verifies the whole audit log, and that it still holds a head that was
// noted earlier: ID:HASH, or nothing.
func (s *Service) VerifyAudit(ctx context.Context, head string) (contract.Verification, error) {
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
