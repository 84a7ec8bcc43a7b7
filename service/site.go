package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"

	"freshseal/core/finding"
	"freshseal/core/request"
	"freshseal/device/ssh"
	"freshseal/store"

	"golang.org/x/net/proxy"
)

// The ways into a site.
const (
	wayDirect = "direct"
	wayJump   = "jump"
	waySocks  = "socks"
)

// Site is a place with a way in, as the API shows it.
type Site struct {
	Name      string          `json:"name" required:"true"`
	Way       string          `json:"way" required:"true" enum:"direct,jump,socks"`
	Address   string          `json:"address" required:"true"`
	Port      int             `json:"port" required:"true"`
	SSHUser   string          `json:"ssh_user" required:"true"`
	HostKey   string          `json:"host_key" required:"true"`
	Subject   request.Subject `json:"subject" required:"true" description:"what requests of its devices say where today's certificate says nothing"`
	MostLinks int             `json:"most_links" required:"true" description:"how many links to its devices at once; 0: no limit of its own"`
}

// SiteChange is what is to be different about a site; what is nil stays.
type SiteChange struct {
	Way       *string          `json:"way,omitempty" enum:"direct,jump,socks"`
	Address   *string          `json:"address,omitempty"`
	Port      *int             `json:"port,omitempty"`
	SSHUser   *string          `json:"ssh_user,omitempty"`
	Password  *string          `json:"password,omitempty"`
	HostKey   *string          `json:"host_key,omitempty"`
	Subject   *request.Subject `json:"subject,omitempty"`
	MostLinks *int             `json:"most_links,omitempty"`
}

// NewSite is what is given to add a site.
type NewSite struct {
	Name      string          `json:"name" required:"true"`
	Way       string          `json:"way" required:"true" enum:"direct,jump,socks"`
	Address   string          `json:"address,omitempty" description:"of the jump host or the SOCKS5 proxy"`
	Port      int             `json:"port,omitempty"`
	Subject   request.Subject `json:"subject,omitempty"`
	MostLinks int             `json:"most_links,omitempty"`
	Access
}

// AddSite takes a site in. Devices that name it are reached its way from now on.
func (s *Service) AddSite(ctx context.Context, n NewSite) (Site, error) {
	cannot := "the site cannot be added"
	if n.Port == 0 {
		n.Port = map[string]int{wayJump: 22, waySocks: 1080}[n.Way]
	}
	row := store.Site{Name: n.Name, Way: n.Way, Address: n.Address, Port: n.Port, SSHUser: n.SSHUser, HostKey: n.HostKey, MostLinks: n.MostLinks, AddedAt: s.moment()}
	row.Subject.V = n.Subject
	if err := checkSite(cannot, row); err != nil {
		return Site{}, err
	}
	if n.Way == wayJump {
		if err := n.check(cannot); err != nil {
			return Site{}, err
		}
	}
	err := s.store.AddSite(ctx, row, s.sealAccess("site/"+n.Name, n.Access))
	if errors.Is(err, store.ErrTaken) {
		return Site{}, &Error{Conflict, cannot, n.Name + " is there already", "change it: freshseal site edit; or choose another name"}
	}
	return showSite(row), err
}

func checkSite(cannot string, n store.Site) error {
	switch {
	case n.Name == "" || len(n.Name) > 64 || strings.ContainsFunc(n.Name, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return invalid(cannot, fmt.Sprintf("%q is no name for it", n.Name), "give up to 64 printable characters")
	case n.Way != wayDirect && n.Way != wayJump && n.Way != waySocks:
		return invalid(cannot, fmt.Sprintf("no way is called %q", n.Way), "give direct, jump or socks")
	case n.Way != wayDirect && (!request.IsName(strings.ToLower(n.Address)) || n.Port < 1 || n.Port > 65535):
		return invalid(cannot, fmt.Sprintf("%q and %d are no address and port", n.Address, n.Port), "give those of the jump host or the proxy")
	case n.MostLinks < 0 || n.MostLinks > 1000:
		return invalid(cannot, fmt.Sprintf("%d is no number of links", n.MostLinks), "give one from 1 to 1000, or 0 for no limit")
	}
	if wrong := n.Subject.V.Check(); len(wrong) > 0 {
		return invalid(cannot, wrong[0].What, wrong[0].Remedy)
	}
	return nil
}

// EditSite changes a site. Links that are open stay as they are.
func (s *Service) EditSite(ctx context.Context, name string, c SiteChange) (Site, error) {
	row, err := s.store.Site(ctx, name)
	if err != nil {
		return Site{}, noSite(err, name)
	}
	set(&row.Way, c.Way)
	set(&row.Address, c.Address)
	set(&row.Port, c.Port)
	set(&row.SSHUser, c.SSHUser)
	set(&row.HostKey, c.HostKey)
	set(&row.Subject.V, c.Subject)
	set(&row.MostLinks, c.MostLinks)
	cannot := name + " cannot be changed"
	if err := checkSite(cannot, row); err != nil {
		return Site{}, err
	}
	var secrets map[string][]byte
	if c.Password != nil {
		secrets = s.sealAccess("site/"+name, Access{Password: *c.Password})
	}
	if row.Way == wayJump {
		if err := checkHostKey(cannot, row.HostKey); err != nil {
			return Site{}, err
		}
	}
	if err := s.store.ChangeSite(ctx, row, secrets); err != nil {
		return Site{}, noSite(err, name)
	}
	s.ways.forget(name)
	return showSite(row), nil
}

func noSite(err error, name string) error {
	return notFound(err, "see: freshseal site list", "no site is called %q", name)
}

// Site shows one site.
func (s *Service) Site(ctx context.Context, name string) (Site, error) {
	row, err := s.store.Site(ctx, name)
	return showSite(row), noSite(err, name)
}

func showSite(s store.Site) Site {
	return Site{s.Name, s.Way, s.Address, s.Port, s.SSHUser, s.HostKey, s.Subject.V, s.MostLinks}
}

// Sites are all sites by name.
func (s *Service) Sites(ctx context.Context) ([]Site, error) {
	rows, err := s.store.Sites(ctx)
	out := make([]Site, 0, len(rows))
	for _, row := range rows {
		out = append(out, showSite(row))
	}
	return out, err
}

// RemoveSite forgets a site; its devices are reached directly from then on.
func (s *Service) RemoveSite(ctx context.Context, name string) error {
	err := s.store.RemoveSite(ctx, name, purposes("site/"+name)...)
	s.ways.forget(name)
	return noSite(err, name)
}

// ways keeps one connection to each jump host, which all links of the site
// share, and opens it anew when it is lost.
type ways struct {
	lock  sync.Mutex
	open  map[string]*ssh.Link
	sites map[string]*sync.Mutex // held while a site's link is opened, so that a silent one delays no other
}

// site is the lock of one site.
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

// way is how connections to a site's devices are opened.
func (s *Service) way(name string) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		site, err := s.store.Site(ctx, name)
		switch {
		case errors.Is(err, store.ErrNotFound), err == nil && site.Way == wayDirect:
			return s.options.Dial(ctx, network, address)
		case err != nil:
			return nil, err
		}
		place := net.JoinHostPort(site.Address, strconv.Itoa(site.Port))
		if site.Way == waySocks {
			socks, err := proxy.SOCKS5("tcp", place, nil, dialer{s.options.Dial})
			if err != nil {
				return nil, err
			}
			return socks.(proxy.ContextDialer).DialContext(ctx, network, address)
		}
		conn, err := s.jump(ctx, site, place, network, address)
		if err != nil && ctx.Err() == nil {
			return nil, finding.Failure{Code: "no-way", What: fmt.Sprintf("through the jump host of %s: %v", name, err),
				Remedy: "see that the jump host " + place + " is on, lets this user in and lets it through to the device"}
		}
		return conn, err
	}
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
		if err == nil || !old || again || !errors.Is(err, ssh.ErrLost) {
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
	t := ssh.Target{Address: place, User: site.SSHUser, HostKey: site.HostKey}
	if err := s.openAccess(ctx, "site/"+site.Name, &t); err != nil {
		return nil, false, err
	}
	if link, err = ssh.Open(ctx, s.options.Dial, t); err != nil {
		return nil, false, err
	}
	s.ways.keep(site.Name, link)
	return link, false, nil
}

// dialer lets the proxy package dial our way.
type dialer struct {
	dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Dial is there for the interface.
func (d dialer) Dial(network, address string) (net.Conn, error) {
	return d.dial(context.Background(), network, address)
}

// DialContext is what is used.
func (d dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	return d.dial(ctx, network, address)
}
