package value_test

import (
	"os/exec"
	"strings"
	"testing"

	"freshseal/core/language/value"
)

func FuzzQuote(f *testing.F) {
	for _, each := range []string{"plain", "two words", "it's", "2", "if", "a\nb", "é", "\xff\xfe", "-x"} {
		f.Add(each)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "\x00") || len(text) > 1000 || strings.HasPrefix(text, "-") {
			return
		}
		out, err := exec.Command("sh", "-c", "printf %s "+value.Quote(text)).Output()
		if err != nil || string(out) != text {
			t.Errorf("%q became %q, error %v", text, out, err)
		}
	})
}
