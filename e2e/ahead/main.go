// Command ahead is the program with a clock that is some time ahead, for tests that let a year go by.
package main

import (
	"fmt"
	"os"
	"time"

	"freshseal/cli"
	"freshseal/cmd/freshseal/host"
)

func main() {
	ahead, err := time.ParseDuration(os.Getenv("AHEAD"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "AHEAD is not a duration, such as 1128h")
		os.Exit(2)
	}
	os.Exit(cli.Main(os.Args[1:], func() time.Time { return time.Now().Add(ahead) }, host.Commands))
}
