package cli

import (
	"context"
	"freshseal/contract"
	"net/url"

	"github.com/spf13/cobra"
)

func (a *app) authority() *cobra.Command {
	var text string
	list := &cobra.Command{
		Use: "list", Short: "List the certificates from which chains are completed", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var all contract.Authorities
			if err := client.do(ctx, "GET", v1+"/authorities?"+url.Values{"text": {text}}.Encode(), nil,
				&all); err != nil {
				return err
			}
			t := table{head: []string{"subject", "ends", "sha256"}}
			for _, c := range all.Items {
				t.add(c.Subject, day{&c.NotAfter}, digest(c.SHA256))
			}
			if err := a.print(all, t); err != nil || a.as != "table" {
				return err
			}
			put(a.out, "%d of at most %d are kept; nobody trusts them for that\n", all.Count, all.Most)
			return nil
		}),
	}
	list.Flags().StringVar(&text, "text", "", "only those with this text in subject or SHA-256")
	remove := &cobra.Command{
		Use: "remove SHA256", Short: "Remove an authority; slots are judged without it from then on",
		Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/authorities"+item(args[0]), nil, nil)
		}),
	}
	export, _ := a.exporting("SHA256", "Export a root or an intermediate in the form that a kind of client needs",
		"/authorities")
	return noun("authority", "Certificates from which chains are completed", list, export, remove)
}
