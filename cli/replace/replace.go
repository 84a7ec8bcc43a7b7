package replace

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"

	"github.com/spf13/cobra"
)

func (a *commands) replace() *cobra.Command {
	var o contract.Order
	var key string
	var at string
	var rehearse, differences, watch bool
	c := &cobra.Command{
		Use: "replace DEVICE/SLOT[,SLOT…]", Short: "Replace the certificate of a slot, or of several slots " +
			"of a device", Args: cobra.ExactArgs(1),
		Example: "  freshseal replace gate-1.mainquay.tidewrack.example/web --signer bench --watch\n  freshseal " +
			"replace gate-1.mainquay.tidewrack.example/web,eap --signer bench --rehearse",
		RunE: func(c *cobra.Command, args []string) error {
			var err error
			if o.Device, o.Slot, err = cli.SlotArg(args[0]); err != nil {
				return err
			}
			slots := strings.Split(o.Slot, ",")
			o.Slot, o.Also = slots[0], slots[1:]
			client, err := a.Client()
			if err != nil {
				return err
			}
			if err := atMoment(at, &o); err != nil {
				return err
			}
			o.Key = request.KeyType(key)
			if differences && !rehearse {
				return cli.Misuse("--differences belongs to --rehearse", "", "add --rehearse, or leave it out")
			}
			if rehearse {
				return a.rehearse(c.Context(), client, contract.RehearsalOrder{Order: o, Differences: differences})
			}
			var r contract.Replacement
			if err := client.Do(c.Context(), "POST", cli.V1+"/replacements", o, &r); err != nil {
				return err
			}
			if watch {
				return a.watch(c.Context(), client, r.ID)
			}
			return a.settle(c.Context(), client, r.ID)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Signer, "signer", "", "the signer (default: that of the policy); see: freshseal signer list")
	f.BoolVar(&rehearse, "rehearse", false, "show every step and send nothing")
	f.BoolVar(&differences, "differences", false, "with --rehearse: read the files that would be edited from the "+
		"device, and show the differences")
	f.BoolVar(&watch, "watch", false, "show the stages as they happen")
	f.StringArrayVar(&o.Names, "name", nil, "a further name; may be given again")
	f.StringVar(&o.Subject.CommonName, "common-name", "", "the common name (default: the name that clients use)")
	f.StringVar(&key, "key", "", "key type, such as ecdsa-p256 or rsa-2048")
	cli.SubjectFlags(f, &o.Subject)
	f.StringVar(&at, "at", "", "when the device may be touched: a time such as 2026-12-03T22:00:00+01:00, or "+
		"next-window; what nothing live needs is done at once")
	f.StringVar(&o.StopAfter, "stop-after", "", "wait for a go-ahead after this stage: sign or trial")
	f.BoolVar(&o.Unseen, "unseen", false, "start although the slot cannot be read: its first certificate, or a "+
		"broken one (a revert is proven where it serves no TLS at all)")
	f.BoolVar(&o.OneWay, "one-way", false, "start although some steps cannot be undone")
	c.MarkFlagsMutuallyExclusive("rehearse", "watch")
	return c
}

// atMoment reads when a device may be touched.
func atMoment(at string, o *contract.Order) error {
	switch at {
	case "":
		return nil
	case "next-window":
		o.NextOpen = true
		return nil
	}
	moment, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return cli.Misuse(fmt.Sprintf("%q is not a time", at), "", "write it as 2026-12-03T22:00:00+01:00, or "+
			"next-window")
	}
	o.At = &moment
	return nil
}

func (a *commands) rehearse(ctx context.Context, client *cli.Client, o contract.RehearsalOrder) error {
	var r contract.Rehearsal
	if err := client.Do(ctx, "POST", cli.V1+"/rehearsals", o, &r); err != nil {
		return err
	}
	t := cli.Table{Head: []string{"stage", "step", "verb", "text"}}
	for _, s := range r.Steps {
		t.Add(cli.Word(s.Section), s.Name, cli.Word(s.Verb), s.Text)
	}
	if a.As != "table" {
		return a.Print(r, t)
	}
	cli.Put(a.Out, "Rehearsal of %s/%s: nothing is sent.\n\n", o.Device, o.Slot)
	showPlan(a.Out, r.Plan)
	for _, t := range r.Targets {
		cli.Put(a.Out, "  slot     %s\n", t)
	}
	for _, what := range slices.Sorted(maps.Keys(r.Plan.Sources)) {
		cli.Put(a.Out, "           %s: from %s\n", what, r.Plan.Sources[what])
	}
	for _, name := range slices.Sorted(maps.Keys(r.Plan.LeftOut)) {
		cli.Put(a.Out, "  left out %s: %s\n", name, r.Plan.LeftOut[name])
	}
	for _, p := range r.Pins {
		cli.Put(a.Out, "  pin      %s, who recorded %s of %s: it %s\n           %s\n", p.Who, pinWords[p.What], p.Slot,
			p.Breaks, cli.Lines("           ", p.How))
	}
	cli.PrintFindings(a.Out, "  ", r.Findings)
	stage := ""
	for _, s := range r.Steps {
		if string(s.Section) != stage {
			stage = string(s.Section)
			cli.Put(a.Out, "\n%s%s\n", stage, sectionNote[stage])
		}
		cli.Put(a.Out, "  %s\n    %-6s %s\n", s.Name, s.Verb, cli.Lines("           ", s.Text))
		for line := range strings.Lines(s.Content) {
			cli.Put(a.Out, "           | %s\n", strings.TrimRight(line, "\n"))
		}
		for line := range strings.Lines(s.Difference) {
			cli.Put(a.Out, "           %s\n", strings.TrimRight(line, "\n"))
		}
		for _, beside := range []struct{ label, text string }{{"limit", s.Limit}, {"undo", s.Undo},
			{"always", s.Finally}, {"note", s.Note}} {
			if beside.text != "" {
				cli.Put(a.Out, "    %-6s %s\n", beside.label, cli.Lines("           ", beside.text))
			}
		}
	}
	return nil
}

var sectionNote = map[string]string{"revert": " (the way back, only if a stage after backup fails; only what was " +
	"started is undone)", "cancel": " (only when it is given up, or after revert)"}

// settle waits a moment for a replacement to come to rest, and says where it stands.
func (a *commands) settle(ctx context.Context, client *cli.Client, id string) error {
	var r contract.Replacement
	for range 20 {
		if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(id), nil, &r); err != nil {
			return err
		}
		if r.State != replacement.Running {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return a.rest(r)
}

// rest prints where a replacement stands, and what to do.
func (a *commands) rest(r contract.Replacement) error {
	if a.As != "table" {
		t := cli.Table{Head: []string{"id", "slot", "stage", "state", "waiting_for"}}
		t.Add(r.ID, r.Device+"/"+r.Slot, cli.Word(r.Stage), cli.Word(r.State), cli.Word(r.WaitingFor))
		if err := a.Print(r, t); err != nil {
			return err
		}
	}
	switch r.State {
	case replacement.Reverted:
		if r.Leftover == "" && r.Asked {
			cli.Put(a.Out, "%s: reverted; the old certificate is served again\n", r.ID)
			return nil
		}
		return cli.Failed(fmt.Sprintf("%s of %s/%s is %s in stage %s", r.ID, r.Device, r.Slot, r.State, r.Stage), r.Why,
			cli.Advice(r.Next, r.Actions))
	case replacement.Held:
		if r.Back != "" {
			r.Why += "; the way back: " + r.Back
		}
		return cli.Failed(fmt.Sprintf("%s of %s/%s is %s in stage %s", r.ID, r.Device, r.Slot, r.State, r.Stage), r.Why,
			cli.Advice(r.Next, r.Actions))
	}
	if r.Leftover != "" {
		cli.Put(a.Err, "freshseal: %s is %s, and something is left on the device\n  why:  %s\n  next: %s\n", r.ID,
			r.State, cli.OneLine(r.Leftover), cli.Advice(r.Next, r.Actions))
		return cli.FoundWrong
	}
	if a.As != "table" {
		return nil
	}
	switch r.State {
	case replacement.Sealed:
		cli.Put(a.Out, "old  %s\nnew  %s\n", cli.Dash(r.OldSHA256), r.NewSHA256)
		if r.PendingPins > 0 {
			cli.Put(a.Out, "pins pending: %d recorded the old certificate: freshseal pin pending %s\n", r.PendingPins,
				r.ID)
		}
		cli.Put(a.Out, "%s: sealed\n", r.ID)
	case replacement.Waiting:
		said := "waiting for " + r.WaitingFor.Text()
		if r.Closed != "" {
			said += ": " + r.Closed
		}
		cli.Put(a.Out, "%s: %s\n  next: %s\n", r.ID, said, cli.Advice(r.Next, r.Actions))
	case replacement.Running:
		cli.Put(a.Out, "%s: running, in stage %s\n  next: freshseal replacement watch %s\n", r.ID, r.Stage, r.ID)
	default:
		cli.Put(a.Out, "%s: %s\n", r.ID, r.State)
	}
	return nil
}

// stageNote says what happens in the stages that have no steps of their own.
var stageNote = map[string]string{
	"sign": "the request goes to the signer", "gate": "approval, where the policy wants it",
	"prove": "read until the new leaf and its full chain are served",
	"seal":  "record the new certificate, and clear the work folder",
}

// watch shows a replacement's stages and steps as they happen, from its start.
func (a *commands) watch(ctx context.Context, client *cli.Client, id string) error {
	return a.follow(ctx, client, id, time.Time{})
}

// follow shows a replacement's stages and steps from a moment on, until it stands still.
func (a *commands) follow(ctx context.Context, client *cli.Client, id string, since time.Time) error {
	var r contract.Replacement
	if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(id), nil, &r); err != nil {
		return err
	}
	signer := r.Signer
	answer, err := client.Send(ctx, "GET", cli.V1+"/replacements"+cli.Item(id)+"/events", nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	line := followed{commands: a, signer: signer}
	err = eachEvent(answer.Body, func(e contract.Event) {
		switch {
		case e.At.Before(since):
		case a.As == "json":
			cli.Escaped{Writer: a.Out}.Write(append(e.JSON(), '\n'))
		default:
			line.show(e)
		}
	})
	if ctx.Err() != nil { // only the looking on was stopped
		return cli.Failed(id+" goes on", "", "freshseal replacement watch "+id)
	}
	if err != nil {
		return err
	}
	if err := client.Do(ctx, "GET", cli.V1+"/replacements"+cli.Item(id), nil, &r); err != nil {
		return err
	}
	return a.rest(r)
}

// followed shows the events of a replacement as lines.
type followed struct {
	*commands
	signer         string
	stage, percent string // shown last
}

// show shows an event, or nothing where it says nothing new to a person.
func (f *followed) show(e contract.Event) {
	switch {
	case e.Kind == "step":
		f.say(e.Stage, stepLine(e))
	case e.Kind == "stage" && e.Stage == string(replacement.Sign) && f.signer == contract.DeviceSigner:
		// nothing goes anywhere
	case e.Kind == "screen" && e.Text != "" && e.Text != f.percent:
		f.percent = e.Text
		f.say(f.stage, "  "+e.Text)
	case e.Kind == "stage" && stageNote[e.Stage] != "":
		f.say(e.Stage, stageNote[e.Stage])
	case e.Kind == "state" && e.State == "running" && e.Text != "":
		f.say("back", e.Text)
	}
}

func (f *followed) say(stage, text string) {
	label := ""
	if stage != f.stage {
		label, f.stage = stage, stage
	}
	cli.Put(f.Out, "%-9s %s\n", label, cli.Lines("          ", text))
}

// stepLine returns the line of a step that began, or that failed.
func stepLine(e contract.Event) string {
	switch {
	case e.State == "failed":
		return "FAILED: " + e.Text
	case e.Usual >= 5:
		return fmt.Sprintf("%s (usually takes %s)", e.Text, time.Duration(e.Usual)*time.Second)
	}
	return e.Text
}

// eachEvent reads server-sent events until their end.
func eachEvent(stream io.Reader, take func(contract.Event)) error {
	lines := bufio.NewScanner(stream)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok || data == "{}" {
			continue
		}
		var e contract.Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return cli.Failed("the service's news cannot be read", err.Error(), "see that client and service are of "+
				"one version")
		}
		take(e)
	}
	return lines.Err()
}
