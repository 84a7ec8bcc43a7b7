package api

import (
	"net"
	"net/netip"
	"sync"
)

// bounded is a listener that gives no network more than its share of connections, and keeps room for those from which
// somebody signed in; what is over that is closed at once.
type bounded struct {
	net.Listener
	known func(address string) bool // somebody signed in from its network

	lock sync.Mutex     // guards the rest
	all  int            // connections
	of   map[string]int // by network
}

// Shares of the connections. A network of IPv6 is what one customer usually has: many addresses in each of many parts.
const (
	maxConnectionsPerAddress = 256 // of IPv4, or a /64 of IPv6
	maxConnectionsPerSite    = 512 // a /48 of IPv6
	roomForKnown             = 512 // of maxConnections
)

func (b *bounded) Accept() (net.Conn, error) {
	for {
		conn, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, _, err := net.SplitHostPort(conn.RemoteAddr().String())
		if err != nil {
			from = conn.RemoteAddr().String()
		}
		if b.enter(from) {
			return &counted{Conn: conn, leave: sync.OnceFunc(func() { b.leave(from) })}, nil
		}
		conn.Close()
	}
}

// share is a network with the most connections that it may have.
type share struct {
	network string
	most    int
}

// sharesOf returns the networks that an address is in.
func sharesOf(from string) []share {
	address, err := netip.ParseAddr(from)
	if err != nil || address.Unmap().Is4() {
		return []share{{from, maxConnectionsPerAddress}}
	}
	address = address.WithZone("")
	part, _ := address.Prefix(64) // both lengths are valid for IPv6
	site, _ := address.Prefix(48)
	return []share{{part.String(), maxConnectionsPerAddress}, {site.String(), maxConnectionsPerSite}}
}

func (b *bounded) enter(from string) bool {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.of == nil {
		b.of = map[string]int{}
	}
	if b.all >= maxConnections || b.all >= maxConnections-roomForKnown && !b.known(from) {
		return false
	}
	shares := sharesOf(from)
	for _, s := range shares {
		if b.of[s.network] >= s.most {
			return false
		}
	}
	b.all++
	for _, s := range shares {
		b.of[s.network]++
	}
	return true
}

func (b *bounded) leave(from string) {
	b.lock.Lock()
	defer b.lock.Unlock()
	b.all--
	for _, s := range sharesOf(from) {
		if b.of[s.network]--; b.of[s.network] <= 0 {
			delete(b.of, s.network)
		}
	}
}

// counted is a connection of a bounded listener.
type counted struct {
	net.Conn
	leave func()
}

// NetConn is the connection itself; see gone.
func (c *counted) NetConn() net.Conn { return c.Conn }

func (c *counted) Close() error {
	c.leave()
	return c.Conn.Close()
}
