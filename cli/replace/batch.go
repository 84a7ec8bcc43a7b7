package replace

import (
	"context"
	"fmt"
	"net/url"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

// find searches everything.
func (a *commands) find() *cobra.Command {
	return &cobra.Command{
		Use: "find TEXT", Short: "Search names, addresses, serial numbers, fingerprints, subjects, owners, tags " +
			"and notes", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var found contract.Found
			if err := client.Do(ctx, "GET", cli.V1+"/search?"+url.Values{"text": {args[0]}}.Encode(), nil,
				&found); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"kind", "name", "about"}}
			for _, h := range found.Hits {
				t.Add(h.Kind, h.Name, h.About)
			}
			if len(found.Hits) == 0 && a.As == "table" {
				cli.Put(a.Out, "nothing fits %s\n", args[0])
				return nil
			}
			return a.Print(found, t)
		}),
	}
}

// batch returns about many replacements that are asked for as one.
func (a *commands) batch() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List batches, newest first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Batch](ctx, client, "/batches")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"batch", "state", "slots", "sealed", "under_way", "refused", "started_at"}}
			for _, b := range all {
				t.Add(b.ID, b.State, fmt.Sprint(b.Counts.Slots), fmt.Sprint(b.Counts.Sealed),
					fmt.Sprint(b.Counts.UnderWay), fmt.Sprint(b.Counts.Refused), b.StartedAt)
			}
			return a.Print(all, t)
		}),
	}
	show := &cobra.Command{
		Use: "show ID", Short: "Show a batch, and what became of each of its slots", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.printBatch(ctx, client, args[0])
		}),
	}
	stop := &cobra.Command{
		Use: "stop ID", Args: cobra.ExactArgs(1),
		Short: "Stop starting new replacements of a batch; those that were started go on",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			if err := client.Do(ctx, "POST", cli.V1+"/batches"+cli.Item(args[0], "stop"), nil, nil); err != nil {
				return err
			}
			return a.printBatch(ctx, client, args[0])
		}),
	}
	return cli.Noun("batch", "Replacements of many slots, started as one", a.batchStart(), list, show, stop)
}

func (a *commands) batchStart() *cobra.Command {
	var o contract.BatchOrder
	var key string
	var rehearse bool
	var chosen func() url.Values
	c := &cobra.Command{
		Use: "start [DEVICE/SLOT…]", Short: "Replace the certificates of many slots: those named, or all that fit " +
			"the flags",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			o.Slots, o.Key = args, request.KeyType(key)
			if f := chosen(); len(f) > 0 && len(args) > 0 {
				return cli.Misuse("nothing was started", "slots are named, and chosen by flags", "give one of the two")
			} else if len(args) == 0 {
				if len(f) == 0 {
					return cli.Misuse("nothing was started", "it is not said which slots", "name them, or give flags "+
						"such as --site")
				}
				o.Filter = &contract.SlotFilter{Condition: f.Get("condition"), Site: f.Get("site"),
					Family: f.Get("family"), Tag: f.Get("tag"), Owner: f.Get("owner"), Signer: f.Get("signer"),
					Issuer: f.Get("issuer"), KeyType: f.Get("key_type"), Signature: f.Get("signature"),
					Ends: f.Get("ends"), Serves: f.Get("serves"), Text: f.Get("text")}
			}
			if rehearse {
				return a.rehearseBatch(ctx, client, o)
			}
			var b contract.Batch
			if err := client.Do(ctx, "POST", cli.V1+"/batches", o, &b); err != nil {
				return err
			}
			return a.printBatch(ctx, client, b.ID)
		}),
	}
	chosen = cli.SlotFlags(c)
	c.Flags().StringVar(&o.Signer, "by", "", "who signs; default: the policy's signer")
	c.Flags().StringVar(&key, "key", "", "key type, where it is not the policy's")
	c.Flags().BoolVar(&o.Unseen, "unseen", false, "go on although a slot cannot be read now")
	c.Flags().BoolVar(&o.OneWay, "one-way", false, "go on although some steps cannot be undone")
	c.Flags().BoolVar(&rehearse, "rehearse", false, "count the slots and rehearse one of them; send nothing")
	return c
}

func (a *commands) rehearseBatch(ctx context.Context, client *cli.Client, o contract.BatchOrder) error {
	var r contract.BatchRehearsal
	if err := client.Do(ctx, "POST", cli.V1+"/batches/rehearsals", o, &r); err != nil {
		return err
	}
	t := cli.Table{Head: []string{"site", "slots"}}
	for _, s := range r.Sites {
		t.Add(s.Site, fmt.Sprint(s.Count))
	}
	if a.As == "table" {
		cli.Put(a.Out, "%s; nothing was sent\n", cli.Count(r.Slots, "slot"))
		if r.Watched > 0 {
			cli.Put(a.Out, "%d of them belong to devices without a family and would be refused\n", r.Watched)
		}
		if r.Why != "" {
			cli.Put(a.Out, "%s cannot be replaced: %s\n", r.Sample, r.Why)
		} else if r.Rehearsal != nil {
			cli.Put(a.Out, "%s: %d steps; see freshseal replace %s --rehearse\n", r.Sample, len(r.Rehearsal.Steps),
				r.Sample)
		}
	}
	return a.Print(r, t)
}

// printBatch shows a batch with its slots; one of which something was refused is
// something found wrong.
func (a *commands) printBatch(ctx context.Context, client *cli.Client, id string) error {
	var b contract.Batch
	if err := client.Do(ctx, "GET", cli.V1+"/batches"+cli.Item(id), nil, &b); err != nil {
		return err
	}
	items, err := cli.ListOf[contract.BatchItem](ctx, client, "/batches"+cli.Item(id, "items"))
	if err != nil {
		return err
	}
	t := cli.Table{Head: []string{"outcome", "replacement", "state", "slot", "why"}}
	for _, i := range items {
		t.Add(i.Outcome, i.Replacement, i.State, i.Device+"/"+i.Slot, i.Why)
	}
	if a.As == "table" {
		c := b.Counts
		cli.Put(a.Out, "%s: %s, %d slots: %d sealed, %d under way, %d held, %d reverted, %d cancelled, %d closed, %d "+
			"refused, %d not started\n",
			b.ID, b.State, c.Slots, c.Sealed, c.UnderWay, c.Held, c.Reverted, c.Cancelled, c.Closed, c.Refused,
			c.Waiting+c.Left)
	}
	if err := a.Print(struct {
		contract.Batch
		Items []contract.BatchItem `json:"items"`
	}{b, items}, t); err != nil {
		return err
	}
	if b.Counts.Refused+b.Counts.Held > 0 {
		return cli.FoundWrong
	}
	return nil
}
