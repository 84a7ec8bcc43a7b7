package access

import (
	"cmp"
	"context"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) credential() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List credentials, without their secrets", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Credential](ctx, client, "/credentials")
			if err != nil {
				return err
			}
			return a.Print(all, credentialTable(all...))
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a credential that no device uses", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/credentials"+cli.Item(args[0]), nil, nil)
		}),
	}
	add := a.credentialChange("add NAME", "Add a user and secret that devices share",
		func(ctx context.Context, client *cli.Client, name string, c contract.CredentialChange,
			out *contract.Credential) error {
			return client.Do(ctx, "POST", cli.V1+"/credentials",
				contract.NewCredential{Name: name, CredentialChange: c},
				out)
		})
	replace := a.credentialChange("replace NAME", "Put another user and secret in its place; no device is touched",
		func(ctx context.Context, client *cli.Client, name string, c contract.CredentialChange,
			out *contract.Credential) error {
			var now contract.Credential
			if err := client.Do(ctx, "GET", cli.V1+"/credentials"+cli.Item(name), nil, &now); err != nil {
				return err
			}
			return client.Change(ctx, "PUT", cli.V1+"/credentials"+cli.Item(name), now.Revision, c, out)
		})
	return cli.Noun("credential", "Users and secrets that devices share", list, add, replace, remove)
}

func credentialTable(all ...contract.Credential) cli.Table {
	t := cli.Table{Head: []string{"credential", "user", "source", "devices", "added"}}
	for _, c := range all {
		t.Add(c.Name, c.User, cmp.Or(c.Source, "kept here"), c.Devices, c.AddedAt)
	}
	return t
}

func (a *commands) credentialChange(use, short string,
	send func(context.Context, *cli.Client, string, contract.CredentialChange,
		*contract.Credential) error) *cobra.Command {
	var change contract.CredentialChange
	var access Flags
	c := &cobra.Command{
		Use: use + " --user USER", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var err error
			if change.Source != "" {
				change.Secrets, err = access.fromFiles(a.App, change.User)
			} else {
				change.Secrets, err = access.secrets(a.App, change.User)
			}
			if err != nil {
				return err
			}
			var out contract.Credential
			if err := send(ctx, client, args[0], change, &out); err != nil {
				return err
			}
			return a.Print(out, credentialTable(out))
		}),
	}
	access.secretFlags(c.Flags(), &change.User, "")
	c.Flags().StringVar(&change.Source, "source", "", "in place of a secret, where it is asked for each time: \"file "+
		"NAME\", \"systemd NAME\" or \"helper NAME WORD…\"")
	c.MarkFlagRequired("user")
	return c
}
