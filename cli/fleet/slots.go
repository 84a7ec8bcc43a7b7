package fleet

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/protocol"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// slotFields are the flags that say where and how a slot is read.
type slotFields struct {
	at, protocol, serverName, identity, secretFile string

	trustGroups []string
	clientUse   bool
}

func (x *slotFields) flags(f *pflag.FlagSet) {
	f.StringVar(&x.at, "at", "", "PORT or ADDRESS:PORT, with further addresses after commas (default: the device's "+
		"address, at the port of the protocol)")
	f.StringVar(&x.protocol, "protocol", "tls", protocolNames())
	f.StringVar(&x.serverName, "server-name", "", "the name that clients use")
	f.StringVar(&x.identity, "identity", "", "outer identity, for EAP")
	f.BoolVar(&x.clientUse, "client-use", false, "the device also connects to others with this certificate, as a "+
		"TLS client (mutual TLS)")
	f.StringArrayVar(&x.trustGroups, "trust-group", nil, "a group of clients that uses it; may be given again "+
		"(default: the fleet)")
	f.StringVar(&x.secretFile, "secret-file", "", "file with the secret shared with the RADIUS server (- for "+
		"standard input)")
}

// shared reads the shared secret, where a file was named.
func (a *commands) shared(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	return a.Secret("shared secret", file, "--secret-file")
}

func (a *commands) slotAdd() *cobra.Command {
	var x slotFields
	c := &cobra.Command{
		Use: "add DEVICE/SLOT", Short: "Add a slot to a device and read it", Args: cobra.ExactArgs(1),
		Example: "  freshseal slot add vault.mainquay.tidewrack.example/ldap --protocol ldap --server-name " +
			"vault.mainquay.tidewrack.example\n" +
			"  freshseal slot add access.mainquay.tidewrack.example/eap --protocol peap --secret-file shared.txt",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, name, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			slot, err := slotOf("--at", name, x.at)
			if err != nil {
				return err
			}
			slot.Protocol, slot.ServerName, slot.Identity = x.protocol, x.serverName, x.identity
			slot.TrustGroups, slot.ClientUse = x.trustGroups, x.clientUse
			if slot.Secret, err = a.shared(x.secretFile); err != nil {
				return err
			}
			if slot.ServerName == "" && strings.Contains(device, ".") {
				slot.ServerName = device
			}
			var s contract.Slot
			if err := client.Do(ctx, "POST", cli.V1+"/devices"+cli.Item(device, "slots"), slot, &s); err != nil {
				return err
			}
			return printSlot(a, s, nil)
		}),
	}
	x.flags(c.Flags())
	return c
}

func (a *commands) slotEdit() *cobra.Command {
	var x slotFields
	c := &cobra.Command{Use: "edit DEVICE/SLOT", Short: "Change where and how a slot is read; only the given flags " +
		"take effect",
		Long: "Change where and how a slot is read; only the given flags take effect. A shared secret is deleted " +
			"once the slot is no longer read by EAP.", Args: cobra.ExactArgs(1)}
	c.RunE = a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
		device, name, err := cli.SlotArg(args[0])
		if err != nil {
			return err
		}
		given := c.Flags().Changed
		var change contract.SlotChange
		if given("at") {
			slot, err := slotOf("--at", name, x.at)
			if err != nil {
				return err
			}
			if slot.Address != "" {
				change.Address = &slot.Address
			}
			if change.More = slot.More; slot.Port != 0 {
				change.Port = &slot.Port
			}
		}
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{"protocol": {&change.Protocol, &x.protocol}, "server-name": {&change.ServerName, &x.serverName},
			"identity": {&change.Identity, &x.identity}} {
			if given(flag) {
				*f.to = f.from
			}
		}
		if given("trust-group") {
			change.TrustGroups = x.trustGroups
		}
		if given("client-use") {
			change.ClientUse = &x.clientUse
		}
		if given("secret-file") {
			secret, err := a.shared(x.secretFile)
			if err != nil {
				return err
			}
			change.Secret = &secret
		}
		var now contract.Device
		if err := client.Do(ctx, "GET", cli.V1+"/devices"+cli.Item(device), nil, &now); err != nil {
			return err
		}
		var s contract.Slot
		if err := client.Change(ctx, "PATCH", cli.V1+"/slots"+cli.Item(device, name), now.Revision, change,
			&s); err != nil {
			return err
		}
		return printSlot(a, s, nil)
	})
	x.flags(c.Flags())
	return c
}

func (a *commands) slotRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove DEVICE/SLOT", Short: "Delete a slot with its history", Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, name, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			if !yes {
				if err := a.Confirm(cli.Question("Delete %s with its history?", args[0]), "give --yes"); err != nil {
					return err
				}
			}
			if err := client.Do(ctx, "DELETE", cli.V1+"/slots"+cli.Item(device, name), nil, nil); err != nil {
				return err
			}
			cli.Putln(a.Out, "removed", args[0])
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask for confirmation")
	return c
}

// slotOf reads where a slot is: PORT, ADDRESS or ADDRESS:PORT, further addresses after
// commas, and where a slash follows, the protocol.
func slotOf(flag, name, text string) (contract.DeviceSlot, error) {
	slot := contract.DeviceSlot{Name: name}
	places, spoken, named := strings.Cut(text, "/")
	slot.Protocol = spoken
	wrong := cli.Misuse(fmt.Sprintf("%s %s cannot be read", flag, text), "", "write it as web=443, web=192.0.2.1:443, "+
		"web=192.0.2.1:443,192.0.2.2:443 or mail=25/smtp")
	if _, known := protocol.Named(spoken); named && !known {
		return slot, cli.Misuse(fmt.Sprintf("%s %s names no protocol that can be read", flag, text), "",
			"write one of "+
				protocolNames()+" behind the slash")
	}
	for i, at := range strings.Split(places, ",") {
		if at == "" && i == 0 && (named || flag == "--at") {
			continue // the usual port of the protocol
		}
		address, portText := "", at
		if host, port, err := net.SplitHostPort(at); err == nil {
			address, portText = host, port
		}
		port, err := strconv.Atoi(portText)
		if err != nil || i > 0 && address == "" {
			return slot, wrong
		}
		if i == 0 {
			slot.Address, slot.Port = address, port
		} else {
			slot.More = append(slot.More, contract.Place{Address: address, Port: port})
		}
	}
	return slot, nil
}

// fillSlots reads the slots of a new device: NAME=PLACES[/PROTOCOL].
func fillSlots(n *contract.NewDevice, slots []string, serverName, secret string) error {
	if serverName == "" && strings.Contains(n.Name, ".") {
		serverName = n.Name
	}
	for _, text := range slots {
		name, at, ok := strings.Cut(text, "=")
		if !ok {
			at = "?"
		}
		slot, err := slotOf("--slot", name, at)
		if err != nil {
			return err
		}
		about, _ := protocol.Named(slot.Protocol)
		if slot.ServerName = serverName; about.OverEAP {
			slot.Secret = secret
		}
		n.Slots = append(n.Slots, slot)
	}
	if secret != "" && !slices.ContainsFunc(n.Slots, func(s contract.DeviceSlot) bool { return s.Secret != "" }) {
		return cli.Misuse("--radius-secret-file is given, and no slot is read by EAP", "", "add a slot such as --slot "+
			"eap=1812/peap")
	}
	return nil
}
