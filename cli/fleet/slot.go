package fleet

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/pack"
	"freshseal/core/protocol"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

func (a *commands) slot() *cobra.Command {
	return cli.Noun("slot", "Places on devices where certificates are served", a.slotList(), a.slotShow(),
		a.slotChain(),
		a.slotHistory(), a.slotAdd(), a.slotEdit(), a.slotRemove())
}

func (a *commands) slotList() *cobra.Command {
	var chosen func() url.Values
	c := &cobra.Command{
		Use: "list", Short: "List all slots, worst condition first", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			slots, err := cli.ListOf[contract.Slot](ctx, client, "/slots?"+chosen().Encode())
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"condition", "slot", "days", "finding"}}
			for _, s := range slots {
				days, worst := "", ""
				if s.ExpiresInDays != nil {
					days = strconv.Itoa(*s.ExpiresInDays)
				}
				if len(s.Findings) > 0 {
					worst = string(s.Findings[0].Code)
				}
				if a.As == "table" {
					t.Add(a.condition(s), s.Device+"/"+s.Name, days, worst)
				} else {
					t.Add(a.condition(s), s.Device+"/"+s.Name, days, worst, cli.OnDay(s.ExpiresAt))
				}
			}
			if a.As != "table" {
				t.Head = append(t.Head, "ends")
			}
			return a.Print(slots, t)
		}),
	}
	chosen = cli.SlotFlags(c)
	return c
}

func (a *commands) slotShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE/SLOT", Short: "Show a slot: the chain it serves and its findings", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			var s contract.Slot
			if err := client.Do(c.Context(), "GET", cli.V1+"/slots"+cli.Item(device, slot), nil, &s); err != nil {
				return err
			}
			var last []contract.Replacement
			if a.As == "table" {
				if last, err = cli.ListOf[contract.Replacement](c.Context(), client, "/replacements?"+
					url.Values{"device": {device}, "slot": {slot}}.Encode()); err != nil {
					return err
				}
			}
			return printSlot(a, s, last)
		},
	}
}

// slotChain writes the chain of a slot to a file.
func (a *commands) slotChain() *cobra.Command {
	var out, form, encoding string
	c := &cobra.Command{
		Use: "chain DEVICE/SLOT --out FILE", Short: "Download the chain of a slot, completed from what is known",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal slot chain gate-1.mainquay.tidewrack.example/web --form root --encoding der " +
			"--out root.cer",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			answer, err := client.Send(ctx, "GET", cli.V1+"/slots"+cli.Item(device, slot, "chain")+"?"+
				url.Values{"form": {form}, "encoding": {encoding}}.Encode(), nil, nil)
			if err != nil {
				return err
			}
			return cli.Save(answer, out, a.Out)
		}),
	}
	f := c.Flags()
	f.StringVar(&form, "form", string(pack.LeafFirstWithRoot), "which certificates, in which order: leaf-first, "+
		"leaf-first-with-root, leaf, intermediates, intermediates-with-root or root")
	f.StringVar(&encoding, "encoding", string(pack.PEM), "pem, der, pkcs7 or pkcs7-pem")
	f.StringVar(&out, "out", "", "the file to write; - for standard output")
	c.MarkFlagRequired("out")
	return c
}

// slotHistory shows what a slot served over time, and who is behind each change.
func (a *commands) slotHistory() *cobra.Command {
	return &cobra.Command{
		Use: "history DEVICE/SLOT", Short: "Show what a slot served over time, and what changed it",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			past, err := cli.ListOf[contract.PastReading](ctx, client, "/slots"+cli.Item(device, slot)+"/readings")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"since", "until", "served", "sha256", "changed_by"}}
			for _, line := range past {
				served, by := line.Subject, map[string]string{"unexpected": "somebody else",
					"replacement": line.Replacement, "first": "first seen"}[line.Change]
				if line.Failure != nil {
					served = line.Failure.What
				}
				if a.As == "table" { // 80 columns have no room for both ends; the next line above is the other
					t.Head = []string{"since", "served", "sha256", "changed_by"}
					t.Add(cli.Moment(line.At), served, cli.Shorten(line.SHA256, 11), by)
					continue
				}
				sha256, until := line.SHA256, ""
				if line.Until != nil {
					until = cli.Moment(*line.Until)
				}
				t.Add(cli.Moment(line.At), until, served, sha256, by)
			}
			return a.Print(past, t)
		}),
	}
}

func printSlot(a *commands, s contract.Slot, past []contract.Replacement) error {
	t := cli.Table{Head: []string{"role", "served", "subject", "issuer", "ends", "sha256"}}
	for _, l := range s.Chain {
		served := "yes"
		if !l.Served {
			served = "no"
		}
		ends := l.NotAfter
		t.Add(l.Role, served, l.Subject, l.Issuer, cli.OnDay(&ends), l.SHA256)
	}
	if a.As != "table" {
		return a.Print(s, t)
	}
	w := a.Out
	cli.Put(w, "%s/%s  %s\n", s.Device, s.Name, cli.Marked(string(a.condition(s))))
	cli.Put(w, "  address      %s as %s%s\n", net.JoinHostPort(s.Address, fmt.Sprint(s.Port)), s.ServerName,
		by(s.Protocol))
	if len(s.TrustGroups) > 0 {
		cli.Put(w, "  trust groups %s\n", strings.Join(s.TrustGroups, ", "))
	}
	if s.ClientUse {
		cli.Put(w, "  client use   the device also connects to others with this certificate\n")
	}
	for _, o := range s.Others {
		serves := "serves " + o.Subject + ", SHA-256 " + cli.Shorten(o.SHA256, 17)
		if o.Failure != nil {
			serves = o.Failure.What
		}
		cli.Put(w, "  also         %s %s\n", o, serves)
	}
	if s.ReadAt == nil {
		cli.Putln(w, "  read         never; read it: freshseal read "+s.Device+"/"+s.Name)
		return nil
	}
	cli.Put(w, "  read         %s  %s\n", cli.Moment(*s.ReadAt), s.Version)
	if f := s.Certificate; f != nil {
		cli.ShowFacts(w, "  ", *f)
		act := "act by " + cli.Date(s.ActBy)
		if s.Condition == due.Factory {
			act = "replace now"
		}
		cli.Put(w, "  expires      in %d days; %s\n", *s.ExpiresInDays, act)
	}
	cli.DrawChain(w, s.Chain)
	cli.PrintFindings(w, "  ", s.Findings)
	if len(past) > 0 {
		r := past[0]
		cli.Put(w, "  last replacement %s: %s\n    old %s\n    new %s\n", r.ID, r.State, cli.Dash(r.OldSHA256),
			cli.Dash(r.NewSHA256))
	}
	return nil
}

func (a *commands) read() *cobra.Command {
	var address, secretFile, site string
	var all bool
	var ask contract.AskReading
	c := &cobra.Command{
		Use:   "read DEVICE/SLOT | --all | --site SITE | --address HOST[:PORT] [--protocol NAME] [--server-name NAME]",
		Short: "Read the certificate that is served now", Args: cobra.MaximumNArgs(1),
		Example: "  freshseal read gate-1.mainquay.tidewrack.example/web\n  freshseal read --site Mainquay\n" +
			"  freshseal read --address 192.0.2.25:587 --protocol smtp\n" +
			"  freshseal read --address 192.0.2.26 --protocol peap --secret-file shared.txt",
		RunE: func(c *cobra.Command, args []string) error {
			targets := len(args)
			for _, given := range []bool{address != "", all, site != ""} {
				if given {
					targets++
				}
			}
			if targets != 1 {
				return cli.Misuse("read needs exactly one target", "", "give DEVICE/SLOT, --all, --site SITE, or "+
					"--address HOST:PORT")
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			if all || site != "" {
				return a.readMany(c.Context(), client, site)
			}
			if address != "" {
				if ask.Secret, err = a.shared(secretFile); err != nil {
					return err
				}
				return a.readAddress(c, client, address, ask)
			}
			device, slot, err := cli.SlotArg(args[0])
			if err != nil {
				return err
			}
			var s contract.Slot
			if err := client.Do(c.Context(), "POST", cli.V1+"/slots"+cli.Item(device, slot)+"/readings", nil,
				&s); err != nil {
				return err
			}
			if err := printSlot(a, s, nil); err != nil {
				return err
			}
			return wrongIf(s.Findings)
		},
	}
	f := c.Flags()
	f.BoolVar(&all, "all", false, "read every slot of the fleet, as sweep does")
	f.StringVar(&site, "site", "", "read every slot at this site")
	f.StringVar(&address, "address", "", "HOST:PORT that is not in the inventory; without a port, that of the protocol")
	f.StringVar(&ask.ServerName, "server-name", "", "the name to ask for")
	f.StringVar(&ask.Protocol, "protocol", "tls", protocolNames())
	f.StringVar(&secretFile, "secret-file", "", "file with the secret shared with a RADIUS server (- for "+
		"standard input)")
	f.StringVar(&ask.Identity, "identity", "", "outer identity, for EAP")
	return c
}

func wrongIf(found []finding.Finding) error {
	if len(finding.Errors(found)) > 0 {
		return cli.FoundWrong
	}
	return nil
}

// by returns what is spoken before TLS.
func by(spoken string) string {
	if spoken == "" || spoken == string(protocol.TLS) {
		return ""
	}
	return ", by " + spoken
}

// protocolNames tells of the flag --protocol.
func protocolNames() string {
	var names []string
	for _, about := range protocol.All() {
		names = append(names, string(about.Name))
	}
	return strings.Join(names, ", ")
}

// placed splits HOST:PORT, and HOST alone, whose port is that of the protocol.
func placed(address string) (host string, port int, ok bool) {
	host, portText, err := net.SplitHostPort(address)
	if err != nil {
		return strings.Trim(address, "[]"), 0, !strings.Contains(address, ":") ||
			net.ParseIP(strings.Trim(address, "[]")) != nil
	}
	port, err = strconv.Atoi(portText)
	return host, port, err == nil
}

func (a *commands) readAddress(c *cobra.Command, client *cli.Client, address string, ask contract.AskReading) error {
	var ok bool
	if ask.Address, ask.Port, ok = placed(address); !ok {
		return cli.Misuse(fmt.Sprintf("--address %s cannot be read", address), "", "write it as 192.0.2.1:443 or "+
			"[2001:db8::1]:443")
	}
	var seen contract.Seen
	if err := client.Do(c.Context(), "POST", cli.V1+"/readings", ask, &seen); err != nil {
		return err
	}
	if a.As != "table" {
		s := contract.Slot{Chain: seen.Chain}
		t := cli.Table{Head: []string{"role", "subject", "ends", "sha256"}}
		for _, l := range s.Chain {
			t.Add(l.Role, l.Subject, cli.OnDay(&l.NotAfter), l.SHA256)
		}
		if err := a.Print(seen, t); err != nil {
			return err
		}
	} else if seen.Failure == nil {
		cli.Put(a.Out, "%s as %q%s  %s  %s\n", net.JoinHostPort(seen.Address, strconv.Itoa(seen.Port)), seen.ServerName,
			by(string(seen.Protocol)), seen.Version, seen.Suite)
		cli.DrawChain(a.Out, seen.Chain)
		cli.Put(a.Out, "  SHA-256      %s\n", seen.Chain[0].SHA256)
		cli.PrintFindings(a.Out, "  ", seen.Findings)
	}
	if seen.Failure != nil {
		return cli.Failed(seen.Failure.What, "", seen.Failure.Remedy)
	}
	return wrongIf(seen.Findings)
}

func (a *commands) sweep() *cobra.Command {
	var site string
	c := &cobra.Command{
		Use: "sweep", Short: "Read every slot of the fleet, or of a site", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			return a.readMany(ctx, client, site)
		}),
	}
	c.Flags().StringVar(&site, "site", "", "only those at this site")
	return c
}

// readMany reads every slot, or those at a site, and shows how far it is.
func (a *commands) readMany(ctx context.Context, client *cli.Client, site string) error {
	var s contract.Sweep
	if err := client.Do(ctx, "POST", cli.V1+"/sweeps?"+url.Values{"site": {site}}.Encode(), nil, &s); err != nil {
		return err
	}
	progress := a.progress()
	for wait := 50 * time.Millisecond; s.EndedAt == nil; wait = min(2*wait, time.Second) {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := client.Do(ctx, "GET", cli.V1+"/sweeps/"+s.ID, nil, &s); err != nil {
			return err
		}
		progress(fmt.Sprintf("read %d of %d slots", s.Read, s.Slots))
	}
	progress("")
	t := cli.Table{Head: []string{"read", "unreachable"}}
	t.Add(fmt.Sprint(s.Read), fmt.Sprint(s.Unreachable))
	if s.Why != "" {
		return cli.Failed("the sweep ended early", s.Why, "start it again")
	}
	return a.Print(s, t)
}

// progress shows on a terminal how far something is, always on the same line; an empty text
// clears it.
func (a *commands) progress() func(string) {
	f, ok := a.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func(string) {}
	}
	return func(text string) { cli.Put(a.Err, "\r%s\x1b[K", cli.Safe(text)) }
}

// Condition is a slot's condition as people read it: unreachable before the first reading says too much.
func (a *commands) condition(s contract.Slot) due.Condition {
	if a.As == "table" && s.ReadAt == nil && s.Condition == due.Unreachable {
		return cli.NotReadYet
	}
	return s.Condition
}
