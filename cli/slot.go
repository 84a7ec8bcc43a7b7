package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"strconv"
	"strings"

	"freshseal/core/due"
	"freshseal/core/finding"
	"freshseal/service"

	"github.com/spf13/cobra"
)

// conditions are the words of core/due, worst first.
var conditions = func() []string {
	var out []string
	for _, c := range due.Conditions {
		out = append(out, string(c))
	}
	return out
}()

func (a *app) slot() *cobra.Command {
	return noun("slot", "Places where certificates sit", a.slotList(), a.slotShow())
}

func (a *app) slotList() *cobra.Command {
	filter := url.Values{}
	var condition, site, text string
	c := &cobra.Command{
		Use: "list", Short: "List all slots, worst condition first", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			for name, value := range map[string]string{"condition": condition, "site": site, "text": text} {
				if value != "" {
					filter.Set(name, value)
				}
			}
			slots, err := listOf[service.Slot](ctx, client, "/slots?"+filter.Encode())
			if err != nil {
				return err
			}
			t := table{head: []string{"condition", "slot", "days", "finding"}, wide: 1}
			for _, s := range slots {
				days, worst := "-", ""
				if s.ExpiresInDays != nil {
					days = strconv.Itoa(*s.ExpiresInDays)
				}
				if len(s.Findings) > 0 {
					worst = string(s.Findings[0].Code)
				}
				if a.as == "table" {
					t.add(marked(string(s.Condition)), s.Device+"/"+s.Name, days, worst)
				} else {
					t.add(string(s.Condition), s.Device+"/"+s.Name, days, worst, date(s.ExpiresAt))
				}
			}
			if a.as != "table" {
				t.head = append(t.head, "ends")
			}
			return a.print(slots, t)
		}),
	}
	c.Flags().StringVar(&condition, "condition", "", "only those of this condition")
	c.Flags().StringVar(&site, "site", "", "only those of this site")
	c.Flags().StringVar(&text, "text", "", "only those with this in their names, site or address")
	return c
}

func (a *app) slotShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE/SLOT", Short: "Show a slot: its chain as served, and what is wrong with it", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			client, err := a.client()
			if err != nil {
				return err
			}
			var s service.Slot
			if err := client.do(c.Context(), "GET", v1+"/slots"+item(device, slot), nil, &s); err != nil {
				return err
			}
			var last []service.Replacement
			if a.as == "table" {
				if last, err = listOf[service.Replacement](c.Context(), client, "/replacements?"+url.Values{"device": {device}, "slot": {slot}}.Encode()); err != nil {
					return err
				}
			}
			return a.printSlot(s, last)
		},
	}
}

func (a *app) printSlot(s service.Slot, past []service.Replacement) error {
	t := table{head: []string{"role", "served", "subject", "issuer", "ends", "sha256"}, wide: 2}
	for _, l := range s.Chain {
		served := "yes"
		if !l.Served {
			served = "no"
		}
		ends := l.NotAfter
		t.add(l.Role, served, l.Subject, l.Issuer, date(&ends), l.SHA256)
	}
	if a.as != "table" {
		return a.print(s, t)
	}
	w := a.out
	fmt.Fprintf(w, "%s/%s  %s\n", s.Device, s.Name, marked(string(s.Condition)))
	fmt.Fprintf(w, "  address      %s as %s\n", net.JoinHostPort(s.Address, fmt.Sprint(s.Port)), s.ServerName)
	if s.ReadAt == nil {
		fmt.Fprintln(w, "  read         never; read it: freshseal read "+s.Device+"/"+s.Name)
		return nil
	}
	fmt.Fprintf(w, "  read         %s  %s\n", moment(*s.ReadAt), s.Version)
	if f := s.Certificate; f != nil {
		fmt.Fprintf(w, "  names        %s\n", strings.Join(f.Names, ", "))
		fmt.Fprintf(w, "  key          %s, signed %s\n", f.Key, f.Signature)
		fmt.Fprintf(w, "  ends         %s, in %d days; act by %s\n", date(s.ExpiresAt), *s.ExpiresInDays, date(s.ActBy))
		fmt.Fprintf(w, "  SHA-256      %s\n", f.SHA256)
	}
	drawChain(w, s.Chain)
	printFindings(w, "  ", s.Findings)
	if len(past) > 0 {
		r := past[0]
		fmt.Fprintf(w, "  last replacement %s: %s\n    old %s\n    new %s\n", r.ID, r.State, dash(r.OldSHA256), dash(r.NewSHA256))
	}
	return nil
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// drawChain draws a chain as a ladder, leaf at the top.
func drawChain(w io.Writer, links []service.Link) {
	if len(links) == 0 {
		return
	}
	fmt.Fprintln(w, "  chain")
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
		fmt.Fprintf(w, "  %s %-12s %s (to %s%s)\n", rung, l.Role, l.Name, l.NotAfter.UTC().Format("2006-01-02"), note)
	}
}

func (a *app) read() *cobra.Command {
	var address, serverName string
	c := &cobra.Command{
		Use: "read DEVICE/SLOT | --address HOST:PORT [--server-name NAME]", Short: "Read on the wire what is served now", Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) == 1) == (address != "") {
				return misuse("read wants one thing to read", "", "give DEVICE/SLOT, or --address HOST:PORT")
			}
			client, err := a.client()
			if err != nil {
				return err
			}
			if address != "" {
				return a.readAddress(c, client, address, serverName)
			}
			device, slot, err := slotArg(args[0])
			if err != nil {
				return err
			}
			var s service.Slot
			if err := client.do(c.Context(), "POST", v1+"/slots"+item(device, slot)+"/readings", nil, &s); err != nil {
				return err
			}
			if err := a.printSlot(s, nil); err != nil {
				return err
			}
			return wrongIf(s.Findings)
		},
	}
	c.Flags().StringVar(&address, "address", "", "HOST:PORT of something that is in no inventory")
	c.Flags().StringVar(&serverName, "server-name", "", "the name to ask for")
	return c
}

func wrongIf(found []finding.Finding) error {
	if len(finding.Errors(found)) > 0 {
		return foundWrong
	}
	return nil
}

func (a *app) readAddress(c *cobra.Command, client *client, address, serverName string) error {
	host, portText, err := net.SplitHostPort(address)
	port, portErr := strconv.Atoi(portText)
	if err != nil || portErr != nil {
		return misuse(fmt.Sprintf("--address %s cannot be read", address), "", "write it as 192.0.2.1:443 or [2001:db8::1]:443")
	}
	var seen service.Seen
	ask := map[string]any{"address": host, "port": port, "server_name": serverName}
	if err := client.do(c.Context(), "POST", v1+"/readings", ask, &seen); err != nil {
		return err
	}
	if a.as != "table" {
		s := service.Slot{Chain: seen.Chain}
		t := table{head: []string{"role", "subject", "ends", "sha256"}}
		for _, l := range s.Chain {
			t.add(l.Role, l.Subject, l.NotAfter.Format("2006-01-02"), l.SHA256)
		}
		if err := a.print(seen, t); err != nil {
			return err
		}
	} else if seen.Failure == nil {
		fmt.Fprintf(a.out, "%s as %q  %s  %s\n", address, serverName, seen.Version, seen.Suite)
		drawChain(a.out, seen.Chain)
		fmt.Fprintf(a.out, "  SHA-256      %s\n", seen.Chain[0].SHA256)
		printFindings(a.out, "  ", seen.Findings)
	}
	if seen.Failure != nil {
		return failed(seen.Failure.What, "", seen.Failure.Remedy)
	}
	return wrongIf(seen.Findings)
}

func (a *app) sweep() *cobra.Command {
	return &cobra.Command{
		Use: "sweep", Short: "Read every slot of the fleet now", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			var s struct {
				Read int `json:"read"`
				Dark int `json:"dark"`
			}
			if err := client.do(ctx, "POST", v1+"/sweeps", nil, &s); err != nil {
				return err
			}
			t := table{head: []string{"read", "dark"}}
			t.add(fmt.Sprint(s.Read), fmt.Sprint(s.Dark))
			return a.print(s, t)
		}),
	}
}
