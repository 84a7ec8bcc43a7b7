// Package host has the commands that run the service: serve, demo with its other sides, and restore. It wires all
// commands together, so that the client knows the contract alone.
package host

import (
	"freshseal/cli"
	"freshseal/cli/access"
	"freshseal/cli/fleet"
	"freshseal/cli/people"
	"freshseal/cli/replace"
	"freshseal/cli/report"
	"freshseal/cli/signing"

	"github.com/spf13/cobra"
)

// app is what these commands share.
type app struct{ *cli.App }

// Commands returns those of every room of the service, and those that run it.
func Commands(h *cli.App) []*cobra.Command {
	a := app{h}
	out := []*cobra.Command{a.serve(), a.demo(), a.restore(), a.resetSignIn()}
	for _, room := range []cli.Commands{access.Commands, fleet.Commands, replace.Commands, signing.Commands,
		people.Commands,
		report.Commands} {
		out = append(out, room(h)...)
	}
	return out
}
