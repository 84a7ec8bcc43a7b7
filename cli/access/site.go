package access

import (
	"context"
	"fmt"

	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/judgement/calendar"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/request"

	"github.com/spf13/cobra"
)

func (a *commands) site() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List all sites", Args: cobra.NoArgs,
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, _ []string) error {
			sites, err := cli.ListOf[contract.Site](ctx, client, "/sites")
			if err != nil {
				return err
			}
			t := cli.Table{Head: []string{"site", "way", "through"}}
			for _, s := range sites {
				through := ""
				if s.Address != "" {
					through = fmt.Sprintf("%s:%d", s.Address, s.Port)
				}
				if s.Behind != "" {
					through += ", behind " + s.Behind
				}
				t.Add(s.Name, s.Way, through)
			}
			return a.Print(sites, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove SITE", Short: "Delete a site; its devices are reached directly from then on",
		Args: cobra.ExactArgs(1),
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			return client.Do(ctx, "DELETE", cli.V1+"/sites"+cli.Item(args[0]), nil, nil)
		}),
	}
	return cli.Noun("site", "Places and how they are reached", list, a.siteAdd(), a.siteEdit(), remove)
}

const presentHelp = `when it can be reached (RFC 5545), such as "DTSTART;TZID=Europe/Oslo:20261201T080000 RRULE:FREQ=WEEKLY;BYDAY=TU DURATION:PT10H"; may be given again`

func siteTable(s contract.Site) cli.Table {
	t := cli.Table{Head: []string{"what", "value"}}
	t.Add("site", s.Name)
	t.Add("way", s.Way)
	if s.Address != "" {
		t.Add("through", fmt.Sprintf("%s:%d", s.Address, s.Port))
	}
	if s.Behind != "" {
		t.Add("behind", s.Behind)
	}
	if s.User != "" {
		t.Add("user", s.User)
	}
	if s.Pin != "" {
		t.Add("host key", s.Pin)
	}
	if text := s.Subject.String(); text != "" {
		t.Add("subject", text)
	}
	if s.Paused {
		t.Add("paused", "its slots are read only when asked")
	}
	for _, w := range s.Presence {
		t.Add("present", w)
	}
	for i, h := range s.Holidays {
		if i == 5 {
			t.Add("holiday", fmt.Sprintf("and %d more in twelve months", len(s.Holidays)-i))
			break
		}
		t.Add("holiday", h.Date+" "+h.Name)
	}
	if s.Away {
		t.Add("away", "it cannot be expected to be reached now")
	}
	if s.MostLinks > 0 {
		t.Add("links", fmt.Sprintf("at most %d at once", s.MostLinks))
	}
	return t
}

func (a *commands) siteEdit() *cobra.Command {
	var subject request.Subject
	var address, user, pin, passwordFile, behind string
	var port, links int
	var paused bool
	var presence []string
	var holidays string
	edit := &cobra.Command{Use: "edit SITE", Short: "Change a site; only the given flags take effect",
		Args: cobra.ExactArgs(1)}
	edit.RunE = a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
		var c contract.SiteChange
		given := edit.Flags().Changed
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{"address": {&c.Address, &address}, "user": {&c.User, &user}, "pin": {&c.Pin, &pin},
			"behind": {&c.Behind, &behind}} {
			if given(flag) {
				*f.to = f.from
			}
		}
		if given("port") {
			c.Port = &port
		}
		if given("links") {
			c.MostLinks = &links
		}
		if given("paused") {
			c.Paused = &paused
		}
		if given("present") {
			c.Presence = append([]string{}, presence...)
		}
		if given("holidays") {
			text, err := holidaysFile(holidays)
			if err != nil {
				return err
			}
			c.Holidays = &text
		}
		if given("organization") || given("unit") || given("locality") || given("state") || given("country") ||
			given("email") {
			c.Subject = &subject
		}
		if passwordFile != "" {
			password, err := a.Secret("password", passwordFile, "--password-file")
			if err != nil {
				return err
			}
			c.Password = &password
		}
		var now, s contract.Site
		if err := client.Do(ctx, "GET", cli.V1+"/sites"+cli.Item(args[0]), nil, &now); err != nil {
			return err
		}
		if err := client.Change(ctx, "PATCH", cli.V1+"/sites"+cli.Item(args[0]), now.Revision, c, &s); err != nil {
			return err
		}
		return a.Print(s, siteTable(s))
	})
	f := edit.Flags()
	f.StringVar(&address, "address", "", "address of the jump host or proxy")
	f.IntVar(&port, "port", 0, "its port")
	f.StringVar(&behind, "behind", "", "the site through which that is reached; empty: directly")
	f.StringVar(&user, "user", "", "user on the jump host")
	f.StringVar(&passwordFile, "password-file", "", "read a new password for the jump host from this file (- for "+
		"standard input)")
	f.StringVar(&pin, "pin", "", `the new host key, after you compared it, "TYPE SHA256:…"`)
	f.IntVar(&links, "links", 0, "maximum number of simultaneous links to its devices; 0: no limit")
	f.BoolVar(&paused, "paused", false, "do not read its slots until this is false again")
	f.StringArrayVar(&presence, "present", nil, presentHelp+"; replaces all; empty: always")
	f.StringVar(&holidays, "holidays", "", "an iCalendar file with the days off, which no working day is; empty: none")
	cli.SubjectFlags(f, &subject)
	return edit
}

// holidaysFile reads a calendar of holidays.
func holidaysFile(name string) (string, error) {
	if name == "" {
		return "", nil
	}
	text, err := cli.ReadFile(name, calendar.MaxHolidays)
	return string(text), err
}

func (a *commands) siteAdd() *cobra.Command {
	var n contract.NewSite
	var jump, socks, holidays string
	var access Flags
	c := &cobra.Command{
		Use: "add NAME [--jump HOST | --socks HOST]", Short: "Add a site and how it is reached",
		Args: cobra.ExactArgs(1),
		Example: "  freshseal site add Petrel --jump 203.0.113.70 --user gangway --key-file gangway.key\n  " +
			"freshseal site add Saltmere --socks 198.51.100.1 --port 1080",
		RunE: a.Calling(func(ctx context.Context, client *cli.Client, args []string) error {
			n.Name, n.Way, n.Address = args[0], "direct", jump+socks
			switch {
			case socks != "":
				n.Way = "socks"
			case jump != "":
				n.Way = "jump"
				if n.Port == 0 {
					n.Port = 22
				}
				var err error
				if n.Secrets, err = access.secrets(a.App, n.User+" at "+n.Address); err != nil {
					return err
				}
				if n.Pin, err = access.hostKey(a.App, ctx, client, procedure.SSH, n.Pin, n.Behind, n.Address,
					n.Port); err != nil {
					return err
				}
			}
			var err error
			if n.Holidays, err = holidaysFile(holidays); err != nil {
				return err
			}
			var s contract.Site
			if err := client.Do(ctx, "POST", cli.V1+"/sites", n, &s); err != nil {
				return err
			}
			return a.Print(s, siteTable(s))
		}),
	}
	f := c.Flags()
	f.StringVar(&jump, "jump", "", "the SSH jump host to its devices")
	f.StringVar(&socks, "socks", "", "the SOCKS5 proxy to its devices")
	f.IntVar(&n.Port, "port", 0, "its port (default: 22 or 1080)")
	f.IntVar(&n.MostLinks, "links", 0, "maximum number of simultaneous links to its devices; 0: no limit")
	f.StringVar(&n.Behind, "behind", "", "the site through which the jump host or proxy is reached")
	f.StringArrayVar(&n.Presence, "present", nil, presentHelp)
	f.StringVar(&holidays, "holidays", "", "an iCalendar file with the days off")
	cli.SubjectFlags(f, &n.Subject)
	access.secretFlags(f, &n.User, "")
	f.StringVar(&n.Pin, "pin", "", pinHelp)
	c.MarkFlagsMutuallyExclusive("jump", "socks")
	return c
}
