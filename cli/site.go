package cli

import (
	"context"
	"fmt"
	"os"

	"freshseal/core/request"
	"freshseal/service"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func (a *app) site() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List all sites", Args: cobra.NoArgs,
		RunE: a.calling(func(ctx context.Context, client *client, _ []string) error {
			sites, err := listOf[service.Site](ctx, client, "/sites")
			if err != nil {
				return err
			}
			t := table{head: []string{"site", "way", "through"}}
			for _, s := range sites {
				through := "-"
				if s.Address != "" {
					through = fmt.Sprintf("%s:%d", s.Address, s.Port)
				}
				t.add(s.Name, s.Way, through)
			}
			return a.print(sites, t)
		}),
	}
	remove := &cobra.Command{
		Use: "remove SITE", Short: "Forget a site; its devices are reached directly from then on", Args: cobra.ExactArgs(1),
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			return client.do(ctx, "DELETE", v1+"/sites"+item(args[0]), nil, nil)
		}),
	}
	return noun("site", "Places and the way into them", list, a.siteAdd(), a.siteEdit(), remove)
}

func siteTable(s service.Site) table {
	t := table{head: []string{"what", "value"}, wide: 1}
	t.add("site", s.Name)
	t.add("way", s.Way)
	if s.Address != "" {
		t.add("through", fmt.Sprintf("%s:%d", s.Address, s.Port))
	}
	if s.HostKey != "" {
		t.add("host key", s.HostKey)
	}
	if text := s.Subject.String(); text != "" {
		t.add("subject", text)
	}
	if s.MostLinks > 0 {
		t.add("links", fmt.Sprintf("at most %d at once", s.MostLinks))
	}
	return t
}

func (a *app) siteEdit() *cobra.Command {
	var subject request.Subject
	var address, user, hostKey, passwordFile string
	var port, links int
	edit := &cobra.Command{Use: "edit SITE", Short: "Change a site; what is not named stays as it is", Args: cobra.ExactArgs(1)}
	edit.RunE = a.calling(func(ctx context.Context, client *client, args []string) error {
		var c service.SiteChange
		given := edit.Flags().Changed
		for flag, f := range map[string]struct {
			to   **string
			from *string
		}{"address": {&c.Address, &address}, "ssh-user": {&c.SSHUser, &user}, "host-key": {&c.HostKey, &hostKey}} {
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
		if given("organization") || given("unit") || given("locality") || given("state") || given("country") {
			c.Subject = &subject
		}
		if passwordFile != "" {
			password, err := a.secret("password", passwordFile, "--password-file")
			if err != nil {
				return err
			}
			c.Password = &password
		}
		var s service.Site
		if err := client.do(ctx, "PATCH", v1+"/sites"+item(args[0]), c, &s); err != nil {
			return err
		}
		return a.print(s, siteTable(s))
	})
	f := edit.Flags()
	f.StringVar(&address, "address", "", "of the jump host or the proxy")
	f.IntVar(&port, "port", 0, "where that listens")
	f.StringVar(&user, "ssh-user", "", "who signs in to the jump host")
	f.StringVar(&passwordFile, "password-file", "", "read a new password for the jump host from this file (- for standard input)")
	f.StringVar(&hostKey, "host-key", "", `a new host key that you have compared, "TYPE SHA256:…"`)
	f.IntVar(&links, "links", 0, "how many links to its devices at once; 0: no limit of its own")
	subjectFlags(f, &subject)
	return edit
}

func (a *app) siteAdd() *cobra.Command {
	var n service.NewSite
	var jump, socks string
	var access accessFlags
	c := &cobra.Command{
		Use: "add NAME [--jump HOST | --socks HOST]", Short: "Add a site and the way into it", Args: cobra.ExactArgs(1),
		Example: "  freshseal site add Petrel --jump 203.0.113.70 --ssh-user gangway --key-file gangway.key\n  freshseal site add Saltmere --socks 198.51.100.1 --port 1080",
		RunE: a.calling(func(ctx context.Context, client *client, args []string) error {
			n.Name, n.Way, n.Address = args[0], "direct", jump+socks
			switch {
			case socks != "":
				n.Way = "socks"
			case jump != "":
				n.Way = "jump"
				if n.Port == 0 {
					n.Port = 22
				}
				if err := access.fill(a, ctx, client, &n.Access, "", n.Address, n.Port); err != nil {
					return err
				}
			}
			var s service.Site
			if err := client.do(ctx, "POST", v1+"/sites", n, &s); err != nil {
				return err
			}
			return a.print(s, siteTable(s))
		}),
	}
	f := c.Flags()
	f.StringVar(&jump, "jump", "", "an SSH server through which its devices are reached")
	f.StringVar(&socks, "socks", "", "a SOCKS5 proxy through which its devices are reached")
	f.IntVar(&n.Port, "port", 0, "where that listens (default: 22 or 1080)")
	f.IntVar(&n.MostLinks, "links", 0, "how many links to its devices at once; 0: no limit of its own")
	subjectFlags(f, &n.Subject)
	access.flags(f, &n.Access)
	c.MarkFlagsMutuallyExclusive("jump", "socks")
	return c
}

// accessFlags are the flags with which signing in over SSH is described.
type accessFlags struct {
	passwordFile, keyFile, passphraseFile string
	shared                                bool // user and secret are a credential's: only the host key is wanted
}

func (x *accessFlags) flags(f *pflag.FlagSet, a *service.Access) {
	x.secretFlags(f, &a.SSHUser)
	f.StringVar(&a.HostKey, "host-key", "", `the host key, "TYPE SHA256:…"; asked for and shown when left out`)
}

func (x *accessFlags) secretFlags(f *pflag.FlagSet, user *string) {
	f.StringVar(user, "ssh-user", "", "who signs in over SSH")
	f.StringVar(&x.passwordFile, "password-file", "", "read that user's password from this file (- for standard input)")
	f.StringVar(&x.keyFile, "key-file", "", "read that user's private key from this file")
	f.StringVar(&x.passphraseFile, "passphrase-file", "", "read that key's passphrase from this file")
}

// secrets reads the secrets of who signs in.
func (x *accessFlags) secrets(a *app, who string) (password, key, passphrase string, err error) {
	if x.keyFile != "" {
		text, err := os.ReadFile(x.keyFile)
		if err != nil {
			return "", "", "", failed("the key cannot be read", err.Error(), "name the right file with --key-file")
		}
		key = string(text)
	}
	if x.passphraseFile != "" {
		if passphrase, err = a.secret("passphrase of the key", x.passphraseFile, "--passphrase-file"); err != nil {
			return "", "", "", err
		}
	}
	if !x.shared && x.keyFile == "" || x.passwordFile != "" {
		password, err = a.secret("password of "+who, x.passwordFile, "--password-file or --key-file")
	}
	return password, key, passphrase, err
}

// fill finds out the secrets and the host key that signing in needs.
func (x *accessFlags) fill(a *app, ctx context.Context, client *client, to *service.Access, site, address string, port int) error {
	var err error
	if to.Password, to.Key, to.Passphrase, err = x.secrets(a, to.SSHUser+" at "+address); err != nil {
		return err
	}
	if to.HostKey != "" {
		return nil
	}
	var shown struct {
		HostKey string `json:"host_key"`
	}
	ask := map[string]any{"site": site, "address": address, "port": port}
	if err := client.do(ctx, "POST", v1+"/host-keys", ask, &shown); err != nil {
		return err
	}
	to.HostKey = shown.HostKey
	return a.confirm(fmt.Sprintf("%s shows the host key\n  %s\nCompare it with its own console. Is that the right one?", address, shown.HostKey),
		fmt.Sprintf("compare what %s shows with its own console, and give it: --host-key %q", address, shown.HostKey))
}
