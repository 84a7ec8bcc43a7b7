package cli

import (
	"context"
	"fmt"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) user() *cobra.Command {
	var role, passwordFile string
	list := &cobra.Command{
		Use: "list", Short: "List all users", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			users, err := listOf[service.User](ctx, client, "/users")
			if err != nil {
				return err
			}
			t := table{head: []string{"user", "role", "added"}}
			for _, u := range users {
				t.add(u.Name, string(u.Role), moment(u.AddedAt))
			}
			return a.print(users, t)
		}),
	}
	add := &cobra.Command{
		Use: "add NAME --role ROLE", Short: "Let somebody sign in", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			password, err := a.secret("password of "+args[0], passwordFile, "--password-file")
			if err != nil {
				return err
			}
			var u service.User
			if err := client.do(ctx, "POST", v1+"/users", service.NewUser{Name: args[0], Role: service.Role(role), Password: password}, &u); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s may sign in as %s\n", u.Name, u.Role)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "viewer (look), operator (read, replace, take in) or admin (everything)")
	add.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	add.MarkFlagRequired("role")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Let somebody in no more", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/users"+item(args[0]), nil, nil)
		}),
	}
	return noun("user", "People who may sign in", list, add, a.userEdit(), remove, a.password())
}

func (a *app) userEdit() *cobra.Command {
	var role, passwordFile string
	c := &cobra.Command{
		Use: "edit NAME", Short: "Give somebody another role or a new password; all sessions end", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var change service.UserChange
			if role != "" {
				r := service.Role(role)
				change.Role = &r
			}
			if passwordFile != "" {
				password, err := a.secret("new password of "+args[0], passwordFile, "--password-file")
				if err != nil {
					return err
				}
				change.Password = &password
			}
			var u service.User
			if err := client.do(ctx, "PATCH", v1+"/users"+item(args[0]), change, &u); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is %s from now on\n", u.Name, u.Role)
			return nil
		}),
	}
	c.Flags().StringVar(&role, "role", "", "viewer, operator or admin")
	c.Flags().StringVar(&passwordFile, "password-file", "", "read a new password from this file (- for standard input)")
	return c
}

func (a *app) password() *cobra.Command {
	var oldFile, newFile string
	c := &cobra.Command{
		Use: "password", Short: "Change your own password; all other sessions end", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			old, err := a.secret("old password", oldFile, "--old-file")
			if err != nil {
				return err
			}
			fresh, err := a.secret("new password", newFile, "--new-file")
			if err != nil {
				return err
			}
			if err := client.do(ctx, "POST", v1+"/password", map[string]string{"old": old, "new": fresh}, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "the password is changed")
			return nil
		}),
	}
	c.Flags().StringVar(&oldFile, "old-file", "", "read the old password from this file")
	c.Flags().StringVar(&newFile, "new-file", "", "read the new password from this file")
	return c
}

func (a *app) token() *cobra.Command {
	var n service.NewToken
	var role string
	show := func(tokens []service.Token) table {
		t := table{head: []string{"id", "label", "user", "role", "ends"}, wide: 1}
		for _, each := range tokens {
			t.add(each.ID, dash(each.Label), each.User, string(each.Role), date(&each.EndsAt))
		}
		return t
	}
	list := &cobra.Command{
		Use: "list", Short: "List all tokens", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			tokens, err := listOf[service.Token](ctx, client, "/tokens")
			if err != nil {
				return err
			}
			return a.print(tokens, show(tokens))
		}),
	}
	add := &cobra.Command{
		Use: "add LABEL --role ROLE", Short: "Make a token for a program; it is shown once", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			n.Label, n.Role = args[0], service.Role(role)
			var made service.Token
			if err := client.do(ctx, "POST", v1+"/tokens", n, &made); err != nil {
				return err
			}
			if a.as != "table" {
				return a.print(made, show([]service.Token{made}))
			}
			fmt.Fprintln(a.out, made.Secret)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "viewer, operator or admin")
	add.Flags().IntVar(&n.Days, "days", 90, "how long it holds")
	add.MarkFlagRequired("role")
	remove := &cobra.Command{
		Use: "remove ID", Short: "End a token", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/tokens"+item(args[0]), nil, nil)
		}),
	}
	return noun("token", "API tokens", list, add, remove)
}

func (a *app) ledger() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "Who did what and when, newest first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			entries, err := listOf[service.LedgerEntry](ctx, client, "/ledger")
			if err != nil {
				return err
			}
			t := table{head: []string{"id", "at", "who", "what", "about"}, wide: 4}
			for _, e := range entries {
				t.add(fmt.Sprint(e.ID), e.At.UTC().Format("01-02 15:04:05"), e.Who, e.What, e.About)
			}
			return a.print(entries, t)
		}),
	}
	verify := &cobra.Command{
		Use: "verify", Short: "See whether every entry is as it was written", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var v service.Verification
			if err := client.do(ctx, "GET", v1+"/ledger/verification", nil, &v); err != nil {
				return err
			}
			t := table{head: []string{"entries", "whole", "fault"}, wide: 2}
			t.add(fmt.Sprint(v.Entries), yes(v.Whole), dash(v.Fault))
			if err := a.print(v, t); err != nil || v.Whole {
				return err
			}
			return foundWrong
		}),
	}
	return noun("ledger", "Who did what and when", list, verify)
}
