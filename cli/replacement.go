package cli

import (
	"context"
	"net/url"
	"strings"
	"time"

	"freshseal/service/watch"
	"freshseal/service/work"

	"freshseal/core/replacement"
	"freshseal/core/request"

	"github.com/spf13/cobra"
)

func (a *app) replacement() *cobra.Command {
	return noun("replacement", "Replacements under way and done", a.replacementList(), a.replacementShow(),
		a.replacementWatch(),
		a.replacementKey(),
		a.askAgain(),
		a.ask("cancel", "Give a replacement up; nothing of it is left on the device"),
		a.ask("approve", "Let a replacement go on that waits for approval"),
		a.ask("revert", "Put the old certificate back and prove it"),
		a.resume(),
		a.ask("clear", "Clear away what a replacement left on its device"))
}

func (a *app) replacementList() *cobra.Command {
	var device, state string
	c := &cobra.Command{
		Use: "list", Short: "List replacements, newest first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[work.Replacement](ctx, client, "/replacements?"+url.Values{"device": {device}, "state": {state}}.Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"id", "slot", "signer", "stage", "state", "begun"}}
			for _, r := range all {
				state := string(r.State)
				if r.WaitingFor != "" {
					state += " for " + string(r.WaitingFor)
				}
				t.add(r.ID, r.Device+"/"+r.Slot, r.Signer, word(r.Stage), word(state), r.BegunAt)
			}
			return a.print(all, t)
		}),
	}
	c.Flags().StringVar(&device, "device", "", "only those of this device")
	c.Flags().StringVar(&state, "state", "", "only those in this state: running, waiting, held, sealed, reverted or cancelled")
	return c
}

func (a *app) replacementShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "Show a replacement with every step", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var r work.Replacement
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

func (a *app) showReplacement(r work.Replacement) {
	w := a.out
	put(w, "%s  %s/%s  signer %s, asked for by %s on %s\n", r.ID, r.Device, r.Slot, r.Signer, r.AskedBy, moment(r.BegunAt))
	put(w, "  names    %s\n  key      %s\n", strings.Join(r.Plan.Names, ", "), r.Plan.Key.Text())
	if r.Request != nil {
		put(w, "  request  SHA-256 %s\n", r.Request.SHA256)
	}
	for _, old := range r.Former {
		put(w, "  obsolete SHA-256 %s\n           asked for anew by %s: %s\n", old.SHA256, old.By, old.Reason)
	}
	if len(r.Targets) > 1 || len(r.Targets) == 1 && len(r.Targets[0].Addresses) > 1 {
		for _, t := range r.Targets {
			put(w, "  slot     %s\n", t)
		}
	}
	put(w, "  old      %s\n  new      %s\n", dash(r.OldSHA256), dash(r.NewSHA256))
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
		state += " for " + string(r.WaitingFor)
	}
	if r.Why != "" {
		state += ": " + r.Why
	}
	put(w, "%s (stage %s)\n", lines("  ", state), r.Stage)
	if r.Leftover != "" {
		put(w, "  left on the device: %s\n", lines("  ", r.Leftover))
	}
	if say := advice(r.Next, r.Actions); say != "" {
		put(w, "  next: %s\n", say)
	}
}

// mostSaid is how many lines of a failed step's output are shown.
const mostSaid = 24

// replacementKey exports a key that Fresh Seal made and kept.
func (a *app) replacementKey() *cobra.Command {
	var e work.KeyExport
	var out, passphraseFile string
	c := &cobra.Command{
		Use: "key ID --reason TEXT --out FILE", Short: "Export a key that the service made and kept, as PKCS #12", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var err error
			if e.Passphrase, err = a.secret("passphrase of the store", passphraseFile, "--passphrase-file"); err != nil {
				return err
			}
			if _, err := client.exported(ctx, v1+"/replacements"+item(args[0], "key-exports"), e, out); err != nil {
				return err
			}
			put(a.out, "%s: the key with its chain; your reason stands in the ledger\n", out)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&e.Reason, "reason", "", "the reason, recorded in the ledger")
	f.StringVar(&passphraseFile, "passphrase-file", "", "read the passphrase that locks the store from this file")
	f.BoolVar(&e.Old, "old", false, "use 3DES, for old devices")
	f.StringVar(&out, "out", "", "the file to write")
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
	var step string
	c := &cobra.Command{
		Use: "resume ID", Short: "Resume a held replacement", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if err := client.do(ctx, "POST", v1+"/replacements"+item(args[0], "resume")+"?"+url.Values{"step": {step}}.Encode(), nil, nil); err != nil {
				return err
			}
			return a.watchQuietly(ctx, client, args[0])
		}),
	}
	c.Flags().StringVar(&step, "step", "", "the outcome of the last step, where it is unknown: done, or again to repeat it")
	return c
}

func (a *app) ask(verb, short string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " ID", Short: short, Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if err := client.do(ctx, "POST", v1+"/replacements"+item(args[0], verb), nil, nil); err != nil {
				return err
			}
			return a.watchQuietly(ctx, client, args[0])
		}),
	}
}

// askAgain asks for another request in place of the one that is out.
func (a *app) askAgain() *cobra.Command {
	var again work.Again
	var key string
	c := &cobra.Command{
		Use: "ask-again ID --reason TEXT", Short: "Request a new certificate in place of the pending request", Args: cobra.ExactArgs(1),
		Example: "  freshseal replacement ask-again r5 --reason \"the short name was forgotten\" --name gate",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			again.Key = request.KeyType(key)
			if err := client.do(ctx, "POST", v1+"/replacements"+item(args[0], "requests"), again, nil); err != nil {
				return err
			}
			return a.watchQuietly(ctx, client, args[0])
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

// watchQuietly waits until a replacement stands still, and says where.
func (a *app) watchQuietly(ctx context.Context, client *client, id string) error {
	answer, err := client.send(ctx, "GET", v1+"/replacements"+item(id)+"/events", nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if err := eachEvent(answer.Body, func(watch.Event) {}); err != nil {
		return err
	}
	var r work.Replacement
	if err := client.do(ctx, "GET", v1+"/replacements"+item(id), nil, &r); err != nil {
		return err
	}
	if r.State == replacement.Reverted && r.Leftover == "" { // which is what may have been asked for
		put(a.out, "%s: reverted; the old certificate is served again\n", r.ID)
		return nil
	}
	return a.rest(r)
}
