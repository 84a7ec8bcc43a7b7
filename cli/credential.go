package cli

import (
	"context"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *app) credential() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List credentials, without their secrets", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[contract.Credential](ctx, client, "/credentials")
			if err != nil {
				return err
			}
			return a.print(all, credentialTable(all...))
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a credential that no device uses", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/credentials"+item(args[0]), nil, nil)
		}),
	}
	add := a.credentialChange("add NAME", "Add a user and secret that devices share",
		func(ctx context.Context, client *client, name string, c contract.CredentialChange,
			out *contract.Credential) error {
			return client.do(ctx, "POST", v1+"/credentials", contract.NewCredential{Name: name, CredentialChange: c},
				out)
		})
	replace := a.credentialChange("replace NAME", "Put another user and secret in its place; no device is touched",
		func(ctx context.Context, client *client, name string, c contract.CredentialChange,
			out *contract.Credential) error {
			var now contract.Credential
			if err := client.do(ctx, "GET", v1+"/credentials"+item(name), nil, &now); err != nil {
				return err
			}
			return client.change(ctx, "PUT", v1+"/credentials"+item(name), now.Revision, c, out)
		})
	return noun("credential", "Users and secrets that devices share", list, add, replace, remove)
}

func credentialTable(all ...contract.Credential) table {
	t := table{head: []string{"credential", "user", "devices", "added"}}
	for _, c := range all {
		t.add(c.Name, c.User, c.Devices, c.AddedAt)
	}
	return t
}

func (a *app) credentialChange(use, short string,
	send func(context.Context, *client, string, contract.CredentialChange, *contract.Credential) error) *cobra.Command {
	var change contract.CredentialChange
	var access accessFlags
	c := &cobra.Command{
		Use: use + " --user USER", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var err error
			if change.Secrets, err = access.secrets(a, change.User); err != nil {
				return err
			}
			var out contract.Credential
			if err := send(ctx, client, args[0], change, &out); err != nil {
				return err
			}
			return a.print(out, credentialTable(out))
		}),
	}
	access.secretFlags(c.Flags(), &change.User, "")
	c.MarkFlagRequired("user")
	return c
}
