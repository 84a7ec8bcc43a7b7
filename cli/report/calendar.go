package report

import (
	"context"
	"strings"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// calendar returns about feeds that calendar programs read.
func (a *commands) calendar() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List your calendars", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			feeds, err := cli.ListOf[contract.Feed](ctx, client, "/calendars")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"id", "site", "ends"}}
			for _, f := range feeds {
				t.Add(f.ID, orAll(f.Site), cli.OnDay(&f.EndsAt))
			}
			return a.Print(feeds, t)
		}),
	}
	var site string
	add := &cobra.Command{
		Use: "add", Short: "Make a calendar of act-by dates and expiries; its secret address is shown once",
		Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var f contract.Feed
			if err := client.Do(ctx, "POST", cli.V1+"/calendars", map[string]string{"site": site}, &f); err != nil {
				return err
			}
			if a.As != "table" {
				t := cli.Table{Head: []string{"id", "site", "path"}}
				t.Add(f.ID, orAll(f.Site), f.Path)
				return a.Print(f, t)
			}
			cli.Putln(a.Out, strings.TrimSuffix(client.File.URL, "/")+f.Path)
			return nil
		}),
	}
	add.Flags().StringVar(&site, "site", "", "only the slots at this site")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Remove a calendar; its address stops working", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/calendars"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("calendar", "Act-by dates and expiries, for calendar programs", list, add, remove)
}

func orAll(site string) string {
	if site == "" {
		return "the whole fleet"
	}
	return site
}
