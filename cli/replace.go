package cli

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

	"freshseal/contract"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func (a *app) replace() *cobra.Command {
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
			if o.Device, o.Slot, err = slotArg(args[0]); err != nil {
				return err
			}
			slots := strings.Split(o.Slot, ",")
			o.Slot, o.Also = slots[0], slots[1:]
			client, err := a.client()
			if err != nil {
				return err
			}
			if err := atMoment(at, &o); err != nil {
				return err
			}
			o.Key = request.KeyType(key)
			if differences && !rehearse {
				return misuse("--differences belongs to --rehearse", "", "add --rehearse, or leave it out")
			}
			if rehearse {
				return a.rehearse(c.Context(), client, contract.RehearsalOrder{Order: o, Differences: differences})
			}
			var r contract.Replacement
			if err := client.do(c.Context(), "POST", v1+"/replacements", o, &r); err != nil {
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
	subjectFlags(f, &o.Subject)
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
		return misuse(fmt.Sprintf("%q is not a time", at), "", "write it as 2026-12-03T22:00:00+01:00, or next-window")
	}
	o.At = &moment
	return nil
}

// subjectFlags are the flags with which a subject is described.
func subjectFlags(f *pflag.FlagSet, s *request.Subject) {
	f.StringVar(&s.Organization, "organization", "", "in the subject")
	f.StringVar(&s.Unit, "unit", "", "in the subject")
	f.StringVar(&s.Locality, "locality", "", "in the subject")
	f.StringVar(&s.State, "state", "", "in the subject")
	f.StringVar(&s.Country, "country", "", "in the subject, two letters")
	f.StringVar(&s.Email, "email", "", "mail address in the subject, for forms that demand one")
}

func (a *app) rehearse(ctx context.Context, client *client, o contract.RehearsalOrder) error {
	var r contract.Rehearsal
	if err := client.do(ctx, "POST", v1+"/rehearsals", o, &r); err != nil {
		return err
	}
	t := table{head: []string{"stage", "step", "verb", "text"}}
	for _, s := range r.Steps {
		t.add(word(s.Section), s.Name, word(s.Verb), s.Text)
	}
	if a.as != "table" {
		return a.print(r, t)
	}
	put(a.out, "Rehearsal of %s/%s: nothing is sent.\n\n", o.Device, o.Slot)
	showPlan(a.out, r.Plan)
	for _, t := range r.Targets {
		put(a.out, "  slot     %s\n", t)
	}
	for _, what := range slices.Sorted(maps.Keys(r.Plan.Sources)) {
		put(a.out, "           %s: from %s\n", what, r.Plan.Sources[what])
	}
	for _, name := range slices.Sorted(maps.Keys(r.Plan.LeftOut)) {
		put(a.out, "  left out %s: %s\n", name, r.Plan.LeftOut[name])
	}
	for _, p := range r.Pins {
		put(a.out, "  pin      %s, who recorded %s of %s: it %s\n           %s\n", p.Who, pinWords[p.What], p.Slot,
			p.Breaks, lines("           ", p.How))
	}
	printFindings(a.out, "  ", r.Findings)
	stage := ""
	for _, s := range r.Steps {
		if string(s.Section) != stage {
			stage = string(s.Section)
			put(a.out, "\n%s%s\n", stage, sectionNote[stage])
		}
		put(a.out, "  %s\n    %-6s %s\n", s.Name, s.Verb, lines("           ", s.Text))
		for line := range strings.Lines(s.Content) {
			put(a.out, "           | %s\n", strings.TrimRight(line, "\n"))
		}
		for line := range strings.Lines(s.Difference) {
			put(a.out, "           %s\n", strings.TrimRight(line, "\n"))
		}
		for _, beside := range []struct{ label, text string }{{"limit", s.Limit}, {"undo", s.Undo},
			{"always", s.Finally}, {"note", s.Note}} {
			if beside.text != "" {
				put(a.out, "    %-6s %s\n", beside.label, lines("           ", beside.text))
			}
		}
	}
	return nil
}

var sectionNote = map[string]string{"revert": " (the way back, only if a stage after backup fails; only what was " +
	"begun is undone)", "cancel": " (only when it is given up, or after revert)"}

// settle waits a moment for a replacement to come to rest, and says where it stands.
func (a *app) settle(ctx context.Context, client *client, id string) error {
	var r contract.Replacement
	for range 20 {
		if err := client.do(ctx, "GET", v1+"/replacements"+item(id), nil, &r); err != nil {
			return err
		}
		if r.State != replacement.Running {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return a.rest(r)
}

// rest says where a replacement stands, and what to do.
func (a *app) rest(r contract.Replacement) error {
	if a.as != "table" {
		t := table{head: []string{"id", "slot", "stage", "state", "waiting_for"}}
		t.add(r.ID, r.Device+"/"+r.Slot, word(r.Stage), word(r.State), word(r.WaitingFor))
		if err := a.print(r, t); err != nil {
			return err
		}
	}
	switch r.State {
	case replacement.Reverted:
		if r.Leftover == "" && r.Asked {
			put(a.out, "%s: reverted; the old certificate is served again\n", r.ID)
			return nil
		}
		return failed(fmt.Sprintf("%s of %s/%s is %s in stage %s", r.ID, r.Device, r.Slot, r.State, r.Stage), r.Why,
			advice(r.Next, r.Actions))
	case replacement.Held:
		if r.Back != "" {
			r.Why += "; the way back: " + r.Back
		}
		return failed(fmt.Sprintf("%s of %s/%s is %s in stage %s", r.ID, r.Device, r.Slot, r.State, r.Stage), r.Why,
			advice(r.Next, r.Actions))
	}
	if r.Leftover != "" {
		put(a.err, "freshseal: %s is %s, and something is left on the device\n  why:  %s\n  next: %s\n", r.ID,
			r.State, oneLine(r.Leftover), advice(r.Next, r.Actions))
		return foundWrong
	}
	if a.as != "table" {
		return nil
	}
	switch r.State {
	case replacement.Sealed:
		put(a.out, "old  %s\nnew  %s\n", dash(r.OldSHA256), r.NewSHA256)
		if r.PendingPins > 0 {
			put(a.out, "pins pending: %d recorded the old certificate: freshseal pin pending %s\n", r.PendingPins, r.ID)
		}
		put(a.out, "%s: sealed\n", r.ID)
	case replacement.Waiting:
		said := "waiting for " + r.WaitingFor.Text()
		if r.Closed != "" {
			said += ": " + r.Closed
		}
		put(a.out, "%s: %s\n  next: %s\n", r.ID, said, advice(r.Next, r.Actions))
	case replacement.Running:
		put(a.out, "%s: running, in stage %s\n  next: freshseal replacement watch %s\n", r.ID, r.Stage, r.ID)
	default:
		put(a.out, "%s: %s\n", r.ID, r.State)
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
func (a *app) watch(ctx context.Context, client *client, id string) error {
	return a.follow(ctx, client, id, time.Time{})
}

// follow shows a replacement's stages and steps from a moment on, until it stands still.
func (a *app) follow(ctx context.Context, client *client, id string, since time.Time) error {
	var r contract.Replacement
	if err := client.do(ctx, "GET", v1+"/replacements"+item(id), nil, &r); err != nil {
		return err
	}
	signer := r.Signer
	answer, err := client.send(ctx, "GET", v1+"/replacements"+item(id)+"/events", nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	stage, percent := "", ""
	say := func(s, text string) {
		label := ""
		if s != stage {
			label, stage = s, s
		}
		put(a.out, "%-9s %s\n", label, lines("          ", text))
	}
	err = eachEvent(answer.Body, func(e contract.Event) {
		if e.At.Before(since) {
			return
		}
		if a.as == "json" {
			escaped{a.out}.Write(append(e.JSON(), '\n'))
			return
		}
		switch {
		case e.Kind == "step" && e.State == "failed":
			say(e.Stage, "FAILED: "+e.Text)
		case e.Kind == "step" && e.Usual >= 5:
			say(e.Stage, fmt.Sprintf("%s (usually takes %s)", e.Text, time.Duration(e.Usual)*time.Second))
		case e.Kind == "step":
			say(e.Stage, e.Text)
		// nothing goes anywhere
		case e.Kind == "stage" && e.Stage == string(replacement.Sign) && signer == contract.DeviceSigner:
		case e.Kind == "screen" && e.Text != "" && e.Text != percent:
			percent = e.Text
			say(stage, "  "+e.Text)
		case e.Kind == "stage" && stageNote[e.Stage] != "":
			say(e.Stage, stageNote[e.Stage])
		case e.Kind == "state" && e.State == "running" && e.Text != "":
			say("back", e.Text)
		}
	})
	if ctx.Err() != nil { // only the looking on was stopped
		return failed(id+" goes on", "", "freshseal replacement watch "+id)
	}
	if err != nil {
		return err
	}
	if err := client.do(ctx, "GET", v1+"/replacements"+item(id), nil, &r); err != nil {
		return err
	}
	return a.rest(r)
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
			return failed("the service's news cannot be read", err.Error(), "see that client and service are of "+
				"one version")
		}
		take(e)
	}
	return lines.Err()
}
