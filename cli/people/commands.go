// Package people has the commands for signing in, users, tokens and the audit log.
package people

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.login(), a.logout(), a.status(), a.confirm(), a.session(), a.factor(), a.signIn(),
		a.user(), a.token(), a.audit()}
}
