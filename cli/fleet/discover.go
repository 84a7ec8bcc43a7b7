package fleet

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"

	"github.com/spf13/cobra"
)

// discover finds the devices of an undocumented network.
func (a *commands) discover() *cobra.Command {
	return cli.Noun("discover", "Find TLS services in networks, and adopt them as devices", a.discoverStart(),
		a.discoverList(), a.discoverShow(), a.discoverAdopt(), a.discoverStop(), a.discoverRemove())
}

func (a *commands) discoverStart() *cobra.Command {
	var asked contract.AskedDiscovery
	var noWait bool
	c := &cobra.Command{
		Use: "start RANGE…", Short: "Find TLS services at addresses, and propose devices",
		Args: cobra.MinimumNArgs(1),
		Long: "Find TLS services at addresses, and propose devices. A range is a network (192.0.2.0/24), " +
			"two addresses with a hyphen, an address, or a host name. Nothing else is connected to.",
		Example: "  freshseal discover start 192.0.2.0/24 --except 192.0.2.1 --port 443 --port 25/smtp\n  " +
			"freshseal discover start 203.0.113.0/26 --site Petrel --rate 10",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			asked.Ranges = args
			var s contract.Discovery
			if err := client.Do(ctx, "POST", cli.V1+"/discoveries", asked, &s); err != nil {
				return err
			}
			if noWait {
				return printDiscoveries(a, s, []contract.Discovery{s})
			}
			progress := a.progress()
			for wait := 50 * time.Millisecond; s.EndedAt == nil; wait = min(2*wait, time.Second) {
				select {
				case <-time.After(wait):
				case <-ctx.Done():
					return ctx.Err()
				}
				all, err := cli.ListOf[contract.Discovery](ctx, client, "/discoveries")
				if err != nil {
					return err
				}
				for _, one := range all {
					if one.ID == s.ID {
						s = one
					}
				}
				progress(fmt.Sprintf("looked at %d of %d addresses and ports, found %d", s.Done, s.Total, s.Found))
			}
			progress("")
			return a.showDiscovery(ctx, client, s.ID, false, false)
		}),
	}
	f := c.Flags()
	f.StringArrayVar(&asked.Except, "except", nil, "a network, range or address that is left out; may be given again")
	f.StringArrayVar(&asked.Ports, "port", nil, "a port, such as 443 or 25/smtp; may be given again (443, 8443, "+
		"636, 993, 3389)")
	f.IntVar(&asked.Rate, "rate", 0, "connections a second, 1 to 500 (50)")
	f.StringVar(&asked.Site, "site", "", "look through the way into this site")
	f.BoolVar(&noWait, "no-wait", false, "return at once; see discover show for the result")
	return c
}

func printDiscoveries(a *commands, shown any, all []contract.Discovery) error {
	t := cli.Table{Head: []string{"id", "ranges", "done", "found", "strange", "began_at", "state"}}
	for _, s := range all {
		state := "under way"
		switch {
		case s.Why != "":
			state = s.Why
		case s.EndedAt != nil:
			state = "ended"
		}
		t.Add(s.ID, strings.Join(s.Asked.Ranges, " "), fmt.Sprintf("%d/%d", s.Done, s.Total), strconv.Itoa(s.Found),
			strconv.Itoa(s.Strange), cli.OnDay(&s.BeganAt), state)
	}
	return a.Print(shown, t)
}

func (a *commands) discoverList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the newest discoveries", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			all, err := cli.ListOf[contract.Discovery](ctx, client, "/discoveries")
			if err != nil {
				return err
			}
			return printDiscoveries(a, all, all)
		}),
	}
}

func (a *commands) discoverShow() *cobra.Command {
	var finds, known bool
	c := &cobra.Command{
		Use: "show ID", Short: "Show what a discovery found, and which devices that may be", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return a.showDiscovery(ctx, client, args[0], finds, known)
		}),
	}
	c.Flags().BoolVar(&finds, "finds", false, "list every address and port that answered, instead of the devices")
	c.Flags().BoolVar(&known, "known", false, "list the devices that are in the fleet already, too")
	return c
}

func (a *commands) showDiscovery(ctx context.Context, client *cli.Client, id string, finds, known bool) error {
	var s contract.DiscoveryResult
	if err := client.Do(ctx, "GET", cli.V1+"/discoveries"+cli.Item(id), nil, &s); err != nil {
		return err
	}
	if finds {
		t := cli.Table{Head: []string{"at", "serves", "what", "same", "slot"}}
		for _, f := range s.Finds {
			at, serves, what := net.JoinHostPort(f.Address, strconv.Itoa(f.Port)), "", ""
			switch {
			case f.Failure != nil:
				what = f.Failure.What
			case f.Certificate != nil:
				serves, what = f.Certificate.Name, "until "+f.Certificate.NotAfter.Format(time.DateOnly)
				if f.SharedKey {
					what = "factory default with a known key"
				} else if f.Factory {
					what = "factory default"
				}
			}
			t.Add(cli.Word(at), serves, what, strconv.Itoa(f.Same), f.Slot)
		}
		return a.Print(s, t)
	}
	t := cli.Table{Head: []string{"device", "slots", "serves", "same", "looks_like"}}
	if known {
		t.Head = append(t.Head, "known_as")
	}
	left := 0
	for _, p := range s.Proposals {
		var slots []string
		for _, slot := range p.Slots {
			slots = append(slots, slot.Name)
		}
		serves := "a certificate"
		if p.Factory {
			serves = "factory default"
		}
		cells := []any{p.Name, strings.Join(slots, " "), serves, strconv.Itoa(p.Same), strings.Join(p.Families, " ")}
		if known {
			cells = append(cells, p.Known)
		}
		if p.Known == "" {
			left++
		}
		if known || p.Known == "" {
			t.Add(cells...)
		}
	}
	if err := a.Print(s, t); err != nil || a.As != "table" {
		return err
	}
	cli.Put(a.Out, "%d of %d addresses and ports looked at, %s found, %d of them not in the fleet\n", s.Done, s.Total,
		cli.Count(len(s.Proposals), "device"), left)
	if s.Strange > 0 {
		cli.Put(a.Out, "%s answered without a certificate: freshseal discover show %s --finds\n",
			cli.Count(s.Strange, "address"), s.ID)
	}
	if left > 0 {
		cli.Put(a.Out, "add them to the fleet: freshseal discover adopt %s --all\n", s.ID)
	}
	return nil
}

func (a *commands) discoverAdopt() *cobra.Command {
	var terms contract.Adoption
	c := &cobra.Command{
		Use: "adopt ID [DEVICE…]", Short: "Add proposed devices to the fleet: all that are named, or none",
		Args: cobra.MinimumNArgs(1),
		Example: "  freshseal discover adopt k1 --all --site Mainquay --tag found\n  freshseal discover adopt k1 " +
			"gate-9.mainquay.tidewrack.example",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			terms.Devices = args[1:]
			var done contract.Adopted
			if err := client.Do(ctx, "POST", cli.V1+"/discoveries"+cli.Item(args[0])+"/adoptions", terms,
				&done); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"device", "what", "why"}}
			for _, name := range done.Added {
				what := "added"
				if !done.Done {
					what = "would be added"
				}
				t.Add(name, what, "")
			}
			if !terms.All {
				for _, name := range done.There {
					t.Add(name, "there already", "")
				}
			}
			for _, w := range done.Wrong {
				t.Add(w.Device, "cannot be added", w.Why)
			}
			if err := a.Print(done, t); err != nil {
				return err
			}
			if a.As == "table" {
				switch {
				case done.Done:
					cli.Put(a.Out, "%s added; read them now: freshseal sweep\n", cli.Count(len(done.Added), "device"))
				case terms.DryRun:
					cli.Putln(a.Out, "nothing was changed: this was a dry run")
				default:
					cli.Putln(a.Out, "nothing was changed")
				}
			}
			if len(done.Wrong) > 0 {
				return cli.FoundWrong
			}
			return nil
		}),
	}
	f := c.Flags()
	f.BoolVar(&terms.All, "all", false, "all that are not in the fleet yet")
	f.BoolVar(&terms.Factory, "factory", false, "with --all: only those that serve a factory default")
	f.StringVar(&terms.Site, "site", "", "their site, instead of the one through which they were found")
	f.StringVar(&terms.Owner, "owner", "", "their owner")
	f.StringArrayVar(&terms.Tags, "tag", nil, "a tag for them; may be given again")
	f.BoolVar(&terms.DryRun, "dry-run", false, "show what would be done and change nothing")
	return c
}

func (a *commands) discoverStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop ID", Short: "Stop a discovery; what it found is kept", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var s contract.Discovery
			if err := client.Do(ctx, "POST", cli.V1+"/discoveries"+cli.Item(args[0])+"/stop", nil, &s); err != nil {
				return err
			}
			return printDiscoveries(a, s, []contract.Discovery{s})
		}),
	}
}

func (a *commands) discoverRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove ID", Short: "Remove a discovery that has ended", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/discoveries"+cli.Item(args[0]), nil, nil)
		}),
	}
}
