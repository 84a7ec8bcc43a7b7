package signing

import (
	"context"
	"time"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// bench returns the authority of your own.
func (a *commands) bench() *cobra.Command {
	show := &cobra.Command{
		Use: "show", Short: "Show the certificates of bench, the root first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var b contract.Bench
			if err := client.Do(ctx, "GET", cli.V1+"/bench", nil, &b); err != nil {
				return err
			}
			return a.printBench(b)
		}),
	}
	return cli.Noun("bench", "The authority of your own, for labs and small networks", show, a.benchSetup())
}

func benchTable(b contract.Bench) cli.Table {
	t := cli.Table{Head: []string{"level", "from", "to", "SHA-256"}}
	for _, l := range b.Levels {
		t.Add(l.Subject, l.NotBefore.Format(time.DateOnly), l.NotAfter.Format(time.DateOnly), l.SHA256)
	}
	return t
}

// printBench prints it, with what to do with its root.
func (a *commands) printBench(b contract.Bench) error {
	if err := a.Print(b, benchTable(b)); err != nil || a.As != "table" {
		return err
	}
	cli.Put(a.Out, "\nIt issues certificates for up to %s. Hand out its root:\n  freshseal authority export %s --out "+
		"root.pem\n", cli.Count(b.LeafDays, "day"), b.Levels[0].SHA256)
	return nil
}

func (a *commands) benchSetup() *cobra.Command {
	var setup contract.BenchSetup
	var yes bool
	c := &cobra.Command{
		Use: "setup --level NAME --level NAME …", Short: "Replace bench by an authority with names and lifetimes " +
			"of your own", Args: cobra.NoArgs,
		Long: "Replace bench by an authority with names and lifetimes of your own. Its root is trusted by the " +
			"fleet from then on and\n" +
			"has to be given to all clients. Certificates that bench signed before stay as they are, and its " +
			"earlier root stays\n" +
			"trusted until it is removed. The keys of the earlier authority are deleted.",
		Example: "  freshseal bench setup --organization \"Tidewrack Ferries\" --level \"Tidewrack Root\" --level " +
			"\"Tidewrack Issuing 1\" --root-days 7300 --below-days 1825 --leaf-days 200\n" +
			"  freshseal bench setup --keep-root --level - --level \"Tidewrack Issuing 2\"",
	}
	c.RunE = a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
		var now contract.Bench
		if err := client.Do(ctx, "GET", cli.V1+"/bench", nil, &now); err != nil {
			return err
		}
		setup.Replaces = now.Levels[len(now.Levels)-1].SHA256
		if !yes {
			root := now.Levels[0].Subject
			if err := a.Confirm(cli.Question("Delete the keys of “%s” and set bench up again?", root),
				"look at it with: freshseal bench show; then give --yes"); err != nil {
				return err
			}
		}
		var made contract.Bench
		if err := client.Do(ctx, "PUT", cli.V1+"/bench", setup, &made); err != nil {
			return err
		}
		return a.printBench(made)
	})
	f := c.Flags()
	f.StringArrayVar(&setup.Names, "level", nil, "the common name of a level, the root first; given two or three times")
	f.StringVar(&setup.Organization, "organization", "", "in the subjects")
	f.StringVar(&setup.Country, "country", "", "in the subjects, two letters")
	f.IntVar(&setup.RootDays, "root-days", 7300, "lifetime of the root")
	f.IntVar(&setup.BelowDays, "below-days", 1825, "lifetime of each level below the root")
	f.IntVar(&setup.LeafDays, "leaf-days", 90, "the longest certificate that it issues")
	f.BoolVar(&setup.KeepRoot, "keep-root", false, "create the levels below the existing root again")
	f.BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}
