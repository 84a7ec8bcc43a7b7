package people

import (
	"context"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) user() *cobra.Command {
	var role, passwordFile string
	list := &cobra.Command{
		Use: "list", Short: "List all users", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			users, err := cli.ListOf[contract.User](ctx, client, "/users")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"user", "role", "second factor", "added"}}
			for _, u := range users {
				t.Add(u.Name, cli.Word(u.Role), cli.Yes(u.Factor), u.AddedAt)
			}
			return a.Print(users, t)
		}),
	}
	add := &cobra.Command{
		Use: "add NAME --role ROLE", Short: "Add a user", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			password, err := a.Secret("password of "+args[0], passwordFile, "--password-file")
			if err != nil {
				return err
			}
			var u contract.User
			if err := client.Do(ctx, "POST", cli.V1+"/users", contract.NewUser{Name: args[0], Role: contract.Role(role),
				Password: password}, &u); err != nil {
				return err
			}
			cli.Put(a.Out, "%s may sign in as %s\n", u.Name, u.Role)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "viewer (read only), approver (approves), operator (read, replace, run "+
		"intakes) or admin (everything)")
	add.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	add.MarkFlagRequired("role")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a user and end their sessions", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/users"+cli.Item(args[0]), nil, nil)
		}),
	}
	reset := &cobra.Command{
		Use: "reset-factor NAME", Short: "Remove the second factor of a user who lost it; all their sessions end",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/users"+cli.Item(args[0])+"/factor", nil, nil)
		}),
	}
	signOut := &cobra.Command{
		Use: "sign-out NAME", Short: "End all sessions of a user; their tokens go on", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/users"+cli.Item(args[0])+"/sessions", nil, nil)
		}),
	}
	return cli.Noun("user", "People who may sign in", list, add, a.userEdit(), remove, a.password(), reset, signOut)
}

func (a *commands) userEdit() *cobra.Command {
	var role, passwordFile string
	c := &cobra.Command{
		Use: "edit NAME", Short: "Change the role or password of a user; all their sessions end",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var change contract.UserChange
			if role != "" {
				r := contract.Role(role)
				change.Role = &r
			}
			if passwordFile != "" {
				password, err := a.Secret("new password of "+args[0], passwordFile, "--password-file")
				if err != nil {
					return err
				}
				change.Password = &password
			}
			var u contract.User
			if err := client.Do(ctx, "PATCH", cli.V1+"/users"+cli.Item(args[0]), change, &u); err != nil {
				return err
			}
			cli.Put(a.Out, "%s is %s from now on\n", u.Name, u.Role)
			return nil
		}),
	}
	c.Flags().StringVar(&role, "role", "", "viewer, approver, operator or admin")
	c.Flags().StringVar(&passwordFile, "password-file", "", "read a new password from this file (- for standard input)")
	return c
}

func (a *commands) password() *cobra.Command {
	var oldFile, newFile string
	c := &cobra.Command{
		Use: "password", Short: "Change your own password; your other sessions end", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			old, err := a.Secret("old password", oldFile, "--old-file")
			if err != nil {
				return err
			}
			fresh, err := a.Secret("new password", newFile, "--new-file")
			if err != nil {
				return err
			}
			if err := client.Do(ctx, "POST", cli.V1+"/password", map[string]string{"old": old, "new": fresh},
				nil); err != nil {
				return err
			}
			cli.Putln(a.Out, "the password is changed")
			return nil
		}),
	}
	c.Flags().StringVar(&oldFile, "old-file", "", "read the old password from this file")
	c.Flags().StringVar(&newFile, "new-file", "", "read the new password from this file")
	return c
}
