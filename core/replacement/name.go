package replacement

import (
	"strconv"
	"strings"
)

// Name returns how people name the replacement with this number: r12. The letter
// keeps it from being taken for a port.
func Name(number int64) string { return "r" + strconv.FormatInt(number, 10) }

// Number returns the number of the replacement of this name; false where it is not such a name.
func Number(name string) (int64, bool) {
	digits, ok := strings.CutPrefix(name, "r")
	n, err := strconv.ParseInt(digits, 10, 64)
	return n, ok && err == nil && n > 0
}
