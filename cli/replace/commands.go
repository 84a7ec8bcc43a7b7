// Package replace has the commands for replacements, batches, tasks and pins.
package replace

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.replace(), a.replacement(), a.batch(), a.find(), a.task(), a.pin()}
}
