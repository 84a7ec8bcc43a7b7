package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/language/look"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"

	"github.com/spf13/cobra"
)

func (a *app) replacement() *cobra.Command {
	return noun("replacement", "Replacements under way and done", a.replacementList(), a.replacementShow(),
		a.replacementWatch(),
		a.replacementKey(), a.keptFile(),
		a.askAgain(),
		a.ask("cancel", "Give a replacement up; nothing of it is left on the device"),
		a.approve(),
		a.goOn(),
		a.ask("pause", "Have a replacement wait for a go-ahead before its next stage"),
		a.revert(),
		a.resume(),
		a.accept(),
		a.closing(),
		a.ask("retry", "Try again with the certificate that was signed for a reverted replacement"),
		a.ask("clear", "Clear away what a replacement left on its device"))
}

func (a *app) replacementList() *cobra.Command {
	var device, state string
	c := &cobra.Command{
		Use: "list", Short: "List replacements, newest first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[contract.Replacement](ctx, client, "/replacements?"+
				url.Values{"device": {device}, "state": {state}}.Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"id", "slot", "signer", "stage", "state", "begun"}}
			for _, r := range all {
				state := string(r.State)
				if r.WaitingFor != "" {
					state += " for " + r.WaitingFor.Text()
				}
				t.add(r.ID, r.Device+"/"+r.Slot, r.Signer, word(r.Stage), word(state), r.BegunAt)
			}
			return a.print(all, t)
		}),
	}
	c.Flags().StringVar(&device, "device", "", "only those of this device")
	c.Flags().StringVar(&state, "state", "", "only those in this state: running, waiting, held, sealed, reverted, "+
		"cancelled or closed")
	return c
}

func (a *app) replacementShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a replacement with every step", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var r contract.Replacement
			if err := client.do(ctx, "GET", v1+"/replacements"+item(args[0]), nil, &r); err != nil {
				return err
			}
			t := table{head: []string{"stage", "step", "outcome", "text"}}
			for _, s := range r.Steps {
				t.add(word(s.Stage), s.Name, word(s.Outcome), s.Text)
			}
			if a.as != "table" {
				return a.print(r, t)
			}
			a.showReplacement(r)
			return nil
		}),
	}
}

func (a *app) showReplacement(r contract.Replacement) {
	w := a.out
	put(w, "%s  %s/%s  signer %s, asked for by %s on %s\n", r.ID, r.Device, r.Slot, r.Signer, r.AskedBy,
		moment(r.BegunAt))
	if r.State == replacement.Held {
		a.showHeld(r)
	}
	if r.RetryOf != "" {
		put(w, "  retry of %s, whose request and certificate it uses\n", r.RetryOf)
	}
	showPlan(w, r.Plan)
	if r.Request != nil {
		put(w, "  request  SHA-256 %s\n", r.Request.SHA256)
	}
	for _, d := range r.Differs {
		put(w, "  differs  %s\n", d)
	}
	for _, old := range r.Former {
		put(w, "  obsolete SHA-256 %s\n           asked for anew by %s: %s\n", old.SHA256, old.By, old.Reason)
	}
	for _, u := range r.Unused {
		said := "not used"
		if u.Acceptable {
			said = "waits to be accepted"
		}
		if len(u.Findings) == 0 {
			said += ": " + u.Why
		}
		put(w, "  answer   %s, SHA-256 %s\n           %s\n", u.Certificate.Name, u.Certificate.SHA256, said)
		printFindings(w, "           ", u.Findings)
	}
	if len(r.Targets) > 1 || len(r.Targets) == 1 && len(r.Targets[0].Addresses) > 1 {
		for _, t := range r.Targets {
			put(w, "  slot     %s\n", t)
		}
	}
	switch {
	case len(r.Chain) > 0:
		compareFacts(w, r.OldCertificate, r.Chain[0].Facts)
	case r.OldCertificate != nil:
		showFacts(w, "  old ", *r.OldCertificate)
	default:
		put(w, "  old      %s\n  new      %s\n", dash(r.OldSHA256), dash(r.NewSHA256))
	}
	drawChain(w, r.Chain)
	printFindings(w, "  ", r.Findings)
	stage := ""
	for _, s := range r.Steps {
		label := ""
		if s.Stage != stage {
			label, stage = s.Stage, s.Stage
		}
		took := ""
		if s.EndedAt != nil {
			took = s.EndedAt.Sub(s.BeganAt).Round(time.Millisecond).String()
		}
		put(w, "  %-9s %-8s %-8s %s\n", label, s.Outcome, took, s.Name)
		if s.Why != "" {
			put(w, "            %s\n", lines("            ", s.Why))
		}
		if s.Outcome != "done" && s.Output != "" && s.EndedAt != nil {
			said := strings.Split(strings.TrimRight(s.Output, "\n"), "\n")
			for _, line := range said[max(0, len(said)-mostSaid):] {
				put(w, "            | %s\n", line)
			}
		}
	}
	state := string(r.State)
	if r.WaitingFor != "" {
		state += " for " + r.WaitingFor.Text()
	}
	if r.Why != "" {
		state += ": " + r.Why
	}
	if r.Closed != "" {
		state += ": " + r.Closed
	}
	if r.Effect != nil {
		put(w, "  what it is about to do:\n")
		showEffect(w, *r.Effect)
	}
	if r.NotBefore != nil {
		put(w, "  not before %s\n", when(*r.NotBefore))
	}
	if r.PausedBy != "" {
		put(w, "  paused by %s\n", r.PausedBy)
	}
	if r.AnyTime != "" {
		put(w, "  outside of its windows: %s\n", r.AnyTime)
	}
	put(w, "%s (stage %s)\n", lines("  ", state), r.Stage)
	if r.Back != "" {
		put(w, "  the way back: %s\n", lines("  ", r.Back))
	}
	if r.Kept != nil {
		put(w, "  kept for another try until %s: %s\n", r.Kept.Until.Format(time.DateOnly),
			strings.Join(r.Kept.What, ", "))
	}
	for _, f := range r.KeptFiles {
		put(w, "  kept file    %s, %s, SHA-256 %.16s…, of %s\n               freshseal replacement file %s %s "+
			"--reason TEXT --out FILE\n", f.Name, count(f.Bytes, "byte"), f.SHA256, f.At.Format("2006-01-02 15:04"),
			r.ID, f.Name)
	}
	if r.Leftover != "" {
		put(w, "  left on the device: %s\n", lines("  ", r.Leftover))
	}
	if say := advice(r.Next, r.Actions); say != "" {
		put(w, "  next: %s\n", say)
	}
}

// showHeld prints what a person needs to decide: why it is held, what each address serves, and what can be done.
func (a *app) showHeld(r contract.Replacement) {
	put(a.out, "  held: %s\n", lines("        ", r.Why))
	if r.Back != "" {
		put(a.out, "  the way back: %s\n", lines("        ", r.Back))
	}
	for _, v := range r.Serves {
		put(a.out, "  %-8s %s\n", map[look.Word]string{look.Before: "old", look.New: "new", look.Other: "a third",
			look.Unknown: "unread"}[v.Which], lines("           ", v.Text))
	}
	if r.Leftover != "" {
		put(a.out, "  left on the device: %s\n", lines("        ", r.Leftover))
	}
	put(a.out, "  %s; the exits:\n", r.Next)
	for _, action := range r.Actions {
		put(a.out, "    %s\n", strings.TrimPrefix(advice("", []next.Action{action}), "see: "))
	}
}

// mostSaid is how many lines of a failed step's output are shown.
const mostSaid = 24

// replacementKey exports a key that Fresh Seal made and kept.
func (a *app) replacementKey() *cobra.Command {
	var e contract.KeyExport
	var out, passphraseFile string
	c := &cobra.Command{
		Use: "key ID --reason TEXT --out FILE", Short: "Export a key that the service made and kept, as PKCS #12",
		Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var err error
			if e.Passphrase, err = a.secret("passphrase of the store", passphraseFile,
				"--passphrase-file"); err != nil {
				return err
			}
			if _, err := client.exported(ctx, v1+"/replacements"+item(args[0], "key-exports"), e, out); err != nil {
				return err
			}
			put(a.out, "%s: the key with its chain; your reason stands in the audit log\n", out)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&e.Reason, "reason", "", "the reason, recorded in the audit log")
	f.StringVar(&passphraseFile, "passphrase-file", "", "read the passphrase that locks the store from this file")
	f.BoolVar(&e.Old, "old", false, "use 3DES, for old devices")
	f.StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	c.MarkFlagRequired("reason")
	return c
}

// keptFile exports a file of a device that is kept here.
func (a *app) keptFile() *cobra.Command {
	var e contract.FileExport
	var out string
	c := &cobra.Command{
		Use: "file ID NAME --reason TEXT --out FILE", Short: "Export a file of the device that is kept here, such " +
			"as its export before the change", Args: cobra.ExactArgs(2),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if _, err := client.exported(ctx, v1+"/replacements"+item(args[0], "files", args[1]), e, out); err != nil {
				return err
			}
			put(a.out, "%s: as the device gave it; your reason stands in the audit log\n", out)
			return nil
		}),
	}
	c.Flags().StringVar(&e.Reason, "reason", "", "the reason, recorded in the audit log")
	c.Flags().StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	c.MarkFlagRequired("reason")
	return c
}

func (a *app) replacementWatch() *cobra.Command {
	return &cobra.Command{
		Use: "watch ID", Short: "Show the stages of a replacement as they happen", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return a.watch(ctx, client, args[0])
		}),
	}
}

// resume lets a held replacement go on.
func (a *app) resume() *cobra.Command {
	var known contract.KnownOutcome
	var values []string
	c := &cobra.Command{
		Use: "resume ID", Short: "Resume a held replacement", Args: cobra.ExactArgs(1),
		Example: "  freshseal replacement resume r5 --step done --value task=417",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			known.Values = map[string]string{}
			for _, each := range values {
				name, value, ok := strings.Cut(each, "=")
				if !ok {
					return misuse(fmt.Sprintf("%q is not NAME=VALUE", each), "", "write it as --value task=417")
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

// showPlan says what a request asks for. A device that signs for itself chooses all of it.
func showPlan(w io.Writer, p request.Plan) {
	if len(p.Names) == 0 {
		put(w, "  subject, names and key are chosen by the device\n")
		return
	}
	put(w, "  subject  %s\n  names    %s\n  key      %s\n", p.Subject, strings.Join(p.Names, ", "), p.Key.Text())
	if p.ClientUse {
		put(w, "  uses     TLS server and client\n")
	}
	for _, caution := range p.Cautions {
		put(w, "  caution  %s\n", caution)
	}
	for _, field := range request.SubjectFields {
		if value := p.Dropped[field]; value != "" {
			put(w, "  no %-5s %s: the family has no place for it in its request\n", field, value)
		}
	}
}

// closing ends a held replacement.
func (a *app) closing() *cobra.Command {
	var c contract.Closing
	cmd := &cobra.Command{
		Use: "close ID --as new|old|neither --reason TEXT", Short: "End a held replacement as the wire shows",
		Args: cobra.ExactArgs(1),
		Long: "End a held replacement. new and old need every address to serve that certificate; neither accepts " +
			"whatever is served.\n" +
			"The device is free from then on; what the replacement left there is cleared.",
		Example: "  freshseal replacement close r5 --as neither --reason \"finished by hand on the console\"",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var r contract.Replacement
			if err := client.do(ctx, "POST", v1+"/replacements"+item(args[0], "close"), c, &r); err != nil {
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
func (a *app) revert() *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "revert ID", Short: "Put the old certificate back and prove it", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var r contract.Replacement
			if err := client.do(ctx, "GET", v1+"/replacements"+item(args[0]), nil, &r); err != nil {
				return err
			}
			if !yes {
				if err := a.confirm(question("Put the certificate %.16s… back on %s/%s?", dash(r.OldSHA256), r.Device,
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

func (a *app) ask(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " ID", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return a.asked(ctx, client, args[0], verb, nil)
		}),
	}
}

// asked asks for something and shows what happens from then on, until the replacement stands still.
func (a *app) asked(ctx context.Context, client *client, id, verb string, body any) error {
	var r contract.Replacement
	if err := client.do(ctx, "POST", v1+"/replacements"+item(id, verb), body, &r); err != nil {
		return err
	}
	return a.follow(ctx, client, r.ID, r.ChangedAt)
}

// askAgain asks for another request in place of the one that is out.
func (a *app) askAgain() *cobra.Command {
	var again contract.Again
	var key string
	c := &cobra.Command{
		Use: "ask-again ID --reason TEXT", Short: "Request a new certificate in place of the pending request",
		Args:    cobra.ExactArgs(1),
		Example: "  freshseal replacement ask-again r5 --reason \"the short name was forgotten\" --name gate",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
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
	subjectFlags(f, &again.Subject)
	c.MarkFlagRequired("reason")
	return c
}
