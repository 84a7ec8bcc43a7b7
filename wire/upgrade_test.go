package wire_test

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/md5"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"freshseal/core/protocol"
	"freshseal/wire"

	"layeh.com/radius"
	"layeh.com/radius/rfc2869"
)

// A server may refuse TLS, speak another protocol, or say whatever it likes: the reader says
// which of them it was, in the server's words.
func TestServersThatDoNotComeToTLS(t *testing.T) {
	for _, c := range []struct {
		protocol   wire.Protocol
		says, code string
		what       string
	}{
		{protocol.SMTP, "220 ready\r\n250 gate\r\n", "no-starttls", "250 gate"},
		{protocol.SMTP, "220 ready\r\n250-gate\r\n250 STARTTLS\r\n454 TLS not available\r\n", "no-starttls",
			"not available"},
		{protocol.SMTP, "554 go away\r\n", "no-starttls", "go away"},
		{protocol.SMTP, "SSH-2.0-gate\r\n", "no-tls", "SSH-2.0"},
		{protocol.SMTP, strings.Repeat("220-more\r\n", 5000), "no-tls", "more"},
		{protocol.SMTP, strings.Repeat("x", 1<<20), "no-tls", "xxx"},
		{protocol.IMAP, "* OK ready\r\na BAD unknown\r\n", "no-starttls", "unknown"},
		{protocol.IMAP, "* OK ready\r\n" + strings.Repeat("* more\r\n", 5000), "no-tls", "more"},
		{protocol.IMAP, "220 ready\r\n", "no-tls", "220"},
		{protocol.POP3, "+OK\r\n-ERR no\r\n", "no-starttls", "-ERR"},
		{protocol.POP3, "* OK\r\n", "no-tls", "* OK"},
		{protocol.FTP, "220 hello\r\n530 log in first\r\n", "no-starttls", "log in"},
		{protocol.LDAP, "\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x34\x04\x00\x04\x00", "no-starttls", "result 52"},
		{protocol.LDAP, "\x30\x84\x7f\xff\xff\xff", "no-tls", "0"},
		{protocol.LDAP, "HTTP/1.1 400", "no-tls", "HT"},
		{protocol.XMPP, "<stream:stream><stream:features><auth/></stream:features>", "no-starttls", "auth"},
		{protocol.XMPP, strings.Repeat("<a>", 1<<16), "no-tls", "<a>"},
		{protocol.XMPP, "<stream:features>urn:ietf:params:xml:ns:xmpp-tls</stream:features><failure/>", "no-starttls",
			"failure"},
		{protocol.PostgreSQL, "N", "no-starttls", "N"},
		{protocol.PostgreSQL, "E", "no-tls", "E"},
		{protocol.MySQL, "\x17\x00\x00\x00\xff\x6a\x04Host is not allowed", "closed", ""},
		{protocol.MySQL, "\x13\x00\x00\x00\xff\x6a\x04not let in here!", "no-starttls", "not let in"},
		{protocol.MySQL, "\x24\x00\x00\x00\x0a11.0\x00" + strings.Repeat("\x01", 12) + "\x00" +
			strings.Repeat("\x00", 30), "no-starttls", "11.0"},
		{protocol.MySQL, "\xff\xff\xff\x00", "no-tls", ""},
		{protocol.Desktop, "\x03\x00\x00\x0b\x06\xd0\x00\x00\x00\x00\x00", "no-starttls", "without TLS"},
		{protocol.Desktop, "\x03\x00\xff\xff", "no-tls", ""},
		{protocol.Desktop, "\x03\x00\x00\x13\x0e\xd0\x00\x00\x00\x00\x00\x02\x00\x08\x00\x00\x00\x00\x00",
			"no-starttls", "own encryption"},
		// What follows the agreement is no TLS: an attacker's commands, say.
		{protocol.SMTP, "220 ready\r\n250 STARTTLS\r\n220 go\r\n250 MAIL FROM taken\r\n", "no-tls",
			"does not speak TLS"},
		{"gopher", "x", "no-tls", "no protocol"},
	} {
		target := wire.Target{Address: "192.0.2.1", Port: 25, Protocol: c.protocol,
			ServerName: "a<b>'\"&.tidewrack.example"}
		r := wire.Reader{Dial: said(c.says), Now: time.Now, Limit: 5 * time.Second}.Read(t.Context(), target)
		if r.Why == nil || r.Why.Code != c.code || !strings.Contains(r.Why.What, c.what) || len(r.Why.What) > 300 ||
			r.Why.Remedy == "" {
			t.Errorf("%s %.40q: %+v", c.protocol, c.says, r.Why)
		}
	}
}

// script is a connection to a server that says what it says, whatever it hears.
type script struct {
	net.Conn
	says io.Reader
}

func (s script) Read(p []byte) (int, error)       { return s.says.Read(p) }
func (s script) Write(p []byte) (int, error)      { return len(p), nil }
func (s script) Close() error                     { return nil }
func (s script) SetDeadline(time.Time) error      { return nil }
func (s script) SetReadDeadline(time.Time) error  { return nil }
func (s script) SetWriteDeadline(time.Time) error { return nil }
func (s script) LocalAddr() net.Addr              { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1} }
func (s script) RemoteAddr() net.Addr             { return s.LocalAddr() }

func said(text string) wire.Dial {
	return func(context.Context, string, string) (net.Conn, error) {
		return script{says: strings.NewReader(text)}, nil
	}
}

// FuzzProtocols lets a server say anything in each protocol: the reading ends, with a chain or
// with a reason.
func FuzzProtocols(f *testing.F) {
	for _, says := range []string{"220 a\r\n250 STARTTLS\r\n220 go\r\n\x16\x03\x03\x00\x04\x02\x00\x00\x00",
		"S\x15\x03\x03\x00\x02\x02\x28", "\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x00\x04\x00\x04\x00\x16\x03",
		"\x03\x00\x00\x13\x0e\xd0\x00\x00\x00\x00\x00\x02\x00\x08\x00\x01\x00\x00\x00",
		"<stream:features>urn:ietf:params:xml:ns:xmpp-tls</stream:features><proceed/>",
		"\x4a\x00\x00\x00\x0a5.5\x00aaaabbbbbbbb\x00\xff\xff"} {
		f.Add([]byte(says))
	}
	f.Fuzz(func(t *testing.T, says []byte) {
		for _, about := range protocol.All() {
			target := wire.Target{Address: "192.0.2.1", Port: 1, Protocol: about.Name, Secret: []byte("salt"),
				ServerName: "a.example"}
			dial := said(string(says))
			if about.OverEAP {
				dial = func(context.Context, string, string) (net.Conn, error) { return &radiusScript{says: says}, nil }
			}
			r := wire.Reader{Dial: dial, Now: time.Now, Limit: time.Second}.Read(t.Context(), target)
			if (r.Why == nil) == (len(r.Chain) == 0) {
				t.Fatalf("%s: %+v", about.Name, r)
			}
		}
	})
}

// radiusScript is a RADIUS server that knows the secret, and says in its EAP whatever it likes:
// pieces of a text, one in each answer.
type radiusScript struct {
	script
	says    []byte
	answer  []byte
	without bool // a Message-Authenticator
}

func (s *radiusScript) Write(p []byte) (int, error) {
	asked, err := radius.Parse(p, []byte("salt"))
	if err != nil {
		return 0, err
	}
	n := min(len(s.says), 40)
	piece := s.says[:n]
	s.says = s.says[n:]
	answer := radius.Packet{Code: radius.CodeAccessChallenge, Identifier: asked.Identifier, Secret: []byte("salt"),
		Authenticator: asked.Authenticator}
	rfc2869.EAPMessage_Set(&answer, append([]byte{1, 7, 0, byte(4 + n)}, piece...))
	if s.without {
		s.answer, err = answer.Encode()
		return len(p), err
	}
	rfc2869.MessageAuthenticator_Set(&answer, make([]byte, 16))
	clear, err := answer.MarshalBinary()
	if err != nil {
		return 0, err
	}
	mac := hmac.New(md5.New, []byte("salt"))
	mac.Write(clear)
	rfc2869.MessageAuthenticator_Set(&answer, mac.Sum(nil))
	s.answer, err = answer.Encode()
	return len(p), err
}

func (s *radiusScript) Read(p []byte) (int, error) {
	if s.answer == nil {
		return 0, io.EOF
	}
	n := copy(p, s.answer)
	s.answer = nil
	return n, nil
}

// Whoever sits on the line cannot answer for the server: without the secret nothing that he
// sends is taken.
func TestAnswersWithoutTheSecretAreNotTaken(t *testing.T) {
	for what, spoil := range map[string]func([]byte) []byte{
		"response authenticator": func(b []byte) []byte { b[4]++; return b },
		"message authenticator":  func(b []byte) []byte { b[len(b)-1]++; return b },
		"cut short":              func(b []byte) []byte { return b[:len(b)-3] },
		"none":                   nil,
	} {
		conn := &spoilt{radiusScript: &radiusScript{says: bytes.Repeat([]byte{25, 0x20}, 100), without: spoil == nil},
			spoil: spoil}
		target := wire.Target{Address: "192.0.2.1", Port: 1812, Protocol: protocol.PEAP, Secret: []byte("salt")}
		r := wire.Reader{Dial: func(context.Context, string, string) (net.Conn, error) { return conn, nil },
			Now: time.Now, Limit: time.Second}.Read(t.Context(), target)
		if r.Why == nil || r.Why.Code != "wrong-secret" {
			t.Errorf("%s: %+v", what, r.Why)
		}
	}
}

type spoilt struct {
	*radiusScript
	spoil func([]byte) []byte
}

func (s *spoilt) Write(p []byte) (int, error) {
	n, err := s.radiusScript.Write(p)
	if s.spoil != nil {
		s.answer = s.spoil(s.answer)
	}
	return n, err
}
