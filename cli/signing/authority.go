package signing

import (
	"context"
	"net/url"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) authority() *cobra.Command {
	var text string
	list := &cobra.Command{
		Use: "list", Short: "List the certificates from which chains are completed", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var all contract.Authorities
			if err := client.Do(ctx, "GET", cli.V1+"/authorities?"+url.Values{"text": {text}}.Encode(), nil,
				&all); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"subject", "ends", "sha256"}}
			for _, c := range all.Items {
				t.Add(c.Subject, cli.OnDay(&c.NotAfter), cli.Digest(c.SHA256))
			}
			if err := a.Print(all, t); err != nil || a.As != "table" {
				return err
			}
			cli.Put(a.Out, "%d of at most %d are kept; nobody trusts them for that\n", all.Count, all.Most)
			return nil
		}),
	}
	list.Flags().StringVar(&text, "text", "", "only those with this text in subject or SHA-256")
	remove := &cobra.Command{
		Use: "remove SHA256", Short: "Remove an authority; slots are judged without it from then on",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/authorities"+cli.Item(args[0]), nil, nil)
		}),
	}
	export, _ := a.exporting("SHA256", "Export a root or an intermediate in the form that a kind of client needs",
		"/authorities")
	return cli.Noun("authority", "Certificates from which chains are completed", list, export, remove)
}
