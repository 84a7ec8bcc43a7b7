package replace

import (
	"context"
	"io"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/cert"

	"github.com/spf13/cobra"
)

// approve approves what was shown just before, and nothing else.
func (a *commands) approve() *cobra.Command {
	return &cobra.Command{
		Use: "approve ID", Short: "Approve a replacement", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var r contract.Replacement
			if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(args[0]), nil, &r); err != nil {
				return err
			}
			var approval contract.Approval
			if r.Effect != nil {
				approval.Digest = r.Effect.Digest
				showEffect(a.Out, *r.Effect)
			}
			return a.asked(ctx, client, args[0], "approve", approval)
		}),
	}
}

// showEffect prints what a replacement is about to do, old and new beside each other.
func showEffect(w io.Writer, what contract.Effect) {
	if what.New != nil {
		compareFacts(w, what.Old, *what.New)
	}
	if len(what.NamesAdded) > 0 {
		cli.Put(w, "  names    added: %s\n", strings.Join(what.NamesAdded, ", "))
	}
	if len(what.NamesLost) > 0 {
		cli.Put(w, "  names    LOST: %s\n", strings.Join(what.NamesLost, ", "))
	}
	for _, t := range what.Trust {
		said := "trusts it"
		if !t.Trusted {
			said = "does NOT trust it: root \"" + t.Lacks + "\" is missing"
		}
		cli.Put(w, "  trust group %s %s\n", t.TrustGroup, said)
	}
	for _, p := range what.Pins {
		cli.Put(w, "  pin      %s, who recorded %s\n", p.Who, pinWords[p.What])
	}
	for _, step := range what.Stages {
		cli.Put(w, "  %s\n", step)
	}
}

// compareFacts prints two certificates beside each other, in the order in which people compare them.
func compareFacts(w io.Writer, old *cert.Facts, new cert.Facts) {
	before := cli.FactRows(cert.Facts{})
	if old != nil {
		before = cli.FactRows(*old)
	}
	for i, row := range cli.FactRows(new) {
		switch {
		case old == nil:
			cli.Put(w, "  %-8s %s\n", row[0], cli.Lines("           ", row[1]))
		case before[i][1] == row[1]:
			cli.Put(w, "  %-8s %s (both)\n", row[0], cli.Lines("           ", row[1]))
		default:
			cli.Put(w, "  %-8s old %s\n           new %s\n", row[0], cli.Dash(before[i][1]), cli.Dash(row[1]))
		}
	}
}

// goOn lets a replacement go on.
func (a *commands) goOn() *cobra.Command {
	var g contract.GoAhead
	c := &cobra.Command{
		Use: "go ID", Short: "Continue a replacement that was paused, or that waits for a window",
		Args:    cobra.ExactArgs(1),
		Example: "  freshseal replacement go r5 --reason \"the certificate has expired\"",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.asked(ctx, client, args[0], "go", g)
		}),
	}
	c.Flags().StringVar(&g.Reason, "reason", "", "why the device is touched outside of its windows; recorded in "+
		"the audit log")
	return c
}

// accept accepts doubtful answers, each after it was shown.
func (a *commands) accept() *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "accept ID…", Short: "Accept answers of the signer that raised doubts, and continue",
		Args:    cobra.MinimumNArgs(1),
		Example: "  freshseal replacement accept r5 r6 r7",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			for _, id := range args {
				if err := a.acceptOne(ctx, client, id, yes); err != nil {
					return err
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}

func (a *commands) acceptOne(ctx context.Context, client *cli.Client, id string, yes bool) error {
	var r contract.Replacement
	if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(id), nil, &r); err != nil {
		return err
	}
	var answer contract.UnusedAnswer
	for _, u := range r.Unused {
		if u.Acceptable {
			answer = u
		}
	}
	if answer.Certificate.SHA256 == "" {
		return cli.Failed("no answer was accepted", id+" has none that waits for it", "see: freshseal "+
			"replacement show "+id)
	}
	cli.Put(a.Out, "%s for %s/%s\n  issuer  %s\n  expires %s\n  SHA-256 %s\n", answer.Certificate.Subject, r.Device,
		r.Slot, answer.Certificate.Issuer, cli.Date(&answer.Certificate.NotAfter), answer.Certificate.SHA256)
	cli.PrintFindings(a.Out, "  ", answer.Findings)
	if !yes {
		if err := a.Confirm("Accept it all the same?", "give --yes"); err != nil {
			return err
		}
	}
	return a.asked(ctx, client, id, "acceptance", contract.Acceptance{SHA256: answer.Certificate.SHA256})
}
