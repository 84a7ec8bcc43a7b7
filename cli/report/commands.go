// Package report has the commands for notices, calendars, forecasts and reports.
package report

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.calendar(), a.channel(), a.notice(), a.expiring(), a.reports(), a.forecast()}
}
