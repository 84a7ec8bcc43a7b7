package procedure_test

import (
	"fmt"
	"strings"
	"testing"

	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
)

// A family is reported in words, also where its file has faults in any of its steps.
func TestAFamilyIsToldOf(t *testing.T) {
	for name, p := range library.Builtin() {
		if told := rehearsal.Tell(p.Procedure); len(told) == 0 {
			t.Errorf("%s: nothing is told", name)
		}
	}
	for _, step := range []string{
		"    - {run: boxctl set, undo: {rum: boxctl unset}}\n",
		"    - {run: boxctl set, undo: nothing, finally: {rum: boxctl leave}}\n",
		"    - {run: boxctl set, undo: [a]}\n",
		"    - {step: a, rum: true}\n",
	} {
		p, faults := procedure.Parse([]byte(frame(step)))
		if told := fmt.Sprint(rehearsal.Tell(p)); len(faults) == 0 || !strings.Contains(told, "print it") {
			t.Errorf("%s: %v, told %s", step, faults, told)
		}
	}
}
