package replace

import (
	"context"
	"io"
	"net/url"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/language/look"
	"freshseal/core/next"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"

	"github.com/spf13/cobra"
)

func (a *commands) replacement() *cobra.Command {
	return cli.Noun("replacement", "Replacements in progress and ended", a.replacementList(), a.replacementShow(),
		a.replacementWatch(),
		a.replacementKey(), a.keptFile(),
		a.askAgain(),
		a.ask("cancel", "Cancel a replacement; nothing of it is left on the device"),
		a.approve(),
		a.goOn(),
		a.ask("pause", "Pause a replacement before its next stage"),
		a.revert(),
		a.resume(),
		a.accept(),
		a.closing(),
		a.ask("retry", "Try again with the certificate that was signed for a reverted replacement"),
		a.ask("clear", "Remove what a replacement left on its device"))
}

func (a *commands) replacementList() *cobra.Command {
	var device, state, parcel string
	c := &cobra.Command{
		Use: "list", Short: "List replacements, newest first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Replacement](ctx, client, "/replacements?"+
				url.Values{"device": {device}, "state": {state}, "parcel": {parcel}}.Encode())
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"id", "slot", "signer", "stage", "state", "started"}}
			for _, r := range all {
				state := string(r.State)
				if r.WaitingFor != "" {
					state += " for " + r.WaitingFor.Text()
				}
				t.Add(r.ID, r.Device+"/"+r.Slot, r.Signer, cli.Word(r.Stage), cli.Word(state), r.StartedAt)
			}
			return a.Print(all, t)
		}),
	}
	c.Flags().StringVar(&device, "device", "", "only those of this device")
	c.Flags().StringVar(&state, "state", "", "only those in this state: running, waiting, held, sealed, reverted, "+
		"cancelled or closed")
	c.Flags().StringVar(&parcel, "parcel", "", "only those whose request is in this parcel; - for none")
	return c
}

func (a *commands) replacementShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a replacement with every step", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var r contract.Replacement
			if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(args[0]), nil, &r); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"stage", "step", "outcome", "text"}}
			for _, s := range r.Steps {
				t.Add(cli.Word(s.Stage), s.Name, cli.Word(s.Outcome), s.Text)
			}
			if a.As != "table" {
				return a.Print(r, t)
			}
			a.showReplacement(r)
			return nil
		}),
	}
}

func (a *commands) showReplacement(r contract.Replacement) {
	w := a.Out
	cli.Put(w, "%s  %s/%s  signer %s, asked for by %s on %s\n", r.ID, r.Device, r.Slot, r.Signer, r.AskedBy,
		cli.Moment(r.StartedAt))
	if r.State == replacement.Held {
		a.showHeld(r)
	}
	if r.RetryOf != "" {
		cli.Put(w, "  retry of %s, whose request and certificate it uses\n", r.RetryOf)
	}
	showPlan(w, r.Plan)
	if r.Request != nil {
		cli.Put(w, "  request  SHA-256 %s\n", r.Request.SHA256)
	}
	for _, d := range r.Differs {
		cli.Put(w, "  differs  %s\n", d)
	}
	for _, old := range r.Former {
		cli.Put(w, "  obsolete SHA-256 %s\n           requested again by %s: %s\n", old.SHA256, old.By, old.Reason)
	}
	showAnswers(w, r.Unused)
	if len(r.Targets) > 1 || len(r.Targets) == 1 && len(r.Targets[0].Addresses) > 1 {
		for _, t := range r.Targets {
			cli.Put(w, "  slot     %s\n", t)
		}
	}
	switch {
	case len(r.Chain) > 0:
		compareFacts(w, r.OldCertificate, r.Chain[0].Facts)
	case r.OldCertificate != nil:
		cli.ShowFacts(w, "  old ", *r.OldCertificate)
	default:
		cli.Put(w, "  old      %s\n  new      %s\n", cli.Dash(r.OldSHA256), cli.Dash(r.NewSHA256))
	}
	cli.DrawChain(w, r.Chain)
	cli.PrintFindings(w, "  ", r.Findings)
	showSteps(w, r.Steps)
	showTimes(w, r.StageTimes)
	showEnd(w, r)
}

// showTimes prints the time spent in each stage, and in all of them.
func showTimes(w io.Writer, times []replacement.Spent) {
	label := "times"
	line := func(stage string, ran, waited float64) {
		text := cli.Lasted(ran)
		if waited >= 1 {
			text += ", waited " + cli.Lasted(waited)
		}
		cli.Put(w, "  %-8s %-8s %s\n", label, stage, text)
		label = ""
	}
	ran, waited := 0.0, 0.0
	for _, t := range times {
		ran, waited = ran+t.Ran, waited+t.Waited
		line(string(t.Stage), t.Ran, t.Waited)
	}
	if len(times) > 1 {
		line("total", ran, waited)
	}
}

// showAnswers prints the answers that came and were not used.
func showAnswers(w io.Writer, all []contract.UnusedAnswer) {
	for _, u := range all {
		said := "not used"
		if u.Acceptable {
			said = "waits to be accepted"
		}
		if len(u.Findings) == 0 {
			said += ": " + u.Why
		}
		cli.Put(w, "  answer   %s, SHA-256 %s\n           %s\n", u.Certificate.Name, u.Certificate.SHA256, said)
		cli.PrintFindings(w, "           ", u.Findings)
	}
}

// showSteps prints the journal.
func showSteps(w io.Writer, steps []contract.Step) {
	stage := ""
	for _, s := range steps {
		label := ""
		if s.Stage != stage {
			label, stage = s.Stage, s.Stage
		}
		took := ""
		if s.EndedAt != nil {
			took = s.EndedAt.Sub(s.BeganAt).Round(time.Millisecond).String()
		}
		cli.Put(w, "  %-9s %-8s %-8s %s\n", label, s.Outcome, took, s.Name)
		if s.Why != "" {
			cli.Put(w, "            %s\n", cli.Lines("            ", s.Why))
		}
		if s.Outcome != "done" && s.Output != "" && s.EndedAt != nil {
			said := strings.Split(strings.TrimRight(s.Output, "\n"), "\n")
			for _, line := range said[max(0, len(said)-mostSaid):] {
				cli.Put(w, "            | %s\n", line)
			}
		}
	}
}

// showEnd prints where it stands, what is kept and left, and what to do next.
func showEnd(w io.Writer, r contract.Replacement) {
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
		cli.Put(w, "  what it is about to do:\n")
		showEffect(w, *r.Effect)
	}
	if r.NotBefore != nil {
		cli.Put(w, "  not before %s\n", cli.When(*r.NotBefore))
	}
	if r.PausedBy != "" {
		cli.Put(w, "  paused by %s\n", r.PausedBy)
	}
	if r.AnyTime != "" {
		cli.Put(w, "  outside of its windows: %s\n", r.AnyTime)
	}
	cli.Put(w, "%s (stage %s)\n", cli.Lines("  ", state), r.Stage)
	if r.Back != "" {
		cli.Put(w, "  the way back: %s\n", cli.Lines("  ", r.Back))
	}
	if r.Kept != nil {
		cli.Put(w, "  kept for another try until %s: %s\n", r.Kept.Until.Format(time.DateOnly),
			strings.Join(r.Kept.What, ", "))
	}
	for _, f := range r.KeptFiles {
		cli.Put(w, "  kept file    %s, %s, SHA-256 %.16s…, of %s\n               freshseal replacement file %s %s "+
			"--reason TEXT --out FILE\n", f.Name, cli.Count(f.Bytes, "byte"), f.SHA256, f.At.Format("2006-01-02 15:04"),
			r.ID, f.Name)
	}
	if r.Leftover != "" {
		cli.Put(w, "  left on the device: %s\n", cli.Lines("  ", r.Leftover))
	}
	if say := cli.Advice(r.Next, r.Actions); say != "" {
		cli.Put(w, "  next: %s\n", say)
	}
}

// showHeld prints what a person needs to decide: why it is held, what each address serves, and what can be done.
func (a *commands) showHeld(r contract.Replacement) {
	cli.Put(a.Out, "  held: %s\n", cli.Lines("        ", r.Why))
	if r.Back != "" {
		cli.Put(a.Out, "  the way back: %s\n", cli.Lines("        ", r.Back))
	}
	for _, v := range r.Serves {
		cli.Put(a.Out, "  %-8s %s\n", map[look.Word]string{look.Before: "old", look.New: "new", look.Other: "a third",
			look.Unknown: "unread"}[v.Which], cli.Lines("           ", v.Text))
	}
	if r.Leftover != "" {
		cli.Put(a.Out, "  left on the device: %s\n", cli.Lines("        ", r.Leftover))
	}
	cli.Put(a.Out, "  %s; the exits:\n", r.Next)
	for _, action := range r.Actions {
		cli.Put(a.Out, "    %s\n", strings.TrimPrefix(cli.Advice("", []next.Action{action}), "see: "))
	}
}

// mostSaid is how many lines of a failed step's output are shown.
const mostSaid = 24

// replacementKey exports a key that Fresh Seal made and kept.
func (a *commands) replacementKey() *cobra.Command {
	var e contract.KeyExport
	var out, passphraseFile string
	c := &cobra.Command{
		Use: "key ID --reason TEXT --out FILE", Short: "Export a key that the service made and kept, as PKCS #12",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var err error
			if e.Passphrase, err = a.Secret("passphrase of the store", passphraseFile,
				"--passphrase-file"); err != nil {
				return err
			}
			if _, err := client.Exported(ctx, cli.V1+"/replacements"+cli.Item(args[0], "key-exports"), e,
				out); err != nil {
				return err
			}
			cli.Put(a.Out, "%s: the key with its chain; your reason is in the audit log\n", out)
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
func (a *commands) keptFile() *cobra.Command {
	var e contract.FileExport
	var out string
	c := &cobra.Command{
		Use: "file ID NAME --reason TEXT --out FILE", Short: "Export a file of the device that is kept here, such " +
			"as its export before the change", Args: cobra.ExactArgs(2),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			if _, err := client.Exported(ctx, cli.V1+"/replacements"+cli.Item(args[0], "files", args[1]), e,
				out); err != nil {
				return err
			}
			cli.Put(a.Out, "%s: as the device gave it; your reason is in the audit log\n", out)
			return nil
		}),
	}
	c.Flags().StringVar(&e.Reason, "reason", "", "the reason, recorded in the audit log")
	c.Flags().StringVar(&out, "out", "", "the file to write")
	c.MarkFlagRequired("out")
	c.MarkFlagRequired("reason")
	return c
}

func (a *commands) replacementWatch() *cobra.Command {
	return &cobra.Command{
		Use: "watch ID", Short: "Show the stages of a replacement as they happen", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.watch(ctx, client, args[0])
		}),
	}
}

// showPlan prints what a request asks for. A device that signs for itself chooses all of it.
func showPlan(w io.Writer, p request.Plan) {
	if len(p.Names) == 0 {
		cli.Put(w, "  subject, names and key are chosen by the device\n")
		return
	}
	cli.Put(w, "  subject  %s\n  names    %s\n  key      %s\n", p.Subject, strings.Join(p.Names, ", "), p.Key.Text())
	if p.ClientUse {
		cli.Put(w, "  uses     TLS server and client\n")
	}
	for _, caution := range p.Cautions {
		cli.Put(w, "  caution  %s\n", caution)
	}
	for _, field := range request.SubjectFields {
		if value := p.Dropped[field]; value != "" {
			cli.Put(w, "  no %-5s %s: the family has no place for it in its request\n", field, value)
		}
	}
}
