package cli

import (
	"runtime"

	"freshseal/contract"
)

// commit is that of which the program was built; make sets it.
var commit string

// version returns which program this is: its version, its commit, and Go's version.
func version() string {
	out := contract.Version
	if commit != "" {
		out += ", commit " + commit
	}
	return out + ", " + runtime.Version()
}
