package fleet

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	"freshseal/cli"
	"freshseal/cli/access"
	"freshseal/contract"
	"freshseal/core/language/procedure"

	"github.com/spf13/cobra"
)

func (a *commands) device() *cobra.Command {
	return cli.Noun("device", "The boxes of the fleet", a.deviceList(), a.deviceShow(), a.deviceAdd(), a.deviceEdit(),
		a.deviceRemove(), a.deviceTry(), a.deviceTidy(), a.deviceImport(), a.deviceExport())
}

func (a *commands) deviceList() *cobra.Command {
	var site, family, tag, condition, text, sort string
	c := &cobra.Command{
		Use: "list", Short: "List devices", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			query := url.Values{"site": {site}, "family": {family}, "tag": {tag}, "condition": {condition},
				"text": {text}, "sort": {sort}}
			devices, err := cli.ListOf[contract.Device](ctx, client, "/devices?"+query.Encode())
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"condition", "device", "site", "family"}}
			for _, d := range devices {
				family := d.Family
				if family == "" {
					family = ""
				}
				t.Add(d.Condition, d.Name, d.Site, family)
			}
			return a.Print(devices, t)
		}),
	}
	f := c.Flags()
	f.StringVar(&site, "site", "", "only those at this site")
	f.StringVar(&family, "family", "", "only devices of this family; - for devices without one")
	f.StringVar(&tag, "tag", "", "only those with this tag")
	f.StringVar(&condition, "condition", "", "only devices whose worst slot is in this condition")
	f.StringVar(&text, "text", "", "only devices with this text in name, site, address, owner, tags or cluster")
	f.StringVar(&sort, "sort", "name", "name, condition, expires_at, site, family or address")
	return c
}

// deviceTidy removes old work folders at once.
func (a *commands) deviceTidy() *cobra.Command {
	return &cobra.Command{
		Use: "tidy DEVICE", Short: "Remove the work folders of past replacements from a device, with the copies " +
			"of old keys", Args: cobra.ExactArgs(1),
		Long: "Remove the work folders of past replacements from a device, with the copies of old keys in " +
			"them.\nThose replacements can no longer be reverted.",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var tidied contract.Tidied
			if err := client.Do(ctx, "POST", cli.V1+"/devices"+cli.Item(args[0], "tidy"), nil, &tidied); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"replacement"}}
			for _, id := range tidied.Replacements {
				t.Add(id)
			}
			if a.As != "table" {
				return a.Print(tidied, t)
			}
			cli.Put(a.Out, "%s: the work folders of %d replacements were removed\n", tidied.Device,
				len(tidied.Replacements))
			return nil
		}),
	}
}

// deviceTry returns the connection test.
func (a *commands) deviceTry() *cobra.Command {
	return &cobra.Command{
		Use: "try DEVICE", Short: "Test whether a device can be reached, signed in to and read",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var try contract.Try
			if err := client.Do(ctx, "POST", cli.V1+"/devices"+cli.Item(args[0], "tries"), nil, &try); err != nil {
				return err
			}
			t := cli.Table{Head: []string{"ok", "what", "said", "next"}}
			for _, look := range try.Looks {
				t.Add(fmt.Sprint(look.OK), look.What, look.Said, look.Next)
			}
			if a.As != "table" {
				if err := a.Print(try, t); err != nil {
					return err
				}
			} else {
				printTry(a, try)
			}
			if !try.OK {
				return cli.FoundWrong
			}
			return nil
		}),
	}
}

func printTry(a *commands, try contract.Try) {
	for _, look := range try.Looks {
		mark := "✓"
		if !look.OK {
			mark = "✕"
		}
		cli.Put(a.Out, "%s %s\n    %s\n", mark, look.What, look.Said)
		if look.Next != "" {
			cli.Put(a.Out, "    next: %s\n", look.Next)
		}
	}
}

func (a *commands) deviceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "Show a device", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			var d contract.Device
			if err := client.Do(ctx, "GET", cli.V1+"/devices"+cli.Item(args[0]), nil, &d); err != nil {
				return err
			}
			return printDevice(a, d)
		}),
	}
}

func printDevice(a *commands, d contract.Device) error {
	t := cli.Table{Head: []string{"what", "value"}}
	t.Add("device", d.Name)
	t.Add("site", d.Site)
	t.Add("address", d.Address)
	t.Add("family", d.Family)
	for name, value := range map[string]string{"owner": d.Owner, "tags": strings.Join(d.Tags, " "), "notes": d.Notes} {
		if value != "" {
			t.Add(name, value)
		}
	}
	access.Rows(&t, d.Access)
	for _, n := range d.Nodes {
		t.Add("node "+n.Name, n.Address)
	}
	if d.Cluster != "" {
		t.Add("cluster", strings.TrimSpace(d.Cluster+" "+d.ClusterRole))
	}
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		t.Add("setting "+name, d.Settings[name])
	}
	for _, s := range d.Slots {
		at := net.JoinHostPort(s.Address, fmt.Sprint(s.Port))
		for _, p := range s.More {
			at += ", " + net.JoinHostPort(p.Address, fmt.Sprint(p.Port))
		}
		if s.ServerName != "" {
			at += " as " + s.ServerName
		}
		t.Add("slot "+s.Name, at+by(s.Protocol))
	}
	return a.Print(d, t)
}

func (a *commands) deviceAdd() *cobra.Command {
	var n contract.NewDevice
	var slots, settings, nodes []string
	var serverName, secretFile string
	links, second := access.Flags{}, access.Flags{Prefix: "second-"}
	var c *cobra.Command
	c = &cobra.Command{
		Use: "add NAME", Short: "Add a device and pin its host key", Args: cobra.ExactArgs(1),
		Example: "  freshseal device add gate-2.mainquay.tidewrack.example --address 192.0.2.12 --site Mainquay \\\n" +
			"    --family web-files-ssh --user keeper --password-file gate-2.txt --slot web=443\n" +
			"  freshseal device add camera.saltmere.tidewrack.example --address 198.51.100.9   # to be read only",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			n.Name = args[0]
			secret := ""
			var err error
			if secretFile != "" {
				if secret, err = a.Secret("shared secret", secretFile, "--radius-secret-file"); err != nil {
					return err
				}
			}
			if err := fillSlots(&n, slots, serverName, secret); err != nil {
				return err
			}
			if n.Settings, err = pairs(settings); err != nil {
				return err
			}
			if n.Nodes, err = nodesOf(nodes); err != nil {
				return err
			}
			wanted, err := access.SignsIn(ctx, client, n.Family)
			if err != nil {
				return err
			}
			if len(wanted) == 0 && links.Given(c.Flags()) {
				wanted = []string{procedure.SSH}
			}
			for i, link := range wanted {
				from := &links
				if i > 0 {
					from = &second
				}
				change, err := from.Change(c.Flags())
				if err != nil {
					return err
				}
				if change.Link == "" {
					change.Link = link
				}
				if err := from.Fill(a.App, ctx, client, &change, n.Site, n.Address); err != nil {
					return err
				}
				n.Access = append(n.Access, change)
			}
			var d contract.Device
			if err := client.Do(ctx, "POST", cli.V1+"/devices", n, &d); err != nil {
				return err
			}
			for _, s := range d.Slots {
				if err := client.Do(ctx, "POST", cli.V1+"/slots"+cli.Item(d.Name, s.Name)+"/readings", nil,
					nil); err != nil {
					return err
				}
			}
			return printDevice(a, d)
		}),
	}
	f := c.Flags()
	f.StringVar(&n.Address, "address", "", "IP address or host name")
	f.StringVar(&n.Site, "site", "", "the site")
	f.StringVar(&n.Family, "family", "", "the procedure for it; none: the device is only monitored")
	f.StringArrayVar(&slots, "slot", []string{"web=443"}, "NAME=PORT or NAME=ADDRESS:PORT, with further addresses "+
		"after commas, then /PROTOCOL where it is not tls; may be given again")
	f.StringVar(&secretFile, "radius-secret-file", "", "file with the secret that slots read by EAP share with "+
		"their server (- for standard input)")
	f.StringVar(&serverName, "server-name", "", "server name of its slots (default: NAME, if it contains a dot)")
	f.StringArrayVar(&settings, "setting", nil, "NAME=VALUE for a setting of the procedure; may be given again")
	f.StringArrayVar(&nodes, "node", nil, "NAME=ADDRESS of a node; slots are also read there; may be given again")
	links.Flags(f)
	second.SecondFlags(f)
	f.StringVar(&n.Cluster, "cluster", "", "the cluster that it belongs to")
	f.StringVar(&n.ClusterRole, "cluster-role", "", "active, standby or member")
	f.StringVar(&n.Owner, "owner", "", "the owner")
	f.StringVar(&n.Notes, "notes", "", "notes")
	f.StringArrayVar(&n.Tags, "tag", nil, "a tag; may be given again")
	c.MarkFlagRequired("address")
	return c
}

// nodesOf reads NAME=ADDRESS words.
func nodesOf(words []string) ([]contract.Node, error) {
	out := []contract.Node{}
	for _, word := range words {
		name, address, ok := strings.Cut(word, "=")
		if !ok {
			return nil, cli.Misuse("--node "+word+" cannot be read", "", "write it as node-1=192.0.2.11")
		}
		out = append(out, contract.Node{Name: name, Address: address})
	}
	return out, nil
}

func pairs(list []string) (map[string]string, error) { return cli.PairsOf("--setting", list) }

func (a *commands) deviceRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove DEVICE", Short: "Delete a device with its history and its secrets", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			if !yes {
				if err := a.Confirm(cli.Question("Delete %s with its history?", args[0]), "give --yes"); err != nil {
					return err
				}
			}
			if err := client.Do(ctx, "DELETE", cli.V1+"/devices"+cli.Item(args[0]), nil, nil); err != nil {
				return err
			}
			cli.Putln(a.Out, "removed", args[0])
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}
