package service

import (
	"context"
	"strconv"
	"time"

	"freshseal/store"
)

// LedgerEntry is a line of the ledger as the API shows it.
type LedgerEntry struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Who   string    `json:"who" required:"true"`
	What  string    `json:"what" required:"true"`
	About string    `json:"about" required:"true"`
	Hash  string    `json:"hash" required:"true" description:"SHA-256 over the entry and the hash before it"`
}

// Verification says whether the ledger is as it was written.
type Verification struct {
	Entries int    `json:"entries" required:"true" description:"that hold, from the first on"`
	Whole   bool   `json:"whole" required:"true"`
	Fault   string `json:"fault,omitempty"`
}

// Record writes into the ledger who does what.
func (s *Service) Record(ctx context.Context, who, what, about string) error {
	return s.store.Record(ctx, store.LedgerEntry{At: s.moment(), Who: who, What: what, About: about})
}

// Ledger are the entries before a known one, newest first, 200 at a time.
func (s *Service) Ledger(ctx context.Context, before string) ([]LedgerEntry, error) {
	var id int64
	if before != "" {
		var err error
		if id, err = strconv.ParseInt(before, 10, 64); err != nil || id < 1 {
			return nil, invalid("the ledger cannot be listed from there", before+" is no entry's id", "give the id of an entry, or none")
		}
	}
	rows, err := s.store.Ledger(ctx, id, 200)
	out := make([]LedgerEntry, 0, len(rows))
	for _, e := range rows {
		out = append(out, LedgerEntry{e.ID, e.At.Time, e.Who, e.What, e.About, e.Hash})
	}
	return out, err
}

// VerifyLedger goes through the whole ledger.
func (s *Service) VerifyLedger(ctx context.Context) (Verification, error) {
	n, err := s.store.VerifyLedger(ctx)
	if err != nil {
		return Verification{Entries: n, Fault: err.Error()}, ctx.Err()
	}
	return Verification{Entries: n, Whole: true}, nil
}
