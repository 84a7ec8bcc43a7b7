package standin

import (
	"crypto/tls"
	"fmt"
	"net"
	"time"
)

// server is what a stand-in listens with.
type server struct{ *Running }

// listen takes the wanted port or, where it is taken, any; and 127.0.0.1 where
// the system has no other loopback address.
func listen(address string, port int) (net.Listener, error) {
	l, err := net.Listen("tcp", net.JoinHostPort(address, fmt.Sprint(port)))
	if err != nil {
		l, err = net.Listen("tcp", net.JoinHostPort(address, "0"))
	}
	if err != nil {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	return l, err
}

// accept hands every connection to serve and keeps count, so that Close can
// end them all.
func (r server) accept(l net.Listener, serve func(net.Conn)) {
	r.Work.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			if !r.keep(conn) {
				return
			}
			r.Work.Go(func() {
				defer r.forget(conn)
				serve(conn)
			})
		}
	})
}

func (r server) keep(conn net.Conn) bool {
	r.lock.Lock()
	defer r.lock.Unlock()
	if r.closed {
		conn.Close()
		return false
	}
	r.conns[conn] = struct{}{}
	return true
}

func (r server) forget(conn net.Conn) {
	r.lock.Lock()
	defer r.lock.Unlock()
	conn.Close()
	delete(r.conns, conn)
}

// Drop ends every connection to the box at once, as a broken line does.
func (r *Running) Drop() {
	r.lock.Lock()
	defer r.lock.Unlock()
	for conn := range r.conns {
		conn.Close()
	}
}

func (r server) serveTLS(conn net.Conn, pair *tls.Certificate) {
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	if pair == nil {
		return // restarting
	}
	server := tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{*pair}, MinVersion: tls.VersionTLS12})
	if server.Handshake() != nil {
		return
	}
	if r.mux != nil {
		r.serveWeb(server, r.mux)
		server.Close()
		return
	}
	if r.Pages {
		panel(r).answer(server)
		server.Close()
		return
	}
	buffer := make([]byte, 1024)
	server.Read(buffer)
	fmt.Fprint(server, "HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\nTidewrack Ferries\n")
	server.Close()
}
