package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"freshseal/api"
	"freshseal/core/cert"
	"freshseal/core/request"
	"freshseal/service"
	"freshseal/standin"

	"github.com/spf13/cobra"
)

func (a *app) serve() *cobra.Command {
	var dir, listen, procedures string
	var every time.Duration
	var dns, fetch bool
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := a.open(c.Context(), service.Options{Dir: dir, Log: a.logger(), ReadEvery: every, Procedures: procedures, Resolver: resolver(dns), Fetch: fetcher(fetch)})
			if err != nil {
				return err
			}
			defer s.Close()
			fmt.Fprintf(a.err, "first sign-in: see %s\n", filepath.Join(dir, "first-sign-in.txt"))
			return a.run(c.Context(), s, listen, nil)
		},
	}
	c.Flags().StringVar(&dir, "dir", "freshseal-data", "the folder that keeps everything")
	c.Flags().BoolVar(&dns, "check-dns", false, "ask DNS whether names lead to the device before a request is made")
	c.Flags().BoolVar(&fetch, "fetch-issuers", false, "get an intermediate that a chain lacks from where the certificate says it is")
	c.Flags().StringVar(&procedures, "procedures", "", "a folder with procedures of your own, NAME.procedure.yaml")
	c.Flags().DurationVar(&every, "read-every", 15*time.Minute, "how often the whole fleet is read; 0: only when asked")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8443", "where the API and the console are served")
	return settled(c)
}

// fetcher gets issuers over HTTP, where that is allowed.
func fetcher(allowed bool) service.Fetcher {
	if !allowed {
		return nil
	}
	return service.FetchHTTP
}

// resolver is the system's, where DNS is to be asked.
func resolver(ask bool) service.Resolver {
	if !ask {
		return nil
	}
	return net.DefaultResolver
}

func (a *app) logger() *slog.Logger { return slog.New(slog.NewTextHandler(a.err, nil)) }

func (a *app) open(ctx context.Context, o service.Options) (*service.Service, error) {
	s, err := service.Open(ctx, o)
	var known *service.Error
	switch {
	case errors.As(err, &known):
		return nil, words(err)
	case errors.Is(err, service.ErrOtherKey):
		return nil, failed("the service does not start", err.Error(), "put back the strongbox key that belongs to the database")
	case err != nil:
		return nil, failed("the service does not start", err.Error(), "see that the folder "+o.Dir+" is yours and whole")
	}
	return s, nil
}

// run serves until the context ends, then lets answers under way finish.
// ready is called with the address once it can be used.
func (a *app) run(ctx context.Context, s *service.Service, listen string, ready func(url string) error) error {
	l, err := net.Listen("tcp", listen)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return failed("the service cannot listen on "+listen, "another program does", "end that one, or choose another port with --listen")
	case err != nil:
		return failed("the service cannot listen on "+listen, err.Error(), "choose another address with --listen")
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
	if ready != nil {
		if err := ready(url); err != nil {
			return err
		}
	}
	fmt.Fprintln(a.out, "ready: "+url)
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

func (a *app) demo() *cobra.Command {
	var dir, listen string
	var seed uint64
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with a made-up fleet on loopback", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			fleet, err := standin.StartFleet(filepath.Join(dir, "boxes"), standin.Seed(seed), time.Now())
			if err != nil {
				return failed("the demo's fleet does not start", err.Error(), "choose an empty folder with --dir")
			}
			defer fleet.Close()
			s, err := a.open(c.Context(), service.Options{Dir: filepath.Join(dir, "data"), Organization: "Tidewrack Ferries", Name: "freshseal.mainquay.tidewrack.example",
				Dial: fleet.Dial, Log: a.logger(), ReadEvery: time.Minute, Resolver: fleet, Subject: request.Subject{Organization: "Tidewrack Ferries"}})
			if err != nil {
				return err
			}
			defer s.Close()
			if err := fillFleet(c.Context(), s, fleet); err != nil {
				return failed("the demo's fleet cannot be added", err.Error(), "choose an empty folder with --dir")
			}
			return a.run(c.Context(), s, listen, func(url string) error { return a.introduce(c.Context(), s, dir, url) })
		},
	}
	c.Flags().Uint64Var(&seed, "seed", 1, "decides the fleet's keys and passwords, where the folder is new")
	c.Flags().StringVar(&dir, "dir", ".demo", "the folder that keeps everything")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8443", "where the API and the console are served")
	return c
}

// fillFleet adds the devices that are not there yet, and reads them all.
func fillFleet(ctx context.Context, s *service.Service, fleet *standin.Fleet) error {
	known, _, err := s.Devices(ctx, service.DeviceFilter{}, service.Page{})
	if err != nil || len(known) > len(fleet.Members) { // all of them and the service itself
		return errors.Join(err, sweepOnce(ctx, s))
	}
	if _, err := s.AddAnchors(ctx, service.Fleet, fleet.Anchors); err != nil {
		return err
	}
	j := fleet.Jump
	_, err = s.AddSite(ctx, service.NewSite{Name: j.Site, Way: "jump", Address: j.Address, Port: j.SSHPort,
		Access: service.Access{SSHUser: j.User, Password: j.Password, HostKey: j.HostKey}})
	if err := unlessThere(err); err != nil {
		return err
	}
	for _, m := range fleet.Members {
		n := service.NewDevice{Name: m.Name, Site: m.Site, Address: m.Address, SSHPort: m.SSHPort,
			Access: service.Access{SSHUser: m.User, Password: m.Password, HostKey: m.HostKey}, Slots: []service.DeviceSlot{{Name: "web", Port: m.TLSPort, ServerName: m.Name}}}
		n.Family, n.Settings, n.Owner, n.Tags = m.Family, m.Settings, m.Owner, m.Tags
		_, err := s.AddDevice(ctx, n)
		if err := unlessThere(err); err != nil {
			return err
		}
	}
	return errors.Join(stray(ctx, s, fleet), sweepOnce(ctx, s))
}

func sweepOnce(ctx context.Context, s *service.Service) error {
	_, _, err := s.ReadAll(ctx)
	return err
}

// unlessThere passes over that something is there already.
func unlessThere(err error) error {
	var known *service.Error
	if errors.As(err, &known) && known.Kind == service.Conflict {
		return nil
	}
	return err
}

// stray lets one device be replaced, and somebody undo it behind our back.
func stray(ctx context.Context, s *service.Service, fleet *standin.Fleet) error {
	r, err := s.Begin(ctx, service.Order{Device: fleet.Meddled, Slot: "web", Signer: service.BenchSigner}, "admin")
	if err != nil {
		return unlessThere(err)
	}
	if err := s.Watch(ctx, r.ID, 0, func(service.Event) error { return nil }, func() error { return nil }); err != nil {
		return err
	}
	return fleet.Meddle(time.Now())
}

// introduce writes a client's file for the demo and tells how to sign in.
func (a *app) introduce(ctx context.Context, s *service.Service, dir, url string) error {
	own, err := s.OwnCertificate(nil)
	if err != nil {
		return err
	}
	token, err := s.ClientToken(ctx, "admin")
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "client.yaml")
	if err := writeClientFile(file, clientFile{URL: url, Certificate: cert.Fingerprint(own.Certificate[0]), Token: token.Secret}); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(dir, "data", "first-sign-in.txt"))
	if err == nil {
		fmt.Fprintf(a.out, "console: %s\n%s", url, text)
	}
	fmt.Fprintf(a.out, "client:  export FRESHSEAL_CONFIG=%s\n", file)
	return nil
}
