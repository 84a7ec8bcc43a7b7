package access

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/device/links"
	"freshseal/device/ssh"
	"freshseal/store"
	"freshseal/wire"

	"golang.org/x/net/proxy"
)

// ways keeps one connection to each jump host, which all links of the site
// share, and opens it again when it is lost.
type ways struct {
	lock  sync.Mutex
	open  map[string]*ssh.Link
	sites map[string]*sync.Mutex // held while a site's link is opened, so that a silent one delays no other
}

// site returns the lock of one site.
func (w *ways) site(name string) *sync.Mutex {
	w.lock.Lock()
	defer w.lock.Unlock()
	if w.sites == nil {
		w.sites = map[string]*sync.Mutex{}
	}
	if w.sites[name] == nil {
		w.sites[name] = &sync.Mutex{}
	}
	return w.sites[name]
}

func (w *ways) link(site string) *ssh.Link {
	w.lock.Lock()
	defer w.lock.Unlock()
	return w.open[site]
}

func (w *ways) keep(site string, link *ssh.Link) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if w.open == nil {
		w.open = map[string]*ssh.Link{}
	}
	w.open[site] = link
}

func (w *ways) forget(site string) {
	w.lock.Lock()
	defer w.lock.Unlock()
	if link := w.open[site]; link != nil {
		link.Close()
		delete(w.open, site)
	}
}

func (w *ways) closeAll() {
	w.lock.Lock()
	defer w.lock.Unlock()
	for _, link := range w.open {
		link.Close()
	}
	w.open = nil
}

// Way returns the function that opens connections to the devices of a site.
func (s *Service) Way(name string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		site, err := s.site(ctx, name)
		switch {
		case errors.Is(err, store.ErrNotFound), err == nil && site.Way == wayDirect:
			return s.dial(ctx, network, address)
		case err != nil:
			return nil, wire.OwnFault{Err: err}
		}
		if network == "udp" {
			return nil, finding.Failure{Code: "no-way", What: fmt.Sprintf("RADIUS needs UDP, which the way into %s "+
				"does not carry: it is %s", name, site.Way),
				Remedy: "give the server's address a route from here, and put the device into a site that is " +
					"reached directly"}
		}
		if address, err = s.permitted(ctx, name, address); err != nil {
			return nil, err
		}
		place := net.JoinHostPort(site.Address, strconv.Itoa(site.Port))
		if site.Way == waySocks {
			socks, err := proxy.SOCKS5("tcp", place, nil, dialer{s.near(site)})
			if err != nil {
				return nil, err
			}
			return socks.(proxy.ContextDialer).DialContext(ctx, network, address)
		}
		conn, err := s.jump(ctx, site, place, network, address)
		if err != nil && ctx.Err() == nil {
			return nil, finding.Failure{Code: "no-way", What: fmt.Sprintf("through the jump host of %s: %v", name, err),
				Remedy: "see that the jump host " + place + " is on, lets this user in and lets it through to " +
					"the device"}
		}
		return conn, err
	}
}

// lookLimit bounds how long a name is looked up.
const lookLimit = 5 * time.Second

// permitted returns the address to which a jump host or proxy is asked to connect. Where some are forbidden a name is
// looked up here, and what was looked at is what is connected to: the other side could take the name for another host.
func (s *Service) permitted(ctx context.Context, site, address string) (string, error) {
	if s.forbidden == nil {
		return address, nil
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", err
	}
	found := []netip.Addr{}
	if a, err := netip.ParseAddr(host); err == nil {
		found = append(found, a)
	} else {
		ctx, cancel := context.WithTimeout(ctx, lookLimit)
		defer cancel()
		if found, err = net.DefaultResolver.LookupNetIP(ctx, "ip", host); err != nil || len(found) == 0 {
			return "", finding.Failure{Code: "forbidden", What: fmt.Sprintf("the administrator forbids "+
				"connections to some networks, and %s, which is reached through the way into %s, cannot be "+
				"resolved here",
				host, site), Remedy: "give the device's IP address in place of its name"}
		}
	}
	for _, a := range found {
		if err := s.forbidden(a); err != nil {
			return "", err
		}
	}
	return net.JoinHostPort(found[0].Unmap().String(), port), nil
}

// near opens connections to where the way to a site begins: its jump host or proxy.
func (s *Service) near(site store.Site) func(ctx context.Context, network, address string) (net.Conn, error) {
	if site.Behind == "" {
		return s.dial
	}
	return s.Way(site.Behind)
}

// jump opens a connection through a site's jump host; one whose link was lost
// is tried once more over a new link.
func (s *Service) jump(ctx context.Context, site store.Site, place, network, address string) (net.Conn, error) {
	for again := false; ; again = true {
		link, old, err := s.jumpLink(ctx, site, place)
		if err != nil {
			return nil, err
		}
		conn, err := link.Dial(ctx, network, address)
		if err == nil || !old || again || !errors.Is(err, links.ErrLost) {
			return conn, err
		}
		s.ways.forget(site.Name)
	}
}

func (s *Service) jumpLink(ctx context.Context, site store.Site, place string) (link *ssh.Link, old bool, err error) {
	lock := s.ways.site(site.Name)
	lock.Lock()
	defer lock.Unlock()
	if link := s.ways.link(site.Name); link != nil {
		return link, true, nil
	}
	t := ssh.Target{Address: place, User: site.User, HostKey: site.Pin}
	if err := s.open(ctx, "site/"+site.Name, &t); err != nil {
		return nil, false, err
	}
	if link, err = ssh.Open(ctx, s.near(site), t); err != nil {
		return nil, false, err
	}
	s.ways.keep(site.Name, link)
	return link, false, nil
}

// dialer lets the proxy package dial our way.
type dialer struct {
	dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Dial implements proxy.Dialer.
func (d dialer) Dial(network, address string) (net.Conn, error) {
	return d.dial(context.Background(), network, address)
}

// DialContext implements proxy.ContextDialer.
func (d dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	return d.dial(ctx, network, address)
}
