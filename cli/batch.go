package cli

import (
	"context"
	"fmt"
	"net/url"

	"freshseal/contract"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

// find searches everything.
func (a *app) find() *cobra.Command {
	return &cobra.Command{
		Use: "find TEXT", Short: "Search names, addresses, serial numbers, fingerprints, subjects, owners, tags " +
			"and notes", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var found contract.Found
			if err := client.do(ctx, "GET", v1+"/search?"+url.Values{"text": {args[0]}}.Encode(), nil,
				&found); err != nil {
				return err
			}
			t := table{head: []string{"kind", "name", "about"}}
			for _, h := range found.Hits {
				t.add(h.Kind, h.Name, h.About)
			}
			if len(found.Hits) == 0 && a.as == "table" {
				put(a.out, "nothing fits %s\n", args[0])
				return nil
			}
			return a.print(found, t)
		}),
	}
}

// batch is about many replacements that are asked for as one.
func (a *app) batch() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List batches, newest first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			all, err := listOf[contract.Batch](ctx, client, "/batches")
			if err != nil {
				return err
			}
			t := table{head: []string{"batch", "state", "slots", "sealed", "under_way", "refused", "begun_at"}}
			for _, b := range all {
				t.add(b.ID, b.State, fmt.Sprint(b.Counts.Slots), fmt.Sprint(b.Counts.Sealed),
					fmt.Sprint(b.Counts.UnderWay), fmt.Sprint(b.Counts.Refused), b.BegunAt)
			}
			return a.print(all, t)
		}),
	}
	show := &cobra.Command{
		Use: "show ID", Short: "Show a batch, and what became of each of its slots", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return a.printBatch(ctx, client, args[0])
		}),
	}
	stop := &cobra.Command{
		Use: "stop ID", Short: "Begin nothing further of a batch; what was begun goes on", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if err := client.do(ctx, "POST", v1+"/batches"+item(args[0], "stop"), nil, nil); err != nil {
				return err
			}
			return a.printBatch(ctx, client, args[0])
		}),
	}
	return noun("batch", "Replacements of many slots, asked for as one", a.batchBegin(), list, show, stop)
}

func (a *app) batchBegin() *cobra.Command {
	var o contract.BatchOrder
	var key string
	var rehearse bool
	var chosen func() url.Values
	c := &cobra.Command{
		Use: "start [DEVICE/SLOT…]", Short: "Replace the certificates of many slots: those named, or all that fit " +
			"the flags",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			o.Slots, o.Key = args, request.KeyType(key)
			if f := chosen(); len(f) > 0 && len(args) > 0 {
				return &trouble{"nothing was begun", "slots are named, and chosen by flags", "give one of the two",
					exitUsage}
			} else if len(args) == 0 {
				if len(f) == 0 {
					return &trouble{"nothing was begun", "it is not said which slots", "name them, or give flags " +
						"such as --site", exitUsage}
				}
				o.Filter = &contract.SlotFilter{Condition: f.Get("condition"), Site: f.Get("site"),
					Family: f.Get("family"), Tag: f.Get("tag"), Owner: f.Get("owner"), Signer: f.Get("signer"),
					Ends: f.Get("ends"), Serves: f.Get("serves"), Text: f.Get("text")}
			}
			if rehearse {
				return a.rehearseBatch(ctx, client, o)
			}
			var b contract.Batch
			if err := client.do(ctx, "POST", v1+"/batches", o, &b); err != nil {
				return err
			}
			return a.printBatch(ctx, client, b.ID)
		}),
	}
	chosen = slotFlags(c)
	c.Flags().StringVar(&o.Signer, "by", "", "who signs; default: the policy's signer")
	c.Flags().StringVar(&key, "key", "", "key type, where it is not the policy's")
	c.Flags().BoolVar(&o.Unseen, "unseen", false, "go on although a slot cannot be read now")
	c.Flags().BoolVar(&o.OneWay, "one-way", false, "go on although some steps cannot be undone")
	c.Flags().BoolVar(&rehearse, "rehearse", false, "count the slots and rehearse one of them; send nothing")
	return c
}

func (a *app) rehearseBatch(ctx context.Context, client *client, o contract.BatchOrder) error {
	var r contract.BatchRehearsal
	if err := client.do(ctx, "POST", v1+"/batches/rehearsals", o, &r); err != nil {
		return err
	}
	t := table{head: []string{"site", "slots"}}
	for _, s := range r.Sites {
		t.add(s.Site, fmt.Sprint(s.Count))
	}
	if a.as == "table" {
		put(a.out, "%s; nothing was sent\n", count(r.Slots, "slot"))
		if r.Watched > 0 {
			put(a.out, "%d of them belong to devices without a family and would be refused\n", r.Watched)
		}
		if r.Why != "" {
			put(a.out, "%s cannot be replaced: %s\n", r.Sample, r.Why)
		} else if r.Rehearsal != nil {
			put(a.out, "%s: %d steps; see freshseal replace %s --rehearse\n", r.Sample, len(r.Rehearsal.Steps),
				r.Sample)
		}
	}
	return a.print(r, t)
}

// printBatch shows a batch with its slots; one of which something was refused is
// something found wrong.
func (a *app) printBatch(ctx context.Context, client *client, id string) error {
	var b contract.Batch
	if err := client.do(ctx, "GET", v1+"/batches"+item(id), nil, &b); err != nil {
		return err
	}
	items, err := listOf[contract.BatchItem](ctx, client, "/batches"+item(id, "items"))
	if err != nil {
		return err
	}
	t := table{head: []string{"outcome", "replacement", "state", "slot", "why"}}
	for _, i := range items {
		t.add(i.Outcome, i.Replacement, i.State, i.Device+"/"+i.Slot, i.Why)
	}
	if a.as == "table" {
		c := b.Counts
		put(a.out, "%s: %s, %d slots: %d sealed, %d under way, %d held, %d reverted, %d cancelled, %d closed, %d "+
			"refused, %d not begun\n",
			b.ID, b.State, c.Slots, c.Sealed, c.UnderWay, c.Held, c.Reverted, c.Cancelled, c.Closed, c.Refused,
			c.Waiting+c.Left)
	}
	if err := a.print(struct {
		contract.Batch
		Items []contract.BatchItem `json:"items"`
	}{b, items}, t); err != nil {
		return err
	}
	if b.Counts.Refused+b.Counts.Held > 0 {
		return foundWrong
	}
	return nil
}
