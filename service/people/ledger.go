package people

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"freshseal/service/problem"
	"freshseal/store"
)

// LedgerEntry is a line of the ledger as the API shows it.
type LedgerEntry struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Who   string    `json:"who" required:"true"`
	What  string    `json:"what" required:"true"`
	About string    `json:"about" required:"true"`
	Hash  string    `json:"hash" required:"true" description:"HMAC-SHA256 over the entry and the hash before it, with a key from the strongbox"`
}

// Head is the newest entry of the ledger. Who notes it elsewhere sees later whether the
// end of the ledger was cut off.
type Head struct {
	ID   int64     `json:"id" required:"true"`
	Hash string    `json:"hash" required:"true"`
	At   time.Time `json:"at" required:"true"`
}

// Verification is the result of verifying the ledger.
type Verification struct {
	Entries int    `json:"entries" required:"true" description:"that hold, from the first on"`
	Whole   bool   `json:"whole" required:"true"`
	Fault   string `json:"fault,omitempty"`
}

// Record adds an entry to the ledger.
func (s *Service) Record(ctx context.Context, who, what, about string) error {
	return s.store.Act(ctx, s.moment(), who, what, about)
}

// LedgerFilter narrows the ledger; empty fields do not.
type LedgerFilter struct {
	Who   string `query:"who" json:"-"`
	Text  string `query:"text" json:"-" description:"somewhere in what was done, and to what"`
	From  string `query:"from" json:"-" description:"a day or a time in RFC 3339"`
	Until string `query:"until" json:"-" description:"a day, which is included, or a time in RFC 3339"`
}

func (f LedgerFilter) rows() (store.LedgerFilter, error) {
	out := store.LedgerFilter{Who: f.Who, Text: f.Text}
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
			return out, problem.Reject("the ledger cannot be listed", fmt.Sprintf("%q is not a time", bound.text), "write a day such as 2026-03-01, or a time in RFC 3339")
		}
		*bound.to = store.At(at)
	}
	return out, nil
}

// Ledger returns a page of the ledger, newest first, and the cursor of the next page or
// nothing.
func (s *Service) Ledger(ctx context.Context, f LedgerFilter, p store.Page) ([]LedgerEntry, string, error) {
	filter, err := f.rows()
	if err != nil {
		return nil, "", err
	}
	p.Desc = true
	rows, next, err := s.store.LedgerPage(ctx, filter, p)
	out := make([]LedgerEntry, 0, len(rows))
	for _, e := range rows {
		out = append(out, LedgerEntry{e.ID, e.At.Time, e.Who, e.What, e.About, e.Hash})
	}
	return out, next, err
}

// CountLedger says how many entries fit a filter.
func (s *Service) CountLedger(ctx context.Context, f LedgerFilter) (int, error) {
	filter, err := f.rows()
	if err != nil {
		return 0, err
	}
	return s.store.CountLedger(ctx, filter)
}

// LedgerHead returns the newest entry.
func (s *Service) LedgerHead(ctx context.Context) (Head, error) {
	e, err := s.store.LedgerHead(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return Head{}, nil
	}
	return Head{e.ID, e.Hash, e.At.Time}, err
}

// VerifyLedger verifies the whole ledger, and that it still holds a head that was
// noted earlier: ID:HASH, or nothing.
func (s *Service) VerifyLedger(ctx context.Context, head string) (Verification, error) {
	number, hash, noted := strings.Cut(head, ":")
	id, err := strconv.ParseInt(number, 10, 64)
	if head != "" && (!noted || err != nil) {
		return Verification{}, problem.Reject("the ledger was not verified", fmt.Sprintf("%q is not a head", head), "give ID:HASH, as a head was noted")
	}
	n, err := s.store.VerifyLedger(ctx)
	if err != nil {
		return Verification{Entries: n, Fault: err.Error()}, ctx.Err()
	}
	if head == "" || id == 0 {
		return Verification{Entries: n, Whole: true}, nil
	}
	e, err := s.store.LedgerEntry(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return Verification{Entries: n, Fault: fmt.Sprintf("it ends at entry %d, and entry %d was there when the head was noted: its end was cut off", n, id)}, nil
	case err != nil:
		return Verification{}, err
	case e.Hash != hash:
		return Verification{Entries: n, Fault: fmt.Sprintf("entry %d has another hash than the head that was noted", id)}, nil
	}
	return Verification{Entries: n, Whole: true}, nil
}
