package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) backup() *cobra.Command {
	var out string
	c := &cobra.Command{
		Use: "backup --out FILE", Short: "Copy the database of a running service, as of one moment", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			f, err := os.OpenFile(out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return failed("the copy cannot be written", err.Error(), "name a new file with --out")
			}
			answer, err := client.send(ctx, "GET", v1+"/backup", "", nil)
			if err == nil {
				defer answer.Body.Close()
				_, err = io.Copy(f, answer.Body)
			}
			if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
				os.Remove(out)
				return err
			}
			fmt.Fprintf(a.out, "copied to %s; keep strongbox.key of the service's folder apart from it: without that key no secret in it can be opened\n", out)
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
		Use: "restore FILE --dir DIR", Short: "Put a copy of the database into the folder of a stopped service", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			kept, err := service.Restore(c.Context(), dir, args[0])
			if err != nil {
				return words(err)
			}
			fmt.Fprintf(a.out, "restored into %s\n", filepath.Join(dir, "freshseal.db"))
			if kept != "" {
				fmt.Fprintf(a.out, "what stood there is kept as %s\n", kept)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "the service's folder, with its strongbox.key")
	c.MarkFlagRequired("dir")
	return c
}

// words makes what the service says of an error that is not sent over the API.
func words(err error) error {
	var known *service.Error
	if errors.As(err, &known) {
		return failed(known.What, known.Why, known.Next)
	}
	return err
}
