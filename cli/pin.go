package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"freshseal/contract"
	"freshseal/core/cert"

	"github.com/spf13/cobra"
)

// pin is about those who recorded a fingerprint and must be told of the new one.
func (a *app) pin() *cobra.Command {
	list := &cobra.Command{
		Use: "list [DEVICE/SLOT]", Short: "List who pinned something of a slot, or of all slots", Args: cobra.MaximumNArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			query := ""
			if len(args) == 1 {
				device, slot, err := slotArg(args[0])
				if err != nil {
					return err
				}
				query = "?" + url.Values{"device": {device}, "slot": {slot}}.Encode()
			}
			var pins struct{ Items []contract.Pin }
			if err := client.do(ctx, "GET", v1+"/pins"+query, nil, &pins); err != nil {
				return err
			}
			t := table{head: []string{"pin", "slot", "who", "what", "how"}}
			for _, p := range pins.Items {
				t.add(p.ID, p.Device+"/"+p.Slot, p.Who, word(p.What), p.How)
			}
			return a.print(pins.Items, t)
		}),
	}
	var n contract.NewPin
	var what string
	add := &cobra.Command{
		Use: "add DEVICE/SLOT", Short: "Record who pinned something of a slot's certificate, and how they are told", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var err error
			if n.Device, n.Slot, err = slotArg(args[0]); err != nil {
				return err
			}
			n.What = cert.Pin(what)
			var p contract.Pin
			if err := client.do(ctx, "POST", v1+"/pins", n, &p); err != nil {
				return err
			}
			if a.as != "table" {
				t := table{head: []string{"pin"}}
				t.add(p.ID)
				return a.print(p, t)
			}
			put(a.out, "%s: %s has pinned %s of %s/%s\n", p.ID, p.Who, p.What, p.Device, p.Slot)
			return nil
		}),
	}
	add.Flags().StringVar(&n.Who, "who", "", "the system or person")
	add.Flags().StringVar(&what, "what", "sha256", "what they recorded: sha256, sha1, key (SHA-256 of the public key), certificate, or root (they trust the root of the chain)")
	add.Flags().StringVar(&n.How, "how", "", "how they are told")
	add.MarkFlagRequired("who")
	add.MarkFlagRequired("how")
	remove := &cobra.Command{
		Use: "remove PIN", Short: "Remove a pin; what is still to be told of earlier changes stays", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/pins"+item(args[0]), nil, nil)
		}),
	}
	return noun("pin", "Those who recorded a fingerprint and must be told of the new one", list, add, remove)
}

// told records that somebody was told.
func (a *app) told() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use: "told ID", Short: "Record that somebody was told of a changed certificate", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var t contract.Telling
			if err := client.do(ctx, "POST", v1+"/tellings"+item(args[0], "told"), map[string]string{"note": note}, &t); err != nil {
				return err
			}
			if a.as != "table" {
				return a.printTellings([]contract.Telling{t})
			}
			put(a.out, "%s: %s was told\n", t.ID, t.Who)
			return nil
		}),
	}
	c.Flags().StringVar(&note, "note", "", "how, and who answered")
	return c
}

// tellingList lists who is to be told.
func (a *app) tellingList() *cobra.Command {
	return &cobra.Command{
		Use: "tell [REPLACEMENT]", Short: "List who must be told of a changed certificate; of a replacement also who was", Args: cobra.MaximumNArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			all, err := a.tellings(ctx, client, strings.Join(args, ""))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.as == "table" {
				putln(a.out, "nobody has to be told")
				return nil
			}
			return a.printTellings(all)
		}),
	}
}

// tellings are those who are to be told.
func (a *app) tellings(ctx context.Context, client *client, of string) ([]contract.Telling, error) {
	query := ""
	if of != "" {
		query = "?" + url.Values{"replacement": {of}}.Encode()
	}
	var list struct{ Items []contract.Telling }
	err := client.do(ctx, "GET", v1+"/tellings"+query, nil, &list)
	return list.Items, err
}

func (a *app) printTellings(all []contract.Telling) error {
	if a.as != "table" {
		t := table{head: []string{"id", "slot", "who", "what", "old", "new", "how", "told_by"}}
		for _, each := range all {
			t.add(each.ID, each.Device+"/"+each.Slot, each.Who, word(each.What), each.Old, each.New, each.How, each.ToldBy)
		}
		return a.print(all, t)
	}
	for _, t := range all {
		state := "must be told"
		if t.ToldAt != nil {
			state = fmt.Sprintf("was told by %s on %s", t.ToldBy, moment(*t.ToldAt))
		}
		put(a.out, "%s  %s %s, of %s/%s since %s\n", t.ID, t.Who, state, t.Device, t.Slot, moment(t.AroseAt))
		if t.What == cert.PinRoot || t.What == cert.PinCertificate { // a page of PEM helps nobody here
			file := question("freshseal slot chain %s/%s --out chain.pem", t.Device, t.Slot)
			if t.What == cert.PinRoot {
				file = question("freshseal authority export %s --out root.pem", t.NewSHA256)
			}
			put(a.out, "    how  %s\n    %s\n    new  %s\n         SHA-256 %s\n    file %s\n", lines("         ", t.How), pinWords[t.What], t.Subject, t.NewSHA256, file)
			continue
		}
		put(a.out, "    how  %s\n    %s\n    old  %s\n    new  %s\n", lines("         ", t.How), pinWords[t.What], lines("         ", strings.TrimSpace(dash(t.Old))), lines("         ", strings.TrimSpace(t.New)))
	}
	return nil
}

// pinWords say what is pinned.
var pinWords = map[cert.Pin]string{
	cert.PinSHA256: "SHA-256 of the certificate", cert.PinSHA1: "SHA-1 of the certificate",
	cert.PinKey: "SHA-256 of the public key, base64", cert.PinCertificate: "the certificate itself", cert.PinRoot: "the root of its chain",
}
