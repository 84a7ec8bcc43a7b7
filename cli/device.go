package cli

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"

	"github.com/spf13/cobra"
)

func (a *app) device() *cobra.Command {
	return noun("device", "The boxes of the fleet", a.deviceList(), a.deviceShow(), a.deviceAdd(), a.deviceEdit(),
		a.deviceRemove(), a.deviceTry(), a.deviceTidy(), a.deviceImport(), a.deviceExport())
}

func (a *app) deviceList() *cobra.Command {
	var site, family, tag, condition, text, sort string
	c := &cobra.Command{
		Use: "list", Short: "List devices", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			query := url.Values{"site": {site}, "family": {family}, "tag": {tag}, "condition": {condition},
				"text": {text}, "sort": {sort}}
			devices, err := listOf[contract.Device](ctx, client, "/devices?"+query.Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"condition", "device", "site", "family"}}
			for _, d := range devices {
				family := d.Family
				if family == "" {
					family = ""
				}
				t.add(d.Condition, d.Name, d.Site, family)
			}
			return a.print(devices, t)
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
func (a *app) deviceTidy() *cobra.Command {
	return &cobra.Command{
		Use: "tidy DEVICE", Short: "Remove the work folders of past replacements from a device, with the copies " +
			"of old keys", Args: cobra.ExactArgs(1),
		Long: "Remove the work folders of past replacements from a device, with the copies of old keys in " +
			"them.\nThose replacements cannot be reverted any more.",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var tidied contract.Tidied
			if err := client.do(ctx, "POST", v1+"/devices"+item(args[0], "tidy"), nil, &tidied); err != nil {
				return err
			}
			t := table{head: []string{"replacement"}}
			for _, id := range tidied.Replacements {
				t.add(id)
			}
			if a.as != "table" {
				return a.print(tidied, t)
			}
			put(a.out, "%s: the work folders of %d replacements were removed\n", tidied.Device,
				len(tidied.Replacements))
			return nil
		}),
	}
}

// deviceTry is the connection test.
func (a *app) deviceTry() *cobra.Command {
	return &cobra.Command{
		Use: "try DEVICE", Short: "Test whether a device can be reached, signed in to and read",
		Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var try contract.Try
			if err := client.do(ctx, "POST", v1+"/devices"+item(args[0], "tries"), nil, &try); err != nil {
				return err
			}
			t := table{head: []string{"ok", "what", "said", "next"}}
			for _, look := range try.Looks {
				t.add(fmt.Sprint(look.OK), look.What, look.Said, look.Next)
			}
			if a.as != "table" {
				if err := a.print(try, t); err != nil {
					return err
				}
			} else {
				a.printTry(try)
			}
			if !try.OK {
				return foundWrong
			}
			return nil
		}),
	}
}

func (a *app) printTry(try contract.Try) {
	for _, look := range try.Looks {
		mark := "✓"
		if !look.OK {
			mark = "✕"
		}
		put(a.out, "%s %s\n    %s\n", mark, look.What, look.Said)
		if look.Next != "" {
			put(a.out, "    next: %s\n", look.Next)
		}
	}
}

func (a *app) deviceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "Show a device", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var d contract.Device
			if err := client.do(ctx, "GET", v1+"/devices"+item(args[0]), nil, &d); err != nil {
				return err
			}
			return a.printDevice(d)
		}),
	}
}

func (a *app) printDevice(d contract.Device) error {
	t := table{head: []string{"what", "value"}}
	t.add("device", d.Name)
	t.add("site", d.Site)
	t.add("address", d.Address)
	t.add("family", d.Family)
	for name, value := range map[string]string{"owner": d.Owner, "tags": strings.Join(d.Tags, " "), "notes": d.Notes} {
		if value != "" {
			t.add(name, value)
		}
	}
	accessRows(&t, d.Access)
	for _, n := range d.Nodes {
		t.add("node "+n.Name, n.Address)
	}
	if d.Cluster != "" {
		t.add("cluster", strings.TrimSpace(d.Cluster+" "+d.ClusterRole))
	}
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		t.add("setting "+name, d.Settings[name])
	}
	for _, s := range d.Slots {
		at := net.JoinHostPort(s.Address, fmt.Sprint(s.Port))
		for _, p := range s.More {
			at += ", " + net.JoinHostPort(p.Address, fmt.Sprint(p.Port))
		}
		if s.ServerName != "" {
			at += " as " + s.ServerName
		}
		t.add("slot "+s.Name, at+by(s.Protocol))
	}
	return a.print(d, t)
}

func (a *app) deviceAdd() *cobra.Command {
	var n contract.NewDevice
	var slots, settings, nodes []string
	var serverName, secretFile string
	access, second := accessFlags{}, accessFlags{prefix: "second-"}
	var c *cobra.Command
	c = &cobra.Command{
		Use: "add NAME", Short: "Add a device and pin its host key", Args: cobra.ExactArgs(1),
		Example: "  freshseal device add gate-2.mainquay.tidewrack.example --address 192.0.2.12 --site Mainquay \\\n" +
			"    --family web-files-ssh --user keeper --password-file gate-2.txt --slot web=443\n" +
			"  freshseal device add camera.saltmere.tidewrack.example --address 198.51.100.9   # to be read only",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			n.Name = args[0]
			secret := ""
			var err error
			if secretFile != "" {
				if secret, err = a.secret("shared secret", secretFile, "--radius-secret-file"); err != nil {
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
			wanted, err := signsIn(ctx, client, n.Family)
			if err != nil {
				return err
			}
			if len(wanted) == 0 && access.given(c.Flags()) {
				wanted = []string{procedure.SSH}
			}
			for i, link := range wanted {
				from := &access
				if i > 0 {
					from = &second
				}
				change, err := from.change(c.Flags())
				if err != nil {
					return err
				}
				if change.Link == "" {
					change.Link = link
				}
				if err := from.fill(a, ctx, client, &change, n.Site, n.Address); err != nil {
					return err
				}
				n.Access = append(n.Access, change)
			}
			var d contract.Device
			if err := client.do(ctx, "POST", v1+"/devices", n, &d); err != nil {
				return err
			}
			for _, s := range d.Slots {
				if err := client.do(ctx, "POST", v1+"/slots"+item(d.Name, s.Name)+"/readings", nil, nil); err != nil {
					return err
				}
			}
			return a.printDevice(d)
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
	access.flags(f)
	second.secondFlags(f)
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
			return nil, misuse("--node "+word+" cannot be read", "", "write it as node-1=192.0.2.11")
		}
		out = append(out, contract.Node{Name: name, Address: address})
	}
	return out, nil
}

func pairs(list []string) (map[string]string, error) { return pairsOf("--setting", list) }

// pairsOf reads NAME=VALUE words that a flag was given.
func pairsOf(flag string, list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, text := range list {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return nil, misuse(fmt.Sprintf("%s %s cannot be read", flag, text), "", "write it as NAME=VALUE")
		}
		out[name] = value
	}
	return out, nil
}

func (a *app) deviceRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove DEVICE", Short: "Delete a device with its history and its secrets", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if !yes {
				if err := a.confirm(question("Delete %s with its history?", args[0]), "give --yes"); err != nil {
					return err
				}
			}
			if err := client.do(ctx, "DELETE", v1+"/devices"+item(args[0]), nil, nil); err != nil {
				return err
			}
			putln(a.out, "removed", args[0])
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}
