package fleet

import (
	"testing"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/due"
)

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
		if got := (&commands{&cli.App{As: c.as}}).condition(c.slot); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}
