package host

import (
	"errors"
	"path/filepath"

	"freshseal/cli"
	"freshseal/service"
	"freshseal/service/problem"

	"github.com/spf13/cobra"
)

func (a app) restore() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "restore FILE --dir DIR", Short: "Restore a copy of the database into the folder of a stopped service",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			kept, err := service.Restore(c.Context(), dir, args[0])
			if err != nil {
				return words(err)
			}
			cli.Put(a.Out, "restored into %s\n", filepath.Join(dir, "freshseal.db"))
			if kept != "" {
				cli.Put(a.Out, "what stood there is kept as %s\n", kept)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "the data folder, with its strongbox.key")
	c.MarkFlagRequired("dir")
	return c
}

func (a app) resetSignIn() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "reset-sign-in USER --dir DIR",
		Short: "Give a user of a stopped service a new password, and remove the second factor",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			password, err := service.ResetSignIn(c.Context(), dir, args[0])
			if err != nil {
				return words(err)
			}
			cli.Put(a.Out, "password: %s\n", password)
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
		return cli.Failed(known.What, known.Why, cli.Advice(known.Next, known.Actions))
	}
	return err
}
