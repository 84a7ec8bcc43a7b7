package standin

import (
	"encoding/binary"
	"io"
	"net"
	"strconv"
	"sync"
)

// Socks is a SOCKS5 proxy (RFC 1928) without sign-in that opens connections for IPv4
// addresses and names.
type Socks struct {
	Addr string // where it listens

	forward Forward
	l       net.Listener
	lock    sync.Mutex
	conns   map[net.Conn]struct{}
	work    sync.WaitGroup
}

// StartSocks turns a proxy on at an address and a wanted port.
func StartSocks(address string, port int, forward Forward) (*Socks, error) {
	l, err := listen(address, port)
	if err != nil {
		return nil, err
	}
	s := &Socks{Addr: l.Addr().String(), forward: forward, l: l, conns: map[net.Conn]struct{}{}}
	s.work.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			s.work.Go(func() { s.serve(conn) })
		}
	})
	return s, nil
}

// Close turns the proxy off and waits until nothing of it is left.
func (s *Socks) Close() error {
	err := s.l.Close()
	s.lock.Lock()
	for conn := range s.conns {
		conn.Close()
	}
	s.lock.Unlock()
	s.work.Wait()
	return err
}

func (s *Socks) keep(conn net.Conn) {
	s.lock.Lock()
	defer s.lock.Unlock()
	s.conns[conn] = struct{}{}
}

func (s *Socks) forget(conn net.Conn) {
	s.lock.Lock()
	defer s.lock.Unlock()
	conn.Close()
	delete(s.conns, conn)
}

func (s *Socks) serve(conn net.Conn) {
	s.keep(conn)
	defer s.forget(conn)
	hello := make([]byte, 2)
	if _, err := io.ReadFull(conn, hello); err != nil {
		return
	}
	io.CopyN(io.Discard, conn, int64(hello[1]))
	conn.Write([]byte{5, 0})
	head := make([]byte, 4) // version, connect, 0, kind of address
	if _, err := io.ReadFull(conn, head); err != nil {
		return
	}
	size := 4
	if head[3] == 3 { // a name, after its length
		length := make([]byte, 1)
		if _, err := io.ReadFull(conn, length); err != nil {
			return
		}
		size = int(length[0])
	} else if head[3] != 1 {
		conn.Write([]byte{5, 8, 0, 1, 0, 0, 0, 0, 0, 0})
		return
	}
	ask := make([]byte, size+2)
	if _, err := io.ReadFull(conn, ask); err != nil {
		return
	}
	host := string(ask[:size])
	if head[3] == 1 {
		host = net.IP(ask[:size]).String()
	}
	to, err := s.forward(net.JoinHostPort(host, strconv.Itoa(int(binary.BigEndian.Uint16(ask[size:])))))
	if err != nil {
		conn.Write([]byte{5, 5, 0, 1, 0, 0, 0, 0, 0, 0})
		return
	}
	s.keep(to)
	defer s.forget(to)
	conn.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
	go func() {
		io.Copy(to, conn)
		to.Close()
	}()
	io.Copy(conn, to)
}
