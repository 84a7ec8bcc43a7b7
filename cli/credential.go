package cli

import (
	"context"
	"fmt"
	"os"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) credential() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List credentials, without their secrets", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[service.Credential](ctx, client, "/credentials")
			if err != nil {
				return err
			}
			return a.print(all, credentialTable(all...))
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a credential that no device uses", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/credentials"+item(args[0]), nil, nil)
		}),
	}
	add := a.credentialChange("add NAME", "Add a user and secret that devices share",
		func(ctx context.Context, client *client, name string, c service.CredentialChange, out *service.Credential) error {
			return client.do(ctx, "POST", v1+"/credentials", service.NewCredential{Name: name, CredentialChange: c}, out)
		})
	replace := a.credentialChange("replace NAME", "Put another user and secret in its place; no device is touched",
		func(ctx context.Context, client *client, name string, c service.CredentialChange, out *service.Credential) error {
			return client.do(ctx, "PUT", v1+"/credentials"+item(name), c, out)
		})
	return noun("credential", "Users and secrets that devices share", list, add, replace, remove)
}

func credentialTable(all ...service.Credential) table {
	t := table{head: []string{"credential", "ssh_user", "devices", "added"}}
	for _, c := range all {
		t.add(c.Name, c.SSHUser, fmt.Sprint(c.Devices), moment(c.AddedAt))
	}
	return t
}

func (a *app) credentialChange(use, short string, send func(context.Context, *client, string, service.CredentialChange, *service.Credential) error) *cobra.Command {
	var change service.CredentialChange
	var passwordFile, keyFile, passphraseFile string
	c := &cobra.Command{
		Use: use + " --ssh-user USER", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if keyFile != "" {
				key, err := os.ReadFile(keyFile)
				if err != nil {
					return failed("the key cannot be read", err.Error(), "name the right file with --key-file")
				}
				change.Key = string(key)
			}
			var err error
			if passphraseFile != "" {
				if change.Passphrase, err = a.secret("passphrase of the key", passphraseFile, "--passphrase-file"); err != nil {
					return err
				}
			}
			if keyFile == "" || passwordFile != "" {
				if change.Password, err = a.secret("password of "+change.SSHUser, passwordFile, "--password-file or --key-file"); err != nil {
					return err
				}
			}
			var out service.Credential
			if err := send(ctx, client, args[0], change, &out); err != nil {
				return err
			}
			return a.print(out, credentialTable(out))
		}),
	}
	f := c.Flags()
	f.StringVar(&change.SSHUser, "ssh-user", "", "who signs in over SSH")
	f.StringVar(&passwordFile, "password-file", "", "read that user's password from this file (- for standard input)")
	f.StringVar(&keyFile, "key-file", "", "read that user's private key from this file")
	f.StringVar(&passphraseFile, "passphrase-file", "", "read that key's passphrase from this file")
	c.MarkFlagRequired("ssh-user")
	return c
}
