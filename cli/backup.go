package cli

import (
	"context"
	"errors"
	"path/filepath"

	"freshseal/service/problem"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) backup() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "backup --out FILE", Short: "Copy the database of a running service", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			if err := client.download(ctx, v1+"/backup", out, a.out); err != nil {
				return err
			}
			put(a.out, "copied to %s; keep strongbox.key of the service's folder apart from it: without that key no secret in it can be opened\n", out)
			return nil
		}),
	}
	c.Flags().StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	return c
}

func (a *app) restore() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "restore FILE --dir DIR", Short: "Restore a copy of the database into the folder of a stopped service", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			kept, err := service.Restore(c.Context(), dir, args[0])
			if err != nil {
				return words(err)
			}
			put(a.out, "restored into %s\n", filepath.Join(dir, "freshseal.db"))
			if kept != "" {
				put(a.out, "what stood there is kept as %s\n", kept)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "the data folder, with its strongbox.key")
	c.MarkFlagRequired("dir")
	return c
}

// words makes what the service says of an error that is not sent over the API.
func words(err error) error {
	var known *problem.Error
	if errors.As(err, &known) {
		return failed(known.What, known.Why, advice(known.Next, known.Actions))
	}
	return err
}
