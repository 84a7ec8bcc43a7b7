package cli

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/service"

	"github.com/spf13/cobra"
)

func (a *app) device() *cobra.Command {
	return noun("device", "The boxes of the fleet", a.deviceList(), a.deviceShow(), a.deviceAdd(), a.deviceEdit(), a.deviceRemove(), a.deviceImport(), a.deviceExport())
}

func (a *app) deviceList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List all devices", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			devices, err := listOf[service.Device](ctx, client, "/devices")
			if err != nil {
				return err
			}
			t := table{head: []string{"device", "site", "address", "family", "slots"}}
			for _, d := range devices {
				var slots []string
				for _, s := range d.Slots {
					slots = append(slots, s.Name)
				}
				family := d.Family
				if family == "" {
					family = "- (read only)"
				}
				t.add(d.Name, d.Site, d.Address, family, strings.Join(slots, " "))
			}
			return a.print(devices, t)
		}),
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
	if d.Family != "" {
		t.add("ssh", fmt.Sprintf("%s, port %d", d.SSHUser, d.SSHPort))
		t.add("host key", d.HostKey)
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
			if n.Family != "" {
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
	c.MarkFlagRequired("address")
	return c
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
