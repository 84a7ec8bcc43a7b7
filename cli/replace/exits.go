package replace

import (
	"context"
	"fmt"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

// resume lets a held replacement go on.
func (a *commands) resume() *cobra.Command {
	var known contract.KnownOutcome
	var values []string
	c := &cobra.Command{
		Use: "resume ID", Short: "Resume a held replacement", Args: cobra.ExactArgs(1),
		Example: "  freshseal replacement resume r5 --step done --value task=417",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			known.Values = map[string]string{}
			for _, each := range values {
				name, value, ok := strings.Cut(each, "=")
				if !ok {
					return cli.Misuse(fmt.Sprintf("%q is not NAME=VALUE", each), "", "write it as --value task=417")
				}
				known.Values[name] = value
			}
			return a.asked(ctx, client, args[0], "resume", known)
		}),
	}
	c.Flags().StringVar(&known.Step, "step", "", "the outcome of the step whose end is unknown: done, not-done (it "+
		"is done now), or repeat")
	c.Flags().StringArrayVar(&values, "value", nil, "with --step done: NAME=VALUE, what the step would have "+
		"captured; may be given again")
	return c
}

// closing ends a held replacement.
func (a *commands) closing() *cobra.Command {
	var c contract.Closing
	cmd := &cobra.Command{
		Use:   "close ID --as new|old|neither --reason TEXT",
		Short: "Close a held replacement with the outcome that the wire shows",
		Args:  cobra.ExactArgs(1),
		Long: "End a held replacement. new and old need every address to serve that certificate; neither accepts " +
			"whatever is served.\n" +
			"The device is free from then on; what the replacement left there is cleared.",
		Example: "  freshseal replacement close r5 --as neither --reason \"finished by hand on the console\"",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var r contract.Replacement
			if err := client.Do(ctx, "POST", cli.V1+"/replacements"+cli.Item(args[0], "close"), c, &r); err != nil {
				return err
			}
			return a.rest(r)
		}),
	}
	cmd.Flags().StringVar(&c.As, "as", "", "what the device serves: new, old, or neither")
	cmd.Flags().StringVar(&c.Reason, "reason", "", "the reason, recorded in the audit log")
	cmd.MarkFlagRequired("as")
	cmd.MarkFlagRequired("reason")
	return cmd
}

// revert asks before a box is touched.
func (a *commands) revert() *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "revert ID", Short: "Put the old certificate back and prove it", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var r contract.Replacement
			if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(args[0]), nil, &r); err != nil {
				return err
			}
			if !yes {
				if err := a.Confirm(cli.Question("Put the certificate %.16s… back on %s/%s?", cli.Dash(r.OldSHA256),
					r.Device,
					r.Slot), "give --yes"); err != nil {
					return err
				}
			}
			return a.asked(ctx, client, args[0], "revert", nil)
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}

func (a *commands) ask(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " ID", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.asked(ctx, client, args[0], verb, nil)
		}),
	}
}

// asked asks for something and shows what happens from then on, until the replacement stands still.
func (a *commands) asked(ctx context.Context, client *cli.Client, id, verb string, body any) error {
	var r contract.Replacement
	if err := client.Do(ctx, "POST", cli.V1+"/replacements"+cli.Item(id, verb), body, &r); err != nil {
		return err
	}
	return a.follow(ctx, client, r.ID, r.ChangedAt)
}

// askAgain asks for another request in place of the one that is out.
func (a *commands) askAgain() *cobra.Command {
	var again contract.Again
	var key string
	c := &cobra.Command{
		Use: "ask-again ID --reason TEXT", Short: "Request a new certificate in place of the pending request",
		Args:    cobra.ExactArgs(1),
		Example: "  freshseal replacement ask-again r5 --reason \"the short name was forgotten\" --name gate",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			again.Key = request.KeyType(key)
			return a.asked(ctx, client, args[0], "requests", again)
		}),
	}
	f := c.Flags()
	f.StringVar(&again.Reason, "reason", "", "what is wrong with the pending request")
	f.StringArrayVar(&again.Names, "name", nil, "a name to add; may be given again")
	f.StringArrayVar(&again.Without, "without", nil, "a name to remove; may be given again")
	f.StringVar(&again.Signer, "signer", "", "another signer")
	f.StringVar(&key, "key", "", "another key type")
	cli.SubjectFlags(f, &again.Subject)
	c.MarkFlagRequired("reason")
	return c
}
