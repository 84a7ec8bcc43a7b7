package auditfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"
)

var began = time.Date(2035, 4, 1, 8, 0, 0, 123456789, time.UTC)

// written is a file with some entries, and the chain after them.
func written(t *testing.T, first, last int64, before string) (text, chain string) {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(&out, first, before)
	for id := first; err == nil && id <= last; id++ {
		err = w.Add(Entry{ID: id, At: began.Add(time.Duration(id) * time.Second), Who: "ann", What: "did",
			About: fmt.Sprint("“it”, line\n", id), Through: "console 1, password", Address: "192.0.2.1", Hash: "ab"})
	}
	if err := errors.Join(err, w.End()); err != nil {
		t.Fatal(err)
	}
	return out.String(), w.chain
}

func TestTwoFilesJoin(t *testing.T) {
	one, chain := written(t, 1, 3, Start)
	two, _ := written(t, 4, 9, chain)
	var seen []int64
	first, err := Verify(strings.NewReader(one), func(e Entry) { seen = append(seen, e.ID) })
	if err != nil || first.Entries != 3 || first.Chain != chain || fmt.Sprint(seen) != "[1 2 3]" {
		t.Errorf("%+v, %v, %v", first, seen, err)
	}
	second, err := Verify(strings.NewReader(two), nil)
	if err != nil || second.Before != first.Chain || second.First != 4 || second.Last != 9 {
		t.Errorf("%+v, %v", second, err)
	}
	none, _ := written(t, 10, 9, second.Chain)
	if part, err := Verify(strings.NewReader(none), nil); err != nil || part.Entries != 0 || part.Last != 9 {
		t.Errorf("without entries: %+v, %v", part, err)
	}
	w, err := NewWriter(io.Discard, 4, chain)
	if err := errors.Join(err, w.Add(Entry{ID: 5})); err == nil {
		t.Error("a gap is written")
	}
}

// Whatever is changed, cut out, cut off, put in or put elsewhere is found.
func TestWhatIsNotAsWrittenIsFound(t *testing.T) {
	text, _ := written(t, 5, 9, "abc")
	lines := strings.SplitAfter(strings.TrimSuffix(text, "\n"), "\n")
	change := func(f func(l []string) []string) string {
		return strings.Join(f(append([]string{}, lines...)), "")
	}
	for want, is := range map[string]string{
		"line 3: entry 6 is not what was written": change(func(l []string) []string {
			l[2] = strings.Replace(l[2], "ann", "bob", 1)
			return l
		}),
		"line 3: entry 6 is missing": change(func(l []string) []string { return append(l[:2], l[3:]...) }),
		"line 4: entry 7 is missing": change(func(l []string) []string { l[3], l[4] = l[4], l[3]; return l }),
		"line 2: it is no entry: it is not written as it was": change(func(l []string) []string {
			l[1] = strings.Replace(l[1], `"who"`, `"who":"bob","who"`, 1)
			return l
		}),
		"line 2: entry 5 is not what was written": change(func(l []string) []string {
			l[0] = strings.Replace(l[0], "abc", "abd", 1)
			return l
		}),
		"line 6: 5 entries were written, and 4 are here": change(func(l []string) []string {
			return append(l[:5], l[6])
		}),
		"line 7: the last line is not the one that was written": change(func(l []string) []string {
			l[6] = strings.Replace(l[6], `"chain":"`, `"chain":"0`, 1)
			return l
		}),
		"line 7: the file was cut off":           change(func(l []string) []string { return l[:6] }),
		"line 8: something follows the last":     text + "{}\n",
		"line 1: this is no part of an audit":    change(func(l []string) []string { return l[1:] }),
		"line 2: it is no entry: invalid char":   lines[0] + "nonsense\n",
		"line 2: it is longer than 1048576 byte": lines[0] + strings.Repeat(" ", maxLine+1),
	} {
		_, err := Verify(strings.NewReader(is), nil)
		if f := (Fault{}); !errors.As(err, &f) || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%v, want %s", err, want)
		}
	}
	for _, is := range []string{"", "\n", "{}", `{"audit_log":2,"first":1}`, `{"audit_log":1,"first":0}`} {
		if _, err := Verify(strings.NewReader(is), nil); err == nil {
			t.Errorf("%q is taken for a part of an audit log", is)
		}
	}
}

// A byte that is changed anywhere is found.
func TestAnyByteThatIsChangedIsFound(t *testing.T) {
	text, _ := written(t, 1, 2, Start)
	for i := range len(text) - 1 {
		changed := []byte(text)
		changed[i] ^= []byte{1, 0x20}[i%2]
		if part, err := Verify(bytes.NewReader(changed), nil); err == nil {
			t.Errorf("byte %d: %q is verified as %+v", i, changed[max(0, i-10):i+10], part)
		}
	}
}

func FuzzVerify(f *testing.F) {
	f.Add("{\"audit_log\":1,\"first\":1,\"before\":\"\"}\n{\"end\":0,\"chain\":\"\"}\n")
	f.Fuzz(func(t *testing.T, text string) {
		if part, err := Verify(strings.NewReader(text), nil); err == nil && part.Last != part.First+part.Entries-1 {
			t.Errorf("%+v", part)
		}
	})
}
