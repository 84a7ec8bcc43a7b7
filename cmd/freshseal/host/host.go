// Package host has the commands that run the service: serve, demo with its other sides, and restore. They are wired
// here, so that the client knows the contract alone.
package host

import (
	"freshseal/cli"

	"github.com/spf13/cobra"
)

// app is what these commands share.
type app struct{ cli.Host }

// Commands are the commands that run the service.
func Commands(h cli.Host) []*cobra.Command {
	a := app{h}
	return []*cobra.Command{a.serve(), a.demo(), a.restore()}
}
