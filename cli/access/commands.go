// Package access has the commands for sites and credentials, and the flags that say how a device is reached.
package access

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.site(), a.credential()}
}
