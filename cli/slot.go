package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/cert"
	"freshseal/core/protocol"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/pack"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// conditions are the words of core/judgement/due, worst first.
var conditions = func() []string {
	var out []string
	for _, c := range due.Conditions {
		out = append(out, string(c))
	}
	return out
}()

func (a *app) slot() *cobra.Command {
	return noun("slot", "Places on devices where certificates are served", a.slotList(), a.slotShow(), a.slotChain(),
		a.slotHistory(), a.slotAdd(), a.slotEdit(), a.slotRemove())
}

func (a *app) slotList() *cobra.Command {
	var chosen func() url.Values
	c := &cobra.Command{
		Use: "list", Short: "List all slots, worst condition first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			slots, err := listOf[contract.Slot](ctx, client, "/slots?"+chosen().Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"condition", "slot", "days", "finding"}}
			for _, s := range slots {
				days, worst := "", ""
				if s.ExpiresInDays != nil {
					days = strconv.Itoa(*s.ExpiresInDays)
				}
				if len(s.Findings) > 0 {
					worst = string(s.Findings[0].Code)
				}
				if a.as == "table" {
					t.add(a.condition(s), s.Device+"/"+s.Name, days, worst)
				} else {
					t.add(a.condition(s), s.Device+"/"+s.Name, days, worst, day{s.ExpiresAt})
				}
			}
			if a.as != "table" {
				t.head = append(t.head, "ends")
			}
			return a.print(slots, t)
		}),
	}
	chosen = slotFlags(c)
	return c
}

// slotFlags are the flags by which slots are chosen; the result gives what was set.
func slotFlags(c *cobra.Command) func() url.Values {
	given := map[string]*string{}
	for name, about := range map[string]string{
		"condition": "only slots in this condition", "site": "only those at this site",
		"family": "only those of this family", "tag": "only those with this tag",
		"owner": "only those of this owner", "signer": "only those that this signer signed last",
		"ends":   "only those that expire in this month, such as 2027-03; or ended",
		"serves": "only those with this certificate in their path: SHA-256 of the leaf, an intermediate or the root",
		"text": "only slots with this text in a name, address, owner, tag, note, subject, serial number or " +
			"fingerprint",
	} {
		given[name] = c.Flags().String(name, "", about)
	}
	return func() url.Values {
		out := url.Values{}
		for name, value := range given {
			if *value != "" {
				out.Set(name, *value)
			}
		}
		return out
	}
}

func (a *app) slotShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE/SLOT", Short: "Show a slot: the chain it serves and its findings", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			client, err := a.client()
			if err != nil {
				return err
			}
			var s contract.Slot
			if err := client.do(c.Context(), "GET", v1+"/slots"+item(device, slot), nil, &s); err != nil {
				return err
			}
			var last []contract.Replacement
			if a.as == "table" {
				if last, err = listOf[contract.Replacement](c.Context(), client, "/replacements?"+
					url.Values{"device": {device}, "slot": {slot}}.Encode()); err != nil {
					return err
				}
			}
			return a.printSlot(s, last)
		},
	}
}

// slotChain writes the chain of a slot to a file.
func (a *app) slotChain() *cobra.Command {
	var out, form, encoding string
	c := &cobra.Command{
		Use: "chain DEVICE/SLOT --out FILE", Short: "Download the chain of a slot, completed from what is known",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal slot chain gate-1.mainquay.tidewrack.example/web --form root --encoding der " +
			"--out root.cer",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			answer, err := client.send(ctx, "GET", v1+"/slots"+item(device, slot, "chain")+"?"+
				url.Values{"form": {form}, "encoding": {encoding}}.Encode(), nil, nil)
			if err != nil {
				return err
			}
			return save(answer, out, a.out)
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
func (a *app) slotHistory() *cobra.Command {
	return &cobra.Command{
		Use: "history DEVICE/SLOT", Short: "Show what a slot served over time, and what changed it",
		Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			past, err := listOf[contract.PastReading](ctx, client, "/slots"+item(device, slot)+"/readings")
			if err != nil {
				return err
			}
			t := table{head: []string{"since", "until", "served", "sha256", "changed_by"}}
			for _, line := range past {
				served, by := line.Subject, map[string]string{"unexpected": "somebody else",
					"replacement": line.Replacement, "first": "first seen"}[line.Change]
				if line.Failure != nil {
					served = line.Failure.What
				}
				if a.as == "table" { // 80 columns have no room for both ends; the next line above is the other
					t.head = []string{"since", "served", "sha256", "changed_by"}
					t.add(moment(line.At), served, shorten(line.SHA256, 11), by)
					continue
				}
				sha256, until := line.SHA256, ""
				if line.Until != nil {
					until = moment(*line.Until)
				}
				t.add(moment(line.At), until, served, sha256, by)
			}
			return a.print(past, t)
		}),
	}
}

func (a *app) printSlot(s contract.Slot, past []contract.Replacement) error {
	t := table{head: []string{"role", "served", "subject", "issuer", "ends", "sha256"}}
	for _, l := range s.Chain {
		served := "yes"
		if !l.Served {
			served = "no"
		}
		ends := l.NotAfter
		t.add(l.Role, served, l.Subject, l.Issuer, day{&ends}, l.SHA256)
	}
	if a.as != "table" {
		return a.print(s, t)
	}
	w := a.out
	put(w, "%s/%s  %s\n", s.Device, s.Name, marked(string(a.condition(s))))
	put(w, "  address      %s as %s%s\n", net.JoinHostPort(s.Address, fmt.Sprint(s.Port)), s.ServerName, by(s.Protocol))
	if len(s.TrustGroups) > 0 {
		put(w, "  trust groups %s\n", strings.Join(s.TrustGroups, ", "))
	}
	if s.ClientUse {
		put(w, "  client use   the device also connects to others with this certificate\n")
	}
	for _, o := range s.Others {
		serves := "serves " + o.Subject + ", SHA-256 " + shorten(o.SHA256, 17)
		if o.Failure != nil {
			serves = o.Failure.What
		}
		put(w, "  also         %s %s\n", o, serves)
	}
	if s.ReadAt == nil {
		putln(w, "  read         never; read it: freshseal read "+s.Device+"/"+s.Name)
		return nil
	}
	put(w, "  read         %s  %s\n", moment(*s.ReadAt), s.Version)
	if f := s.Certificate; f != nil {
		showFacts(w, "  ", *f)
		act := "act by " + date(s.ActBy)
		if s.Condition == due.Factory {
			act = "replace now"
		}
		put(w, "  expires      in %d days; %s\n", *s.ExpiresInDays, act)
	}
	drawChain(w, s.Chain)
	printFindings(w, "  ", s.Findings)
	if len(past) > 0 {
		r := past[0]
		put(w, "  last replacement %s: %s\n    old %s\n    new %s\n", r.ID, r.State, dash(r.OldSHA256),
			dash(r.NewSHA256))
	}
	return nil
}

// showFacts prints what people compare of a certificate, in the order in which they do.
func showFacts(w io.Writer, indent string, f cert.Facts) {
	for _, row := range factRows(f) {
		put(w, "%s%-12s %s\n", safe(indent), row[0], row[1])
	}
}

// factRows are what people compare of a certificate.
func factRows(f cert.Facts) [][2]string {
	return [][2]string{{"subject", f.Subject}, {"issuer", f.Issuer}, {"from", when(f.NotBefore)},
		{"to", when(f.NotAfter)}, {"serial", f.Serial}, {"SHA-256", f.SHA256}, {"SHA-1", f.SHA1},
		{"names", strings.Join(f.Names, ", ")}, {"key", f.Key + ", signed " + f.Signature},
		{"uses", strings.Join(f.Uses, ", ")}}
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// drawChain draws a chain as a ladder, leaf at the top.
func drawChain(w io.Writer, links []contract.Link) {
	if len(links) == 0 {
		return
	}
	putln(w, "  chain")
	for i, l := range links {
		rung, note := "├─", ""
		if i == len(links)-1 || links[i+1].Role == "surplus" {
			rung = "└─"
		}
		switch {
		case l.Role == "anchor" && !l.Served:
			note = ", held by the fleet's clients"
		case l.Role == "surplus":
			rung, note = "  ", ", served and not part of the chain"
		case !l.Served:
			note = ", not served"
		}
		put(w, "  %s %-12s %s (to %s%s)\n", rung, l.Role, l.Name, l.NotAfter.UTC().Format("2006-01-02"), note)
	}
}

func (a *app) read() *cobra.Command {
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
				return misuse("read needs exactly one target", "", "give DEVICE/SLOT, --all, --site SITE, or "+
					"--address HOST:PORT")
			}
			client, err := a.client()
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
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			var s contract.Slot
			if err := client.do(c.Context(), "POST", v1+"/slots"+item(device, slot)+"/readings", nil, &s); err != nil {
				return err
			}
			if err := a.printSlot(s, nil); err != nil {
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
		return foundWrong
	}
	return nil
}

// by says what is spoken before TLS.
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

func (a *app) readAddress(c *cobra.Command, client *client, address string, ask contract.AskReading) error {
	var ok bool
	if ask.Address, ask.Port, ok = placed(address); !ok {
		return misuse(fmt.Sprintf("--address %s cannot be read", address), "", "write it as 192.0.2.1:443 or "+
			"[2001:db8::1]:443")
	}
	var seen contract.Seen
	if err := client.do(c.Context(), "POST", v1+"/readings", ask, &seen); err != nil {
		return err
	}
	if a.as != "table" {
		s := contract.Slot{Chain: seen.Chain}
		t := table{head: []string{"role", "subject", "ends", "sha256"}}
		for _, l := range s.Chain {
			t.add(l.Role, l.Subject, day{&l.NotAfter}, l.SHA256)
		}
		if err := a.print(seen, t); err != nil {
			return err
		}
	} else if seen.Failure == nil {
		put(a.out, "%s as %q%s  %s  %s\n", net.JoinHostPort(seen.Address, strconv.Itoa(seen.Port)), seen.ServerName,
			by(string(seen.Protocol)), seen.Version, seen.Suite)
		drawChain(a.out, seen.Chain)
		put(a.out, "  SHA-256      %s\n", seen.Chain[0].SHA256)
		printFindings(a.out, "  ", seen.Findings)
	}
	if seen.Failure != nil {
		return failed(seen.Failure.What, "", seen.Failure.Remedy)
	}
	return wrongIf(seen.Findings)
}

func (a *app) sweep() *cobra.Command {
	var site string
	c := &cobra.Command{
		Use: "sweep", Short: "Read every slot of the fleet, or of a site", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			return a.readMany(ctx, client, site)
		}),
	}
	c.Flags().StringVar(&site, "site", "", "only those at this site")
	return c
}

// readMany reads every slot, or those at a site, and shows how far it is.
func (a *app) readMany(ctx context.Context, client *client, site string) error {
	var s contract.Sweep
	if err := client.do(ctx, "POST", v1+"/sweeps?"+url.Values{"site": {site}}.Encode(), nil, &s); err != nil {
		return err
	}
	progress := a.progress()
	for wait := 50 * time.Millisecond; s.EndedAt == nil; wait = min(2*wait, time.Second) {
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := client.do(ctx, "GET", v1+"/sweeps/"+s.ID, nil, &s); err != nil {
			return err
		}
		progress(fmt.Sprintf("read %d of %d slots", s.Read, s.Slots))
	}
	progress("")
	t := table{head: []string{"read", "unreachable"}}
	t.add(fmt.Sprint(s.Read), fmt.Sprint(s.Unreachable))
	if s.Why != "" {
		return failed("the sweep ended early", s.Why, "start it again")
	}
	return a.print(s, t)
}

// progress shows on a terminal how far something is, always on the same line; an empty text
// clears it.
func (a *app) progress() func(string) {
	f, ok := a.err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return func(string) {}
	}
	return func(text string) { put(a.err, "\r%s\x1b[K", safe(text)) }
}

// condition is a slot's condition as people read it: unreachable before the first reading says too much.
func (a *app) condition(s contract.Slot) due.Condition {
	if a.as == "table" && s.ReadAt == nil && s.Condition == due.Unreachable {
		return notReadYet
	}
	return s.Condition
}

const notReadYet due.Condition = "not read yet"
