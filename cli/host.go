package cli

import "github.com/spf13/cobra"

// Commands are the commands of one room of the service, or those that run it.
type Commands func(*App) []*cobra.Command
