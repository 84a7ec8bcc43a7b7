// Command ahead is the program with a clock that is some days ahead, for tests that let a year go by.
package main

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"freshseal/cli"
)

func main() {
	days, err := strconv.Atoi(os.Getenv("AHEAD_DAYS"))
	if err != nil {
		fmt.Fprintln(os.Stderr, "AHEAD_DAYS is not a number of days")
		os.Exit(2)
	}
	os.Exit(cli.Main(os.Args[1:], func() time.Time { return time.Now().AddDate(0, 0, days) }))
}
