package cli

import (
	"freshseal/core/licences"

	"github.com/spf13/cobra"
)

// licences shows the notices of third parties.
func (a *App) licences() *cobra.Command {
	return &cobra.Command{
		Use: "licences", Short: "Show the licences of the libraries in the program", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			Put(a.Out, "%s", Lines("", licences.Text()))
			return nil
		},
	}
}
