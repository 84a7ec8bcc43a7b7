package cli

import (
	"context"
	"fmt"
	"freshseal/contract"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"
)

func (a *app) user() *cobra.Command {
	var role, passwordFile string
	list := &cobra.Command{
		Use: "list", Short: "List all users", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			users, err := listOf[contract.User](ctx, client, "/users")
			if err != nil {
				return err
			}
			t := table{head: []string{"user", "role", "added"}}
			for _, u := range users {
				t.add(u.Name, word(u.Role), u.AddedAt)
			}
			return a.print(users, t)
		}),
	}
	add := &cobra.Command{
		Use: "add NAME --role ROLE", Short: "Add a user", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			password, err := a.secret("password of "+args[0], passwordFile, "--password-file")
			if err != nil {
				return err
			}
			var u contract.User
			if err := client.do(ctx, "POST", v1+"/users", contract.NewUser{Name: args[0], Role: contract.Role(role),
				Password: password}, &u); err != nil {
				return err
			}
			put(a.out, "%s may sign in as %s\n", u.Name, u.Role)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "viewer (look), operator (read, replace, take in) or admin (everything)")
	add.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	add.MarkFlagRequired("role")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Delete a user and end their sessions", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/users"+item(args[0]), nil, nil)
		}),
	}
	return noun("user", "People who may sign in", list, add, a.userEdit(), remove, a.password())
}

func (a *app) userEdit() *cobra.Command {
	var role, passwordFile string
	c := &cobra.Command{
		Use: "edit NAME", Short: "Change the role or password of a user; all their sessions end",
		Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var change contract.UserChange
			if role != "" {
				r := contract.Role(role)
				change.Role = &r
			}
			if passwordFile != "" {
				password, err := a.secret("new password of "+args[0], passwordFile, "--password-file")
				if err != nil {
					return err
				}
				change.Password = &password
			}
			var u contract.User
			if err := client.do(ctx, "PATCH", v1+"/users"+item(args[0]), change, &u); err != nil {
				return err
			}
			put(a.out, "%s is %s from now on\n", u.Name, u.Role)
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
		Use: "password", Short: "Change your own password; your other sessions end", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			old, err := a.secret("old password", oldFile, "--old-file")
			if err != nil {
				return err
			}
			fresh, err := a.secret("new password", newFile, "--new-file")
			if err != nil {
				return err
			}
			if err := client.do(ctx, "POST", v1+"/password", map[string]string{"old": old, "new": fresh},
				nil); err != nil {
				return err
			}
			putln(a.out, "the password is changed")
			return nil
		}),
	}
	c.Flags().StringVar(&oldFile, "old-file", "", "read the old password from this file")
	c.Flags().StringVar(&newFile, "new-file", "", "read the new password from this file")
	return c
}

func (a *app) token() *cobra.Command {
	var n contract.NewToken
	var role string
	show := func(tokens []contract.Token) table {
		t := table{head: []string{"id", "label", "user", "role", "ends"}}
		for _, each := range tokens {
			t.add(each.ID, each.Label, each.User, word(each.Role), day{&each.EndsAt})
		}
		return t
	}
	list := &cobra.Command{
		Use: "list", Short: "List all tokens", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			tokens, err := listOf[contract.Token](ctx, client, "/tokens")
			if err != nil {
				return err
			}
			return a.print(tokens, show(tokens))
		}),
	}
	add := &cobra.Command{
		Use: "add LABEL --role ROLE", Short: "Create a token for a program; it is shown once", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			n.Label, n.Role = args[0], contract.Role(role)
			var made contract.Token
			if err := client.do(ctx, "POST", v1+"/tokens", n, &made); err != nil {
				return err
			}
			if a.as != "table" {
				return a.print(made, show([]contract.Token{made}))
			}
			putln(a.out, made.Secret)
			return nil
		}),
	}
	add.Flags().StringVar(&role, "role", "", "monitor (metrics only), viewer, operator or admin")
	add.Flags().IntVar(&n.Days, "days", 90, "validity, in days")
	add.MarkFlagRequired("role")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Revoke a token", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/tokens"+item(args[0]), nil, nil)
		}),
	}
	return noun("token", "API tokens", list, add, remove)
}

func (a *app) audit() *cobra.Command {
	var by contract.AuditFilter
	most := 200
	list := &cobra.Command{
		Use: "list", Short: "List who did what and when, newest first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			query := url.Values{"limit": {strconv.Itoa(most)}}
			for name, value := range map[string]string{"who": by.Who, "text": by.Text, "from": by.From,
				"until": by.Until} {
				if value != "" {
					query.Set(name, value)
				}
			}
			var page struct {
				Items []contract.AuditEntry `json:"items"`
			}
			if err := client.do(ctx, "GET", v1+"/audit?"+query.Encode(), nil, &page); err != nil {
				return err
			}
			entries := page.Items
			t := table{head: []string{"id", "at", "who", "what", "about"}}
			for _, e := range entries {
				t.add(fmt.Sprint(e.ID), e.At, e.Who, e.What, e.About)
			}
			return a.print(entries, t)
		}),
	}
	list.Flags().StringVar(&by.Who, "who", "", "only what this user did")
	list.Flags().StringVar(&by.Text, "text", "", "only entries with this text in what was done, or to what")
	list.Flags().StringVar(&by.From, "from", "", "only from this day on, such as 2026-03-01")
	list.Flags().StringVar(&by.Until, "until", "", "only up to this day")
	list.Flags().IntVar(&most, "most", most, "how many entries, at most 1000")
	var noted string
	verify := &cobra.Command{
		Use: "verify", Short: "Verify that no entry was changed or removed", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var v contract.Verification
			if err := client.do(ctx, "GET", v1+"/audit/verification?"+url.Values{"head": {noted}}.Encode(), nil,
				&v); err != nil {
				return err
			}
			t := table{head: []string{"entries", "whole", "fault"}}
			t.add(v.Entries, yes(v.Whole), v.Fault)
			if err := a.print(v, t); err != nil {
				return err
			}
			if !v.Whole {
				return foundWrong
			}
			return nil
		}),
	}
	verify.Flags().StringVar(&noted, "head", "", "ID:HASH, a head that was noted earlier and must still be there")
	head := &cobra.Command{
		Use: "head", Short: "Print the newest entry as ID:HASH, to be noted elsewhere", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var h contract.Head
			if err := client.do(ctx, "GET", v1+"/audit/head", nil, &h); err != nil {
				return err
			}
			if a.as == "json" {
				return a.print(h, table{})
			}
			put(a.out, "%d:%s\n", h.ID, h.Hash)
			return nil
		}),
	}
	return noun("audit", "The log of who did what and when", list, verify, head)
}
