package cli

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"freshseal/api"
	"freshseal/core/procedure"
	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) device() *cobra.Command {
	return noun("device", "The boxes of the fleet", a.deviceList(), a.deviceShow(), a.deviceAdd(), a.deviceEdit(), a.deviceRemove(), a.deviceTry(), a.deviceTidy(), a.deviceImport(), a.deviceExport())
}

func (a *app) deviceList() *cobra.Command {
	var site, family, tag, condition, text, sort string
	c := &cobra.Command{
		Use: "list", Short: "List devices", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			query := url.Values{"site": {site}, "family": {family}, "tag": {tag}, "condition": {condition}, "text": {text}, "sort": {sort}}
			devices, err := listOf[service.Device](ctx, client, "/devices?"+query.Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"condition", "device", "site", "family"}, wide: 1}
			for _, d := range devices {
				family := d.Family
				if family == "" {
					family = "-"
				}
				t.add(marked(string(d.Condition)), d.Name, d.Site, family)
			}
			return a.print(devices, t)
		}),
	}
	f := c.Flags()
	f.StringVar(&site, "site", "", "only those of this site")
	f.StringVar(&family, "family", "", "only those of this family; - for those that can only be read")
	f.StringVar(&tag, "tag", "", "only those with this tag")
	f.StringVar(&condition, "condition", "", "only those whose worst slot has this condition")
	f.StringVar(&text, "text", "", "only those with this text in name, site, address, owner, tags or cluster")
	f.StringVar(&sort, "sort", "name", "name, condition, expires_at, site, family or address")
	return c
}

// deviceTidy removes old work folders at once.
func (a *app) deviceTidy() *cobra.Command {
	return &cobra.Command{
		Use: "tidy DEVICE", Short: "Remove the work folders of past replacements from a device, with the copies of old keys", Args: cobra.ExactArgs(1),
		Long: "Remove the work folders of past replacements from a device, with the copies of old keys in them.\nThose replacements cannot be reverted any more.",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var tidied service.Tidied
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
			fmt.Fprintf(a.out, "%s: the work folders of %d replacements were removed\n", tidied.Device, len(tidied.Replacements))
			return nil
		}),
	}
}

// deviceTry is the connection test.
func (a *app) deviceTry() *cobra.Command {
	return &cobra.Command{
		Use: "try DEVICE", Short: "Try whether a device can be reached, signed in to and read", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var try service.Try
			if err := client.do(ctx, "POST", v1+"/devices"+item(args[0], "tries"), nil, &try); err != nil {
				return err
			}
			t := table{head: []string{"ok", "what", "said", "next"}, wide: 2}
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

func (a *app) printTry(try service.Try) {
	for _, look := range try.Looks {
		mark := "✓"
		if !look.OK {
			mark = "✕"
		}
		fmt.Fprintf(a.out, "%s %s\n    %s\n", mark, look.What, look.Said)
		if look.Next != "" {
			fmt.Fprintf(a.out, "    next: %s\n", look.Next)
		}
	}
}

func (a *app) deviceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "Show a device", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			var d service.Device
			if err := client.do(ctx, "GET", v1+"/devices"+item(args[0]), nil, &d); err != nil {
				return err
			}
			return a.printDevice(d)
		}),
	}
}

func (a *app) printDevice(d service.Device) error {
	t := table{head: []string{"what", "value"}, wide: 1}
	t.add("device", d.Name)
	t.add("site", d.Site)
	t.add("address", d.Address)
	t.add("family", d.Family)
	for name, value := range map[string]string{"owner": d.Owner, "tags": strings.Join(d.Tags, " "), "notes": d.Notes} {
		if value != "" {
			t.add(name, value)
		}
	}
	if d.HostKey != "" {
		who := d.SSHUser
		if d.Credential != "" {
			who = "credential " + d.Credential
		}
		t.add("ssh", fmt.Sprintf("%s, port %d", who, d.SSHPort))
		t.add("host key", d.HostKey)
	}
	if d.Cluster != "" {
		t.add("cluster", strings.TrimSpace(d.Cluster+" "+d.ClusterRole))
	}
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		t.add("setting "+name, d.Settings[name])
	}
	for _, s := range d.Slots {
		t.add("slot "+s.Name, fmt.Sprintf("%s as %s", net.JoinHostPort(s.Address, fmt.Sprint(s.Port)), s.ServerName))
	}
	return a.print(d, t)
}

func (a *app) deviceAdd() *cobra.Command {
	var n service.NewDevice
	var slots, settings []string
	var serverName string
	var access accessFlags
	c := &cobra.Command{
		Use: "add NAME", Short: "Add a device and pin its host key", Args: cobra.ExactArgs(1),
		Example: "  freshseal device add gate-2.mainquay.tidewrack.example --address 192.0.2.12 --site Mainquay \\\n" +
			"    --family web-files-ssh --ssh-user keeper --password-file gate-2.txt --slot web=443\n" +
			"  freshseal device add camera.saltmere.tidewrack.example --address 198.51.100.9   # to be read only",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			n.Name = args[0]
			if err := fillSlots(&n, slots, serverName); err != nil {
				return err
			}
			var err error
			if n.Settings, err = pairs(settings); err != nil {
				return err
			}
			signsIn, err := usesSSH(ctx, client, n.Family)
			if err != nil {
				return err
			}
			if signsIn {
				access.shared = n.Credential != ""
				if err := access.fill(a, ctx, client, &n.Access, n.Site, n.Address, n.SSHPort); err != nil {
					return err
				}
			}
			var d service.Device
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
	f.StringVar(&n.Address, "address", "", "IP address or host name under which it is reached")
	f.StringVar(&n.Site, "site", "", "where it stands")
	f.StringVar(&n.Family, "family", "", "the procedure that fits it; leave it out for a device that is only read")
	f.StringArrayVar(&slots, "slot", []string{"web=443"}, "NAME=PORT or NAME=ADDRESS:PORT; may be given again")
	f.StringVar(&serverName, "server-name", "", "the name that its slots are read under (default: NAME, where that has a dot)")
	f.StringArrayVar(&settings, "setting", nil, "NAME=VALUE for a setting of the procedure; may be given again")
	f.IntVar(&n.SSHPort, "ssh-port", 22, "where its SSH server listens")
	f.BoolVar(&n.OldSSH, "old-ssh", false, "it knows no SSH algorithms but broken ones; offer those too")
	access.flags(f, &n.Access)
	f.StringVar(&n.Credential, "credential", "", "a shared one to sign in with, instead of a user and secret of its own")
	f.StringVar(&n.Cluster, "cluster", "", "the devices that serve one name together with it")
	f.StringVar(&n.ClusterRole, "cluster-role", "", "active, standby or member")
	f.StringVar(&n.Owner, "owner", "", "who answers for it")
	f.StringVar(&n.Notes, "notes", "", "what one must know of it")
	f.StringArrayVar(&n.Tags, "tag", nil, "a tag; may be given again")
	c.MarkFlagRequired("address")
	return c
}

// usesSSH says whether somebody signs in to devices of this family.
func usesSSH(ctx context.Context, client *client, family string) (bool, error) {
	if family == "" {
		return false, nil
	}
	var p api.Procedure
	err := client.do(ctx, "GET", v1+"/procedures"+item(family), nil, &p)
	return slices.Contains(p.Links, procedure.SSH), err
}

func fillSlots(n *service.NewDevice, slots []string, serverName string) error {
	if serverName == "" && strings.Contains(n.Name, ".") {
		serverName = n.Name
	}
	for _, text := range slots {
		name, at, ok := strings.Cut(text, "=")
		slot := service.DeviceSlot{Name: name, ServerName: serverName}
		portText := at
		if host, port, err := net.SplitHostPort(at); err == nil {
			slot.Address, portText = host, port
		}
		port, err := strconv.Atoi(portText)
		if !ok || err != nil {
			return misuse(fmt.Sprintf("--slot %s cannot be read", text), "", "write it as web=443 or web=192.0.2.1:443")
		}
		slot.Port = port
		n.Slots = append(n.Slots, slot)
	}
	return nil
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
		Use: "remove DEVICE", Short: "Forget a device with its history and its secrets", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			if !yes {
				if err := a.confirm("Forget "+args[0]+" with its history?", "give --yes"); err != nil {
					return err
				}
			}
			if err := client.do(ctx, "DELETE", v1+"/devices"+item(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "removed", args[0])
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
