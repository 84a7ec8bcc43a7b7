package cli

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"freshseal/contract"
	"freshseal/core/judgement/due"
)

// A table fits 80 columns: texts give way first, at their end, names last, in their
// middle, and neither into nonsense.
func TestTablesFit(t *testing.T) {
	ends := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	list := table{head: []string{"condition", "slot", "finding", "ends"}}
	list.add(due.Factory, "lamp-3.northholm.tidewrack.example/web", strings.Repeat("the certificate is self-signed ",
		3), day{&ends})
	list.add(due.Fresh, "x/web", "", day{})
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
	list.write(&out, 64)
	if !strings.Contains(out.String(), "lamp-3.nort") || !strings.Contains(out.String(), "/web") {
		t.Errorf("a name lost its ends:\n%s", out.String())
	}
	values := table{head: []string{"what", "value"}}
	pin := "ssh-ed25519 SHA256:" + strings.Repeat("A1b2", 20)
	values.add("pin", pin)
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
	list := table{head: []string{"condition", "slot", "sha256", "read", "ends"}}
	list.add(due.Flawed, strings.Repeat("long-", 40), digest(strings.Repeat("ab", 32)), at, day{})
	var out bytes.Buffer
	if err := (&app{as: "csv", out: &out}).print(nil, list); err != nil {
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

// Before its first reading a slot is called so in what people read; programs get the condition.
func TestASlotIsNotCalledUnreachableBeforeItWasRead(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		as   string
		slot contract.Slot
		want due.Condition
	}{
		{"table", contract.Slot{Condition: due.Unreachable}, "not read yet"},
		{"table", contract.Slot{Condition: due.Unreachable, ReadAt: &now}, due.Unreachable},
		{"table", contract.Slot{Condition: due.Fresh, ReadAt: &now}, due.Fresh},
		{"csv", contract.Slot{Condition: due.Unreachable}, due.Unreachable},
	} {
		if got := (&app{as: c.as}).condition(c.slot); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}
