package standin

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509/pkix"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
)

// radiusServer shows a certificate to network devices that know the shared secret: it speaks
// PEAP, TTLS and EAP-TLS as far as the TLS handshake, and then rejects whoever it was.
type radiusServer struct {
	conn    net.PacketConn
	secret  []byte
	serving func() *tls.Certificate
	lock    sync.Mutex
	open    map[string]*eapSession
}

const (
	mostEAP   = 200             // conversations at once
	eapPiece  = 900             // of TLS in one packet
	eapLasts  = 5 * time.Second // a conversation
	eapPEAP   = 25
	eapMore   = 0x40
	eapLength = 0x80
	eapStart  = 0x20
)

// startRADIUS listens on UDP, at the wanted port or another one.
func startRADIUS(address string, port int, secret string, serving func() *tls.Certificate) (*radiusServer, error) {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(address), Port: port})
	if err != nil {
		if conn, err = net.ListenUDP("udp", &net.UDPAddr{IP: net.ParseIP(address)}); err != nil {
			return nil, err
		}
	}
	return &radiusServer{conn: conn, secret: []byte(secret), serving: serving, open: map[string]*eapSession{}}, nil
}

// serve answers until the connection is closed.
func (s *radiusServer) serve() {
	for buffer := make([]byte, radius.MaxPacketLength); ; {
		n, from, err := s.conn.ReadFrom(buffer)
		if err != nil {
			return
		}
		asked, err := radius.Parse(bytes.Clone(buffer[:n]), s.secret)
		if err != nil || asked.Code != radius.CodeAccessRequest || !s.isOurs(buffer[:n], asked) {
			continue // who does not know the secret gets no answer
		}
		if answer := s.answer(asked); answer != nil {
			s.conn.WriteTo(answer, from)
		}
	}
}

// isOurs checks the Message-Authenticator of a request (RFC 3579, 3.2).
func (s *radiusServer) isOurs(packet []byte, asked *radius.Packet) bool {
	got := rfc2869.MessageAuthenticator_Get(asked)
	blank := bytes.Replace(packet, got, make([]byte, md5.Size), 1)
	return len(got) == md5.Size && hmac.Equal(got, s.sum(blank))
}

func (s *radiusServer) sum(packet []byte) []byte {
	mac := hmac.New(md5.New, s.secret)
	mac.Write(packet)
	return mac.Sum(nil)
}

func (s *radiusServer) answer(asked *radius.Packet) []byte {
	session := s.session(rfc2865.State_Get(asked))
	if session == nil {
		return nil
	}
	reply := radius.Packet{Code: radius.CodeAccessChallenge, Identifier: asked.Identifier,
		Authenticator: asked.Authenticator, Secret: s.secret}
	message := rfc2869.EAPMessage_Get(asked)
	body, going := session.next(message)
	kind, id := byte(1), byte(1)
	if len(message) > 1 {
		id = message[1] + 1
	}
	if !going {
		kind, reply.Code = 4, radius.CodeAccessReject
		rfc2865.ReplyMessage_SetString(&reply, "nobody signed in")
	}
	packet := append([]byte{kind, id, 0, 0}, body...)
	binary.BigEndian.PutUint16(packet[2:], uint16(len(packet)))
	rfc2869.EAPMessage_Set(&reply, packet)
	rfc2865.State_Set(&reply, []byte(session.name))
	rfc2869.MessageAuthenticator_Set(&reply, make([]byte, md5.Size))
	clear, err := reply.MarshalBinary()
	if err != nil {
		return nil
	}
	rfc2869.MessageAuthenticator_Set(&reply, s.sum(clear))
	out, err := reply.Encode()
	if err != nil {
		return nil
	}
	return out
}

// session finds a conversation, or begins one.
func (s *radiusServer) session(name []byte) *eapSession {
	s.lock.Lock()
	defer s.lock.Unlock()
	if found := s.open[string(name)]; found != nil || len(name) > 0 || len(s.open) >= mostEAP {
		return found
	}
	pair := s.serving()
	if pair == nil {
		return nil // restarting
	}
	made := &eapSession{name: rand.Text()[:16], turn: make(chan []byte), heard: make(chan []byte),
		done: make(chan struct{})}
	s.open[made.name] = made
	go made.shake(pair)
	time.AfterFunc(eapLasts, func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		delete(s.open, made.name)
		close(made.done)
	})
	return made
}

// eapSession is one conversation. The handshake runs beside it and takes turns with it.
type eapSession struct {
	name       string
	method     byte
	in, out    []byte
	turn       chan []byte   // what the server says before it wants to hear more
	heard      chan []byte   // what the client said
	done       chan struct{} // closed when its time is over
	said, rest bytes.Buffer
}

// next takes the EAP response of a client and gives the body of the request that answers it;
// none where the conversation is over.
func (e *eapSession) next(message []byte) (body []byte, going bool) {
	if len(message) < 5 || message[0] != 2 {
		return nil, false
	}
	kind, data := message[4], message[5:]
	switch {
	case kind == 1: // identity
		e.method = eapPEAP
		return []byte{e.method, eapStart}, true
	case kind == 3 && len(data) > 0 && (data[0] == 13 || data[0] == 21 || data[0] == 25):
		e.method = data[0]
		return []byte{e.method, eapStart}, true
	case kind != e.method || len(data) < 1:
		return nil, false
	}
	flags, data := data[0], data[1:]
	if flags&eapLength != 0 {
		if len(data) < 4 {
			return nil, false
		}
		data = data[4:]
	}
	if e.in = append(e.in, data...); flags&eapMore != 0 {
		return []byte{e.method, 0}, len(e.in) < 64<<10
	}
	if len(e.out) == 0 {
		if len(e.in) == 0 {
			return nil, false
		}
		select {
		case e.heard <- e.in:
		case <-e.done:
			return nil, false
		}
		e.in, e.out = nil, <-e.turn
		if len(e.out) == 0 {
			return nil, false
		}
	}
	piece := e.out[:min(len(e.out), eapPiece)]
	if e.out = e.out[len(piece):]; len(e.out) > 0 {
		return append([]byte{e.method, eapMore}, piece...), true
	}
	return append([]byte{e.method, 0}, piece...), true
}

// shake makes the handshake.
func (e *eapSession) shake(pair *tls.Certificate) {
	config := &tls.Config{Certificates: []tls.Certificate{*pair}, MinVersion: tls.VersionTLS12}
	tls.Server(eapWire{e}, config).Handshake()
	select {
	case e.turn <- e.said.Bytes():
	case <-e.done:
	}
	close(e.turn)
}

// eapWire is a session as the handshake sees it.
type eapWire struct{ *eapSession }

func (w eapWire) Read(p []byte) (int, error) {
	for w.rest.Len() == 0 {
		if w.said.Len() > 0 {
			out := bytes.Clone(w.said.Bytes())
			w.said.Reset()
			select {
			case w.turn <- out:
			case <-w.done:
				return 0, io.ErrUnexpectedEOF
			}
		}
		select {
		case more := <-w.heard:
			w.rest.Write(more)
		case <-w.done:
			return 0, io.ErrUnexpectedEOF
		}
	}
	return w.rest.Read(p)
}

func (w eapWire) Write(p []byte) (int, error)      { return w.said.Write(p) }
func (w eapWire) Close() error                     { return nil }
func (w eapWire) LocalAddr() net.Addr              { return &net.UDPAddr{} }
func (w eapWire) RemoteAddr() net.Addr             { return &net.UDPAddr{} }
func (w eapWire) SetDeadline(time.Time) error      { return errors.ErrUnsupported }
func (w eapWire) SetReadDeadline(time.Time) error  { return nil }
func (w eapWire) SetWriteDeadline(time.Time) error { return nil }

// eapFile is where the box keeps what it serves over EAP, and its places in a state of one use:
// what waits, and what was served before.
func AccessFile(use, state, what string) string {
	return "/var/access/" + use + "-" + state + "-" + what + ".pem"
}

// InUse returns the files that a use serves.
func InUse(use string) (chain, key string) {
	if use == "eap" {
		return "/etc/access/eap/chain.pem", "/etc/access/eap/key.pem"
	}
	return CertificateFile, KeyFile
}

// LoadEAP reads what is served over EAP; the first time it is a certificate of the box's own.
func (r *Running) LoadEAP() error {
	chainFile, keyFile := InUse("eap")
	chain, err := r.Root.ReadFile(Inside(chainFile))
	if err != nil {
		var none *Authority
		certificate, key, err := none.Issue(Wanted{Subject: pkix.Name{Organization: []string{"Lumsk"},
			CommonName: "Lumsk access"}, Names: []string{"access.invalid"}, Begins: -Day, Ends: 6 * 365 * Day},
			OrSystem(r.Random), time.Now())
		if err != nil {
			return err
		}
		if err := r.Lay(map[string][]byte{chainFile: certificate, keyFile: key}); err != nil {
			return err
		}
		chain = certificate
	}
	key, err := r.Root.ReadFile(Inside(keyFile))
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err != nil {
		return err
	}
	if r.Faulty().LeafAlone {
		pair.Certificate = pair.Certificate[:1]
	}
	r.Eap.Store(&pair)
	return nil
}

// startEAP turns EAP on, of a box that has a secret which it shares with network devices.
func (r server) startEAP() error {
	if r.Shared == "" {
		return nil
	}
	if err := r.LoadEAP(); err != nil {
		return err
	}
	var err error
	if r.radius, err = startRADIUS(r.Address, r.RADIUSPort, r.Shared, r.Eap.Load); err != nil {
		return err
	}
	r.RADIUSAddr = r.radius.conn.LocalAddr().String()
	r.Work.Go(r.radius.serve)
	return nil
}
