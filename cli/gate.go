package cli

import (
	"context"
	"io"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/cert"

	"github.com/spf13/cobra"
)

// approve approves what was shown just before, and nothing else.
func (a *app) approve() *cobra.Command {
	return &cobra.Command{
		Use: "approve ID", Short: "Let a replacement go on that waits for approval", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var r contract.Replacement
			if err := client.do(ctx, "GET", v1+"/replacements"+item(args[0]), nil, &r); err != nil {
				return err
			}
			var approval contract.Approval
			if r.Effect != nil {
				approval.Digest = r.Effect.Digest
				showEffect(a.out, *r.Effect)
			}
			return a.asked(ctx, client, args[0], "approve", approval)
		}),
	}
}

// showEffect says what a replacement is about to do, old and new beside each other.
func showEffect(w io.Writer, what contract.Effect) {
	if what.New != nil {
		compareFacts(w, what.Old, *what.New)
	}
	if len(what.NamesAdded) > 0 {
		put(w, "  names    added: %s\n", strings.Join(what.NamesAdded, ", "))
	}
	if len(what.NamesLost) > 0 {
		put(w, "  names    LOST: %s\n", strings.Join(what.NamesLost, ", "))
	}
	for _, t := range what.Trust {
		said := "trusts it"
		if !t.Trusted {
			said = "does NOT trust it: root \"" + t.Lacks + "\" is missing"
		}
		put(w, "  trust group %s %s\n", t.TrustGroup, said)
	}
	for _, p := range what.Pins {
		put(w, "  pin      %s, who recorded %s\n", p.Who, pinWords[p.What])
	}
	for _, step := range what.Stages {
		put(w, "  %s\n", step)
	}
}

// compareFacts prints two certificates beside each other, in the order in which people compare them.
func compareFacts(w io.Writer, old *cert.Facts, new cert.Facts) {
	before := factRows(cert.Facts{})
	if old != nil {
		before = factRows(*old)
	}
	for i, row := range factRows(new) {
		switch {
		case old == nil:
			put(w, "  %-8s %s\n", row[0], lines("           ", row[1]))
		case before[i][1] == row[1]:
			put(w, "  %-8s %s (both)\n", row[0], lines("           ", row[1]))
		default:
			put(w, "  %-8s old %s\n           new %s\n", row[0], dash(before[i][1]), dash(row[1]))
		}
	}
}

// when is a moment, or nothing where it is not known.
func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

// goOn lets a replacement go on.
func (a *app) goOn() *cobra.Command {
	var g contract.GoAhead
	c := &cobra.Command{
		Use: "go ID", Short: "Let a replacement go on that was paused or was to stop, or that waits for a window",
		Args:    cobra.ExactArgs(1),
		Example: "  freshseal replacement go r5 --reason \"the certificate has expired\"",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return a.asked(ctx, client, args[0], "go", g)
		}),
	}
	c.Flags().StringVar(&g.Reason, "reason", "", "why the device is touched outside of its windows; recorded in "+
		"the audit log")
	return c
}

// accept accepts doubtful answers, each after it was shown.
func (a *app) accept() *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "accept ID…", Short: "Accept doubtful answers of the signer, and go on with them",
		Args:    cobra.MinimumNArgs(1),
		Example: "  freshseal replacement accept r5 r6 r7",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
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

func (a *app) acceptOne(ctx context.Context, client *client, id string, yes bool) error {
	var r contract.Replacement
	if err := client.do(ctx, "GET", v1+"/replacements"+item(id), nil, &r); err != nil {
		return err
	}
	var answer contract.UnusedAnswer
	for _, u := range r.Unused {
		if u.Acceptable {
			answer = u
		}
	}
	if answer.Certificate.SHA256 == "" {
		return failed("no answer was accepted", id+" has none that waits for it", "see: freshseal replacement show "+id)
	}
	put(a.out, "%s for %s/%s\n  issuer  %s\n  expires %s\n  SHA-256 %s\n", answer.Certificate.Subject, r.Device,
		r.Slot, answer.Certificate.Issuer, date(&answer.Certificate.NotAfter), answer.Certificate.SHA256)
	printFindings(a.out, "  ", answer.Findings)
	if !yes {
		if err := a.confirm("Accept it all the same?", "give --yes"); err != nil {
			return err
		}
	}
	return a.asked(ctx, client, id, "acceptance", contract.Acceptance{SHA256: answer.Certificate.SHA256})
}
