package cli

import (
	"context"

	"github.com/spf13/cobra"
)

func (a *App) backup() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "backup --out FILE", Short: "Copy the database of a running service", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *Client, _ []string) error {
			if err := client.download(ctx, V1+"/backup", out, a.Out); err != nil {
				return err
			}
			Put(a.Out, "copied to %s; keep strongbox.key of the service's folder apart from it: without that key "+
				"no secret in it can be opened\n", out)
			return nil
		}),
	}
	c.Flags().StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	return c
}
