package people

import (
	"context"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) token() *cobra.Command {
	var n contract.NewToken
	var role string
	show := func(tokens []contract.Token) cli.Table {
		t := cli.Table{Head: []string{"id", "label", "user", "role", "ends", "last used", "from"}}
		for _, each := range tokens {
			used := ""
			if each.SeenAt != nil {
				used = cli.When(*each.SeenAt)
			}
			t.Add(each.ID, each.Label, each.User, cli.Word(each.Role), cli.OnDay(&each.EndsAt), used, each.SeenFrom)
		}
		return t
	}
	list := &cobra.Command{
		Use: "list", Short: "List all tokens", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			tokens, err := cli.ListOf[contract.Token](ctx, client, "/tokens")
			if err != nil {
				return err
			}
			return a.Print(tokens, show(tokens))
		}),
	}
	add := &cobra.Command{
		Use: "add LABEL --role ROLE", Short: "Create a token for a program; it is shown once", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			n.Label, n.Role = args[0], contract.Role(role)
			var made contract.Token
			if err := client.Do(ctx, "POST", cli.V1+"/tokens", n, &made); err != nil {
				return err
			}
			if a.As != "table" {
				return a.Print(made, show([]contract.Token{made}))
			}
			cli.Putln(a.Out, made.Secret)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "monitor (metrics only), viewer, approver, operator or admin")
	add.Flags().IntVar(&n.Days, "days", 90, "validity, in days")
	add.Flags().StringArrayVar(&n.Networks, "network", nil, "network from which it may be used, such as 192.0.2.0/24; "+
		"repeat for further ones")
	add.Flags().BoolVar(&n.Final, "final", false, "it may do what cannot be taken back, such as revert and remove")
	add.MarkFlagRequired("role")
	var again contract.TokenRotation
	rotate := &cobra.Command{
		Use: "rotate ID", Short: "Create a token in the place of another one, which goes on for some hours",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var made contract.Token
			if err := client.Do(ctx, "POST", cli.V1+"/tokens"+cli.Item(args[0])+"/rotation", again,
				&made); err != nil {
				return err
			}
			if a.As != "table" {
				return a.Print(made, show([]contract.Token{made}))
			}
			cli.Putln(a.Out, made.Secret)
			return nil
		}),
	}
	rotate.Flags().IntVar(&again.Days, "days", 90, "validity of the new one, in days")
	rotate.Flags().IntVar(&again.Hours, "hours", 24, "how long the old one goes on, in hours")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Revoke a token", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/tokens"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("token", "API tokens", list, add, rotate, remove)
}
