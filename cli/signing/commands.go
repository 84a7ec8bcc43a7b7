// Package signing has the commands for signers, parcels, intakes, trust groups, and for certificate files.
package signing

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// commands are the room's commands with what all commands share.
type commands struct{ *cli.App }

// Commands returns the commands of the room.
func Commands(app *cli.App) []*cobra.Command {
	a := &commands{app}
	return []*cobra.Command{a.parcel(), a.intake(), a.unmatched(), a.inspect(), a.pack(), a.request(), a.signer(),
		a.bench(), a.trustGroup(), a.authority()}
}
