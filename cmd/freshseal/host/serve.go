package host

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"freshseal/api"
	"freshseal/cli"
	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/protocol"
	"freshseal/notify"
	"freshseal/secretsource"
	"freshseal/service"
	"freshseal/service/engine"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/own"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/service/signing"
	"freshseal/standin/demo"
	"freshseal/wire"

	"github.com/spf13/cobra"
)

func (a app) serve() *cobra.Command {
	var dir, listen, procedures, sources string
	var every time.Duration
	var dns, fetch bool
	var never, inside []string
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			guard := wire.Guard{}
			var err error
			if guard.Never, err = networks("--never-connect", never); err != nil {
				return err
			}
			except, err := networks("--fetch-from", inside)
			if err != nil {
				return err
			}
			dialer := net.Dialer{Control: guard.Control}
			published := wire.Published{Guard: wire.Guard{Never: guard.Never, Inside: true, Except: except}}
			var forbidden func(netip.Addr) error
			if len(guard.Never) > 0 {
				forbidden = guard.Refuses
			}
			s, err := a.open(c.Context(), service.Options{Dir: dir, Now: a.Now, Dial: dialer.DialContext,
				Forbidden: forbidden,
				Log:       a.logger(), ReadEvery: every, Procedures: procedures, Resolver: resolver(dns),
				Sources: secretsource.Places{Dir: sources, Systemd: os.Getenv("CREDENTIALS_DIRECTORY")},
				Fetch:   fetcher(fetch, published), Published: published})
			if err != nil {
				return err
			}
			defer s.Close()
			cli.Put(a.Err, "first sign-in: see %s\n", filepath.Join(dir, "first-sign-in.txt"))
			return a.run(c.Context(), s, listen, nil)
		},
	}
	c.Flags().StringVar(&dir, "dir", "freshseal-data", "the data folder")
	c.Flags().BoolVar(&dns, "check-dns", false, "check in DNS that names lead to the device before requesting a "+
		"certificate")
	c.Flags().BoolVar(&fetch, "fetch-issuers", false, "download missing intermediates from the address in the "+
		"certificate (authority information access)")
	c.Flags().StringArrayVar(&inside, "fetch-from", nil, "a network inside from which intermediates and revocation "+
		"lists may be downloaded too, and OCSP responders asked, such as 10.20.0.0/16; may be given again")
	c.Flags().StringArrayVar(&never, "never-connect", nil, "a network to which no connection is opened, such as "+
		"169.254.0.0/16; may be given again")
	c.Flags().StringVar(&procedures, "procedures", "", "a folder with procedures of your own, NAME.procedure.yaml")
	c.Flags().StringVar(&sources, "secret-sources", "", "a folder with files and helper programs from which "+
		"credentials take their secrets")
	c.Flags().DurationVar(&every, "read-every", 15*time.Minute, "interval between readings of a slot, unless the "+
		"policy sets one; 0: only on request")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8443", "where the API and the console are served")
	return settled(c)
}

// fetcher gets issuers over HTTP, where that is allowed.
func fetcher(allowed bool, published wire.Published) signing.Fetcher {
	if !allowed {
		return nil
	}
	return published.Fetch
}

// networks reads networks, or single addresses.
func networks(flag string, words []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, word := range words {
		p, err := netip.ParsePrefix(word)
		if a, single := netip.ParseAddr(word); single == nil {
			p, err = netip.PrefixFrom(a, a.BitLen()), nil
		}
		if err != nil {
			return nil, cli.Misuse(flag+" "+word+" is not a network", "", "write it as 10.20.0.0/16, or as a "+
				"single address")
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// resolver returns the system's, where DNS is to be asked.
func resolver(ask bool) engine.Resolver {
	if !ask {
		return nil
	}
	return net.DefaultResolver
}

func (a app) logger() *slog.Logger { return slog.New(slog.NewTextHandler(a.Err, nil)) }

func (a app) open(ctx context.Context, o service.Options) (*service.Service, error) {
	s, err := service.Open(ctx, o)
	var known *problem.Error
	switch {
	case errors.As(err, &known):
		return nil, words(err)
	case errors.Is(err, own.ErrOtherKey):
		return nil, cli.Failed("the service does not start", err.Error(), "put back the strongbox key that belongs "+
			"to the database")
	case err != nil:
		return nil, cli.Failed("the service does not start", err.Error(), "see that the folder "+o.Dir+
			" is yours and whole")
	}
	return s, nil
}

// run serves until the context ends, then lets answers under way finish.
// ready is called with the address once it can be used.
func (a app) run(ctx context.Context, s *service.Service, listen string, ready func(url string) error) error {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(60) // most of the heap is the fleet, which stays: a third of the memory for 2 % of the time
	}
	l, err := net.Listen("tcp", listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return cli.Failed("the service cannot listen on "+listen, "another program does",
			"end that one, or choose another port with --listen")
	case err != nil:
		return cli.Failed("the service cannot listen on "+listen, err.Error(), "choose another address with --listen")
	}
	server, err := api.New(s, a.logger())
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	if err := s.ListItself(ctx, l.Addr()); err != nil {
		return err
	}
	go func() { done <- server.Serve(l) }()
	url := "https://" + l.Addr().String()
	s.Notices.At(url)
	if ready != nil {
		if err := ready(url); err != nil {
			return err
		}
	}
	cli.Putln(a.Out, "ready: "+url)
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err := server.Shutdown(limited); err != nil {
		return err
	}
	return <-done
}

func (a app) demo() *cobra.Command {
	var dir, listen string
	var seed uint64
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with a made-up fleet on loopback", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			boxes, err := demo.StartFleet(filepath.Join(dir, "boxes"), demo.Seed(seed), a.Now())
			if err != nil {
				return cli.Failed("the demo's fleet does not start", err.Error(), "choose an empty folder with --dir")
			}
			defer boxes.Close()
			s, err := a.open(c.Context(), service.Options{Dir: filepath.Join(dir, "data"),
				Organization: "Tidewrack Ferries", Name: "freshseal.mainquay.tidewrack.example",
				Now: a.Now, Dial: boxes.Dial, Log: a.logger(), ReadEvery: time.Minute, Resolver: boxes,
				Subject: request.Subject{Organization: "Tidewrack Ferries"}})
			if err != nil {
				return err
			}
			defer s.Close()
			if err := fillFleet(c.Context(), s, boxes); err != nil {
				return cli.Failed("the demo's fleet cannot be added", err.Error(), "choose an empty folder with --dir")
			}
			sinks, err := demo.StartSinks("127.0.0.1", filepath.Join(dir, mailbox), notify.Signature)
			if err != nil {
				return cli.Failed("the demo's mailbox does not start", err.Error(), "choose an empty folder with --dir")
			}
			defer sinks.Close()
			if err := tellAll(c.Context(), s, sinks); err != nil {
				return err
			}
			return a.run(c.Context(), s, listen, func(url string) error {
				return a.introduce(c.Context(), s, dir, url)
			})
		},
	}
	c.AddCommand(a.mailbox(), a.faults(), a.harbourSigns())
	c.Flags().Uint64Var(&seed, "seed", 1, "seed for the keys and passwords of a new fleet")
	c.Flags().StringVar(&dir, "dir", ".demo", "the data folder")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8443", "where the API and the console are served")
	return c
}

// fillFleet adds the devices that are not there yet, and reads them all.
func fillFleet(ctx context.Context, s *service.Service, boxes *demo.Fleet) error {
	known, _, err := s.Fleet.Lists.Devices(ctx, fleet.DeviceFilter{}, paging.Page{})
	if err != nil || len(known) > len(boxes.Members) { // all of them and the service itself
		return errors.Join(err, sweepOnce(ctx, s))
	}
	if _, err := s.Monitor.AddAnchors(ctx, monitor.Fleet, boxes.Anchors, problem.Any); err != nil {
		return err
	}
	for _, w := range boxes.Ways {
		n := contract.NewSite{Name: w.Site, Way: "jump", Address: w.Address, Port: w.SSHPort, User: w.User,
			Pin: w.HostKey, Behind: w.Behind, Secrets: contract.Secrets{Password: w.Password}}
		if w.Socks {
			n.Way = "socks"
		}
		_, err = s.Access.Sites.AddSite(ctx, n)
		if err := unlessThere(err); err != nil {
			return err
		}
	}
	for _, m := range boxes.Members {
		n := contract.NewDevice{Name: m.Name, Site: m.Site, Address: m.Address,
			Slots: []contract.DeviceSlot{{Name: "web", Port: m.TLSPort, ServerName: m.Name}}}
		if m.Also != "" {
			n.Slots = append(n.Slots, contract.DeviceSlot{Name: m.Also, Port: m.MorePort, ServerName: m.Name})
		}
		if m.EAPPort != 0 {
			n.Slots = append(n.Slots, contract.DeviceSlot{Name: "eap", Port: m.EAPPort,
				Protocol: string(protocol.PEAP), ServerName: m.Name, Secret: m.Shared})
		}
		if m.User != "" {
			link := procedure.SSH
			if m.SSHPort == procedure.UsualPort(procedure.NETCONF) {
				link = procedure.NETCONF
			}
			n.Access = []contract.AccessChange{{Link: link, Port: &m.SSHPort, User: &m.User, Pin: &m.HostKey,
				Secrets: contract.Secrets{Password: m.Password}}}
		}
		if m.Web != nil {
			n.Access = append(n.Access, contract.AccessChange{Link: procedure.HTTPS, User: &m.Web.User,
				Pin: &m.Web.Pin, Secrets: contract.Secrets{Password: m.Web.Password}})
		}
		if m.Link != "" {
			n.Access[0].Address = &m.Link
		}
		for name, address := range m.Nodes {
			n.Nodes = append(n.Nodes, contract.Node{Name: name, Address: address})
		}
		slices.SortFunc(n.Nodes, func(a, b contract.Node) int { return strings.Compare(a.Name, b.Name) })
		n.Cluster = m.Cluster
		n.Family, n.Settings, n.Owner, n.Tags = m.Family, m.Settings, m.Owner, m.Tags
		_, err := s.Fleet.AddDevice(ctx, n)
		if err := unlessThere(err); err != nil {
			return err
		}
	}
	return errors.Join(harbour(ctx, s), changedElsewhere(ctx, s, boxes), sweepOnce(ctx, s))
}

func sweepOnce(ctx context.Context, s *service.Service) error {
	_, _, err := s.Monitor.ReadAll(ctx, "", nil)
	return err
}

// unlessThere passes over that something already exists.
func unlessThere(err error) error {
	var known *problem.Error
	if errors.As(err, &known) && known.Kind == problem.Conflict {
		return nil
	}
	return err
}

// changedElsewhere lets one device be replaced, and somebody undo it behind our back.
func changedElsewhere(ctx context.Context, s *service.Service, boxes *demo.Fleet) error {
	r, err := s.Replace.Begin(ctx, contract.Order{Device: boxes.Meddled, Slot: "web", Signer: contract.BenchSigner},
		"admin")
	if err != nil {
		return unlessThere(err)
	}
	if err := s.Replace.Watch(ctx, r.ID, 0, func(contract.Event) error { return nil }, func() error {
		return nil
	}); err != nil {
		return err
	}
	return boxes.Meddle(time.Now())
}

// introduce writes a client's file for the demo and tells how to sign in.
func (a app) introduce(ctx context.Context, s *service.Service, dir, url string) error {
	own, err := s.Own.Certificate(nil)
	if err != nil {
		return err
	}
	token, err := s.People.ClientToken(ctx, "admin")
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "client.yaml")
	if err := cli.WriteClientFile(file, cli.ClientFile{URL: url, Certificate: cert.Fingerprint(own.Certificate[0]),
		Token: token.Secret}); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(dir, "data", "first-sign-in.txt"))
	if err == nil {
		cli.Put(a.Out, "console: %s\n%s", url, text)
	}
	cli.Put(a.Out, "client:  export FRESHSEAL_CONFIG=%s\n", file)
	return nil
}
