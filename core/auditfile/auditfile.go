// Package auditfile writes and verifies files with a part of the audit log, as JSON lines (one JSON object a line).
//
//	{"audit_log":1,"first":12,"before":"9f3c…"}          of which entry on, and the chain before it
//	{"id":12,"at":"…","who":"ann",…,"chain":"51d0…"}     an entry for each line
//	{"end":3,"chain":"a7e2…"}                            how many entries, and the chain after the last one
//
// Each entry's chain is the SHA-256 of the chain before it and of the entry, so a file shows by itself that nothing in
// it was changed, cut out or cut off, and two files show that nothing is missing between them. It needs no key. Who
// rewrites a whole file can make all of it fit again: note the chain of an entry elsewhere, or send the entries to a
// log server, and compare.
package auditfile

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
)

// Entry is an entry of the audit log as it is kept elsewhere.
type Entry struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"` // to the millisecond
	Who     string    `json:"who"`
	What    string    `json:"what"`
	About   string    `json:"about"`
	Through string    `json:"through,omitempty"`
	Address string    `json:"address,omitempty"`
	Hash    string    `json:"hash"`            // HMAC of the service, which verifies it
	Chain   string    `json:"chain,omitempty"` // SHA-256 over the chain before it and the entry
}

// After returns the chain after an entry: the SHA-256, in hexadecimal, of the JSON list of the chain before and the
// entry's fields, its time in milliseconds since 1970.
func (e Entry) After(before string) string {
	text, _ := json.Marshal([]any{before, e.ID, e.At.UnixMilli(), e.Who, e.What, e.About, e.Through, e.Address,
		e.Hash}) // plain fields cannot fail
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Start is the chain before the first entry.
const Start = ""

type head struct {
	Version int    `json:"audit_log"`
	First   int64  `json:"first"`
	Before  string `json:"before"`
}

type foot struct {
	Entries *int64 `json:"end"`
	Chain   string `json:"chain"`
}

// Writer writes a file.
type Writer struct {
	to      *json.Encoder
	chain   string
	next    int64
	entries int64
}

// NewWriter begins a file with the entry of a number, whose chain before is given.
func NewWriter(w io.Writer, first int64, before string) (*Writer, error) {
	to := json.NewEncoder(w)
	return &Writer{to: to, chain: before, next: first}, to.Encode(head{1, first, before})
}

// Add writes the next entry.
func (w *Writer) Add(e Entry) error {
	if e.ID != w.next {
		return fmt.Errorf("entry %d follows where %d is to", e.ID, w.next)
	}
	e.At = e.At.UTC().Truncate(time.Millisecond)
	e.Chain = e.After(w.chain)
	w.chain, w.next, w.entries = e.Chain, e.ID+1, w.entries+1
	return w.to.Encode(e)
}

// End writes the last line. A file without it was cut off.
func (w *Writer) End() error { return w.to.Encode(foot{&w.entries, w.chain}) }

// Limits of a file that is verified.
const maxLine = 1 << 20 // bytes

// Part is what a verified file has.
type Part struct {
	First, Last int64  // numbers of its entries; Last is First-1 where it has none
	Before      string // the chain before the first entry
	Chain       string // the chain after the last one
	Entries     int64
}

// Fault is why a file is not what was written.
type Fault struct {
	Line int
	What string
}

func (f Fault) Error() string { return fmt.Sprintf("line %d: %s", f.Line, f.What) }

// Verify reads a file to its end. look is called with each entry, once it is verified; nil: with none. A [Fault] says
// where the file is not what was written.
func Verify(r io.Reader, look func(Entry)) (Part, error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, maxLine)
	line := 0
	fault := func(format string, args ...any) (Part, error) {
		return Part{}, Fault{line, fmt.Sprintf(format, args...)}
	}
	next := func() bool { line++; return lines.Scan() }
	var h head
	if !next() || read(lines.Bytes(), &h) != nil || h.Version != 1 || h.First < 1 {
		if err := lines.Err(); err != nil && !errors.Is(err, bufio.ErrTooLong) {
			return Part{}, err
		}
		return fault("this is no part of an audit log")
	}
	part := Part{First: h.First, Last: h.First - 1, Before: h.Before, Chain: h.Before}
	for next() {
		var f foot
		if read(lines.Bytes(), &f) == nil && f.Entries != nil {
			switch {
			case *f.Entries != part.Entries:
				return fault("%d entries were written, and %d are here", *f.Entries, part.Entries)
			case f.Chain != part.Chain:
				return fault("the last line is not the one that was written")
			case next():
				return fault("something follows the last line")
			}
			return part, lines.Err()
		}
		var e Entry
		if err := read(lines.Bytes(), &e); err != nil {
			return fault("it is no entry: %v", err)
		}
		switch {
		case e.ID != part.Last+1:
			return fault("entry %d is missing", part.Last+1)
		case e.Chain != e.After(part.Chain):
			return fault("entry %d is not what was written", e.ID)
		}
		part.Last, part.Chain, part.Entries = e.ID, e.Chain, part.Entries+1
		if look != nil {
			look(e)
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return fault("it is longer than %d bytes", maxLine)
	} else if lines.Err() != nil {
		return Part{}, lines.Err()
	}
	return fault("the file was cut off: its last line is missing")
}

var errOtherwise = errors.New("it is not written as it was")

// read decodes a line that must be what the writer makes of its value, to the byte: so nothing hides in it, such as a
// second value of a field, and all readers see the same.
func read(line []byte, into any) error {
	if err := json.Unmarshal(line, into); err != nil {
		return err
	}
	var again bytes.Buffer
	if err := json.NewEncoder(&again).Encode(into); err != nil {
		return err
	}
	if !bytes.Equal(bytes.TrimSuffix(again.Bytes(), []byte("\n")), line) {
		return errOtherwise
	}
	return nil
}
