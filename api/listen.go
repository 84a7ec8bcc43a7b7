package api

import (
	"net"
	"sync"
)

// bounded is a listener that gives no address more than its share of connections; what
// is over that is closed at once.
type bounded struct {
	net.Listener
	most int

	lock sync.Mutex
	of   map[string]int // by address
}

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

func (b *bounded) enter(from string) bool {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.of == nil {
		b.of = map[string]int{}
	}
	if b.of[from] >= b.most {
		return false
	}
	b.of[from]++
	return true
}

func (b *bounded) leave(from string) {
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.of[from]--; b.of[from] <= 0 {
		delete(b.of, from)
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
