package replace

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/pki/cert"

	"github.com/spf13/cobra"
)

// pin returns about those who recorded a fingerprint and need the new one.
func (a *commands) pin() *cobra.Command {
	list := &cobra.Command{
		Use: "list [DEVICE/SLOT]", Short: "List who pinned something of a slot, or of all slots",
		Args: cobra.MaximumNArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			query := ""
			if len(args) == 1 {
				device, slot, err := cli.SlotArg(args[0])
				if err != nil {
					return err
				}
				query = "?" + url.Values{"device": {device}, "slot": {slot}}.Encode()
			}
			var pins struct{ Items []contract.Pin }
			if err := client.Do(ctx, "GET", cli.V1+"/pins"+query, nil, &pins); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"pin", "slot", "who", "what", "how"}}
			for _, p := range pins.Items {
				t.Add(p.ID, p.Device+"/"+p.Slot, p.Who, cli.Word(p.What), p.How)
			}
			return a.Print(pins.Items, t)
		}),
	}
	var n contract.NewPin
	var what string
	add := &cobra.Command{
		Use: "add DEVICE/SLOT", Short: "Record who pinned something of a slot's certificate, and how they get " +
			"the new one", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var err error
			if n.Device, n.Slot, err = cli.SlotArg(args[0]); err != nil {
				return err
			}
			n.What = cert.Pin(what)
			var p contract.Pin
			if err := client.Do(ctx, "POST", cli.V1+"/pins", n, &p); err != nil {
				return err
			}
			if a.As != "table" {
				t := cli.Table{Head: []string{"pin"}}
				t.Add(p.ID)
				return a.Print(p, t)
			}
			cli.Put(a.Out, "%s: %s has pinned %s of %s/%s\n", p.ID, p.Who, p.What, p.Device, p.Slot)
			return nil
		}),
	}
	add.Flags().StringVar(&n.Who, "who", "", "the system or person")
	add.Flags().StringVar(&what, "what", "sha256", "what they recorded: sha256, sha1, key (SHA-256 of the public "+
		"key), certificate, or root (they trust the root of the chain)")
	add.Flags().StringVar(&n.How, "how", "", "how they get the new one")
	add.MarkFlagRequired("who")
	add.MarkFlagRequired("how")
	remove := &cobra.Command{
		Use: "remove PIN", Short: "Remove a pin; its pending updates stay", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/pins"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("pin", "Systems and people that recorded a fingerprint and need the new one", list, add, remove,
		a.pinPending(), a.pinConfirm())
}

// pinConfirm records that a pin was updated.
func (a *commands) pinConfirm() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use: "confirm ID", Short: "Confirm that a pin was updated to the new certificate", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var t contract.PinUpdate
			if err := client.Do(ctx, "POST", cli.V1+"/pin-updates"+cli.Item(args[0], "confirm"),
				map[string]string{"note": note}, &t); err != nil {
				return err
			}
			if a.As != "table" {
				return a.printPinUpdates([]contract.PinUpdate{t})
			}
			cli.Put(a.Out, "%s: %s confirmed\n", t.ID, t.Who)
			return nil
		}),
	}
	c.Flags().StringVar(&note, "note", "", "how, and who answered")
	return c
}

// pinPending lists the pins that are not confirmed yet.
func (a *commands) pinPending() *cobra.Command {
	return &cobra.Command{
		Use: "pending [REPLACEMENT]", Short: "List the pins that still need the new certificate; of a replacement " +
			"the confirmed ones too", Args: cobra.MaximumNArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			all, err := a.pinUpdates(ctx, client, strings.Join(args, ""))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.As == "table" {
				cli.Putln(a.Out, "no pin is pending")
				return nil
			}
			return a.printPinUpdates(all)
		}),
	}
}

// pinUpdates returns the pending pins; of a replacement the confirmed ones too.
func (a *commands) pinUpdates(ctx context.Context, client *cli.Client, of string) ([]contract.PinUpdate, error) {
	query := ""
	if of != "" {
		query = "?" + url.Values{"replacement": {of}}.Encode()
	}
	var list struct{ Items []contract.PinUpdate }
	err := client.Do(ctx, "GET", cli.V1+"/pin-updates"+query, nil, &list)
	return list.Items, err
}

func (a *commands) printPinUpdates(all []contract.PinUpdate) error {
	if a.As != "table" {
		t := cli.Table{Head: []string{"id", "slot", "who", "what", "old", "new", "how", "confirmed_by"}}
		for _, each := range all {
			t.Add(each.ID, each.Device+"/"+each.Slot, each.Who, cli.Word(each.What), each.Old, each.New, each.How,
				each.ConfirmedBy)
		}
		return a.Print(all, t)
	}
	for _, t := range all {
		state := "is pending"
		if t.ConfirmedAt != nil {
			state = fmt.Sprintf("was confirmed by %s on %s", t.ConfirmedBy, cli.Moment(*t.ConfirmedAt))
		}
		cli.Put(a.Out, "%s  %s %s, of %s/%s since %s\n", t.ID, t.Who, state, t.Device, t.Slot, cli.Moment(t.AroseAt))
		if t.What == cert.PinRoot || t.What == cert.PinCertificate { // a page of PEM helps nobody here
			file := cli.Question("freshseal slot chain %s/%s --out chain.pem", t.Device, t.Slot)
			if t.What == cert.PinRoot {
				file = cli.Question("freshseal authority export %s --out root.pem", t.NewSHA256)
			}
			cli.Put(a.Out, "    how  %s\n    %s\n    new  %s\n         SHA-256 %s\n    file %s\n",
				cli.Lines("         ", t.How), pinWords[t.What], t.Subject, t.NewSHA256, file)
			continue
		}
		cli.Put(a.Out, "    how  %s\n    %s\n    old  %s\n    new  %s\n", cli.Lines("         ", t.How),
			pinWords[t.What],
			cli.Lines("         ", strings.TrimSpace(cli.Dash(t.Old))),
			cli.Lines("         ", strings.TrimSpace(t.New)))
	}
	return nil
}

// pinWords say what is pinned.
var pinWords = map[cert.Pin]string{
	cert.PinSHA256: "SHA-256 of the certificate", cert.PinSHA1: "SHA-1 of the certificate",
	cert.PinKey: "SHA-256 of the public key, base64", cert.PinCertificate: "the certificate itself",
	cert.PinRoot: "the root of its chain",
}
