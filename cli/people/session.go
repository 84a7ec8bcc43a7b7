package people

import (
	"context"
	"strings"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

func (a *commands) confirm() *cobra.Command {
	var passwordFile, codeFile string
	c := &cobra.Command{
		Use:   "confirm",
		Short: "Give your password or a code again, for what cannot be taken back",
		Args:  cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			if err := a.ConfirmAgain(ctx, client, passwordFile, codeFile); err != nil {
				return err
			}
			cli.Putln(a.Out, "confirmed")
			return nil
		}),
	}
	c.Flags().StringVar(&passwordFile, "password-file", "", "read the password from this file (- for standard input)")
	c.Flags().StringVar(&codeFile, "code-file", "", "read the code of your authenticator from this file (- for "+
		"standard input)")
	return c
}

func (a *commands) session() *cobra.Command {
	var all bool
	list := &cobra.Command{
		Use: "list", Short: "List where you are signed in", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			path := "/sessions"
			if all {
				path += "?all=true"
			}
			sessions, err := cli.ListOf[contract.SignedIn](ctx, client, path)
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"id", "user", "with", "by", "from", "last used", "ends"}}
			for _, s := range sessions {
				by, used := s.How, ""
				if s.Factor != "" {
					by += " and " + s.Factor
				}
				if s.SeenAt != nil {
					used = cli.When(*s.SeenAt)
				}
				id := s.ID
				if s.Own && a.As == "table" {
					id += " (this)"
				}
				t.Add(id, s.User, cli.Word(s.Kind), by, s.From, used, cli.OnDay(&s.EndsAt))
			}
			return a.Print(sessions, t)
		}),
	}
	list.Flags().BoolVar(&all, "all", false, "of all users; for an admin")
	remove := &cobra.Command{
		Use: "remove ID", Short: "End a session", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/sessions"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("session", "Consoles and clients that people are signed in with", list, remove)
}

func (a *commands) factor() *cobra.Command {
	var codeFile string
	add := &cobra.Command{
		Use:   "add",
		Short: "Set up an authenticator for signing in; what you have stays in use until its first code",
		Args:  cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var made contract.NewFactor
			if err := client.Do(ctx, "POST", cli.V1+"/factor", nil, &made); err != nil {
				return err
			}
			cli.Put(a.Err, "Enter this secret in your authenticator:\n\n  %s\n\nor, where it takes an address:\n\n  "+
				"%s\n\nThen run: freshseal factor code\n", grouped(made.Secret), made.URI)
			return nil
		}),
	}
	code := &cobra.Command{
		Use:   "code",
		Short: "Put the authenticator into use that is being set up, with its first code; prints the recovery codes",
		Args:  cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			text, err := a.Secret("code that the authenticator shows", codeFile, "--code-file")
			if err != nil {
				return err
			}
			return a.recovery(ctx, client, "/factor/code", contract.FactorCode{Code: text})
		}),
	}
	code.Flags().StringVar(&codeFile, "code-file", "", "read the code from this file (- for standard input)")
	recovery := &cobra.Command{
		Use:   "recovery",
		Short: "Make new recovery codes; the old ones are of no use any more",
		Args:  cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			return a.recovery(ctx, client, "/factor/recovery", nil)
		}),
	}
	remove := &cobra.Command{
		Use: "remove", Short: "Remove your authenticator; your other sessions end", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/factor", nil, nil)
		}),
	}
	return cli.Noun("factor", "Your second factor for signing in", add, code, recovery, remove)
}

// recovery asks for recovery codes and prints them: they are shown once.
func (a *commands) recovery(ctx context.Context, client *cli.Client, path string, in any) error {
	var codes contract.RecoveryCodes
	if err := client.Do(ctx, "POST", cli.V1+path, in, &codes); err != nil {
		return err
	}
	t := cli.Table{Head: []string{"recovery code, each for one sign-in; shown once"}}
	for _, each := range codes.Codes {
		t.Add(each)
	}
	return a.Print(codes, t)
}

// grouped writes a secret in groups of four, as people type it.
func grouped(secret string) string {
	var parts []string
	for ; len(secret) > 4; secret = secret[4:] {
		parts = append(parts, secret[:4])
	}
	return strings.Join(append(parts, secret), " ")
}

func (a *commands) signIn() *cobra.Command {
	print := func(p contract.SignInPolicy) error {
		t := cli.Table{Head: []string{"rule", "value"}}
		t.Add("console-hours", p.ConsoleHours)
		t.Add("console-idle", p.ConsoleIdle)
		t.Add("client-days", p.ClientDays)
		t.Add("client-idle", p.ClientIdle)
		t.Add("confirm", p.Confirm)
		roles := make([]string, len(p.FactorFor))
		for i, role := range p.FactorFor {
			roles[i] = string(role)
		}
		t.Add("factor-for", strings.Join(roles, ","))
		return a.Print(p, t)
	}
	show := &cobra.Command{
		Use: "show", Short: "Show the rules for signing in", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			var p contract.SignInPolicy
			if err := client.Do(ctx, "GET", cli.V1+"/sign-in-policy", nil, &p); err != nil {
				return err
			}
			return print(p)
		}),
	}
	var to contract.SignInPolicy
	var roles []string
	set := &cobra.Command{
		Use: "set", Short: "Set rules for signing in; what is not given stays as it is", Args: cobra.NoArgs,
	}
	set.RunE = a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
		var p contract.SignInPolicy
		if err := client.Do(ctx, "GET", cli.V1+"/sign-in-policy", nil, &p); err != nil {
			return err
		}
		for name, rule := range map[string]struct{ of, to *int }{"console-hours": {&p.ConsoleHours, &to.ConsoleHours},
			"console-idle": {&p.ConsoleIdle, &to.ConsoleIdle}, "client-days": {&p.ClientDays, &to.ClientDays},
			"client-idle": {&p.ClientIdle, &to.ClientIdle}, "confirm": {&p.Confirm, &to.Confirm}} {
			if set.Flags().Changed(name) {
				*rule.of = *rule.to
			}
		}
		if set.Flags().Changed("factor-for") {
			p.FactorFor = []contract.Role{}
			for _, role := range roles {
				if role != "nobody" {
					p.FactorFor = append(p.FactorFor, contract.Role(role))
				}
			}
		}
		var is contract.SignInPolicy
		if err := client.Do(ctx, "PUT", cli.V1+"/sign-in-policy", p, &is); err != nil {
			return err
		}
		return print(is)
	})
	flags := set.Flags()
	flags.IntVar(&to.ConsoleHours, "console-hours", 12, "how long a session of the console lasts, in hours")
	flags.IntVar(&to.ConsoleIdle, "console-idle", 120, "minutes without use after which it ends; 0: none")
	flags.IntVar(&to.ClientDays, "client-days", 90, "how long a session of a client lasts, in days")
	flags.IntVar(&to.ClientIdle, "client-idle", 30, "days without use after which it ends; 0: none")
	flags.IntVar(&to.Confirm, "confirm", 15, "minutes after which what cannot be taken back asks for the password or "+
		"a code again; 0: never")
	flags.StringSliceVar(&roles, "factor-for", nil, "roles that need a second factor, or nobody")
	return cli.Noun("sign-in", "Rules for signing in", show, set)
}
