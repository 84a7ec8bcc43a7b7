// Package fleet has the commands for sites, devices, slots, discovery, procedures and policies.
package fleet

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.device(), a.slot(), a.read(), a.sweep(), a.discover(),
		a.procedure(), a.policy(), a.due()}
}
