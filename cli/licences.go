package cli

import (
	"freshseal/core/licences"

	"github.com/spf13/cobra"
)

// licences shows the notices of third parties.
func (a *app) licences() *cobra.Command {
	return &cobra.Command{
		Use: "licences", Short: "Show the licences of what the program is built of", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			put(a.out, "%s", lines("", licences.Text()))
			return nil
		},
	}
}
