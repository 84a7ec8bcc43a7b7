package cli

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"freshseal/core/judgement/due"
)

// A table fits 80 columns: texts give way first, at their end, then what a thing belongs to, in its middle. Names and
// fingerprints are never cut: who looks for one, or compares it, needs all of it.
func TestTablesFit(t *testing.T) {
	ends := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	list := Table{Head: []string{"condition", "slot", "finding", "ends"}}
	list.Add(due.Factory, "lamp-3.northholm.tidewrack.example/web", strings.Repeat("the certificate is self-signed ",
		3), Day{&ends})
	list.Add(due.Fresh, "x/web", "", Day{})
	var out bytes.Buffer
	list.write(&out, 80)
	for line := range strings.Lines(out.String()) {
		if n := utf8.RuneCountInString(strings.TrimRight(line, "\n")); n > 80 {
			t.Errorf("%d columns: %s", n, line)
		}
	}
	for _, want := range []string{"▣ factory", "lamp-3.northholm.tidewrack.example/web", "2026-12-01", "●"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is not in\n%s", want, out.String())
		}
	}
	out.Reset()
	list.write(&out, 40)
	if !strings.Contains(out.String(), "lamp-3.northholm.tidewrack.example/web") {
		t.Errorf("a name was cut:\n%s", out.String())
	}
	out.Reset()
	devices := Table{Head: []string{"device", "site", "family"}}
	devices.Add("balance.turnstone.tidewrack.example", "The engine room of the Turnstone", "load-balancer-by-calls")
	devices.write(&out, 64)
	if is := strings.Split(out.String(), "\n")[1]; utf8.RuneCountInString(is) != 64 ||
		!strings.HasPrefix(is, "balance.turnstone.tidewrack.example  The e") ||
		!strings.Contains(is, "tone  load-bala…") {
		t.Errorf("cut to %d columns: %s", utf8.RuneCountInString(is), is)
	}
	roots := Table{Head: []string{"root", "ends", "sha256"}}
	print := strings.Repeat("0123456789abcdef", 4)
	roots.Add("Tidewrack Ferries Root", Day{&ends}, Fingerprint(print))
	for columns, is := range map[int]string{
		80:  "ROOT                    ENDS\nTidewrack Ferries Root  2026-12-01\n  SHA256 " + print + "\n",
		100: "ROOT                    ENDS        SHA256\nTidewrack Ferries Root  2026-12-01  " + print + "\n",
	} {
		out.Reset()
		if roots.write(&out, columns); out.String() != is {
			t.Errorf("in %d columns:\n%s", columns, out.String())
		}
	}
	values := Table{Head: []string{"what", "value"}}
	pin := "ssh-ed25519 SHA256:" + strings.Repeat("A1b2", 20)
	values.Add("pin", pin)
	out.Reset()
	values.write(&out, 60)
	if joined := strings.Join(strings.Fields(strings.ReplaceAll(out.String(), "pin", "")),
		""); !strings.Contains(joined, strings.ReplaceAll(pin, " ", "")) {
		t.Errorf("a value was cut:\n%s", out.String())
	}
}

// What programs read has words, whole texts and ISO times, and no marks.
func TestProgramsReadWordsAndTimes(t *testing.T) {
	at := time.Date(2026, 12, 1, 12, 30, 0, 0, time.UTC)
	list := Table{Head: []string{"condition", "slot", "sha256", "read", "ends"}}
	list.Add(due.Flawed, strings.Repeat("long-", 40), Digest(strings.Repeat("ab", 32)), at, Day{})
	var out bytes.Buffer
	if err := (&App{As: "csv", Out: &out}).Print(nil, list); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil || len(rows) != 2 {
		t.Fatal(rows, err)
	}
	want := []string{"flawed", strings.Repeat("long-", 40), strings.Repeat("ab", 32), "2026-12-01T12:30:00Z", ""}
	for i, cell := range rows[1] {
		if cell != want[i] {
			t.Errorf("%s is %q, want %q", rows[0][i], cell, want[i])
		}
	}
}

func TestLastedHasTwoUnits(t *testing.T) {
	for seconds, want := range map[float64]string{0: "0.00 s", 2.146: "2.15 s", 60: "1 min", 724: "12 min 4 s",
		3 * 3600: "3 h", 3*3600 + 59: "3 h", 3*86400 + 4*3600 + 300: "3 d 4 h", 400 * 86400: "400 d"} {
		if got := Lasted(seconds); got != want {
			t.Errorf("%v seconds are %q, want %q", seconds, got, want)
		}
	}
}
