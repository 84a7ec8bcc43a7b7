package cli

import (
	"context"
	"freshseal/contract"
	"strings"

	"github.com/spf13/cobra"
)

// calendar is about feeds that calendar programs read.
func (a *app) calendar() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List your calendars", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			feeds, err := listOf[contract.Feed](ctx, client, "/calendars")
			if err != nil {
				return err
			}
			t := table{head: []string{"id", "site", "ends"}}
			for _, f := range feeds {
				t.add(f.ID, orAll(f.Site), day{&f.EndsAt})
			}
			return a.print(feeds, t)
		}),
	}
	var site string
	add := &cobra.Command{
		Use: "add", Short: "Make a calendar of act-by dates and expiries; its secret address is shown once",
		Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var f contract.Feed
			if err := client.do(ctx, "POST", v1+"/calendars", map[string]string{"site": site}, &f); err != nil {
				return err
			}
			if a.as != "table" {
				t := table{head: []string{"id", "site", "path"}}
				t.add(f.ID, orAll(f.Site), f.Path)
				return a.print(f, t)
			}
			putln(a.out, strings.TrimSuffix(client.file.URL, "/")+f.Path)
			return nil
		}),
	}
	add.Flags().StringVar(&site, "site", "", "only the slots at this site")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Remove a calendar; its address stops working", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/calendars"+item(args[0]), nil, nil)
		}),
	}
	return noun("calendar", "Act-by dates and expiries, for calendar programs", list, add, remove)
}

func orAll(site string) string {
	if site == "" {
		return "the whole fleet"
	}
	return site
}
