// Package notify sends messages: by mail, to a webhook, or to a syslog server. It decides nothing: which
// message goes where, and when it is tried again, is said by whoever calls it.
//
//	Channel.Send(ctx, message)
//
// A message has an id that stays the same when it is sent again, so that receivers can drop what
// they have.
package notify

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/notice"
	"freshseal/pin"
)

// Kind is how messages are sent.
type Kind = string

// The kinds.
const (
	Mail    Kind = "mail"
	Webhook Kind = "webhook"
	Syslog  Kind = "syslog"
)

// Kinds are all kinds.
var Kinds = []Kind{Mail, Webhook, Syslog}

// Security is how a connection is protected.
type Security = string

// The securities. Plain is for servers on the same machine, and for networks if nothing else is to be had.
const (
	StartTLS Security = "starttls"
	TLS      Security = "tls"
	Plain    Security = "plain"
)

// Channel says where messages go. Fields that its kind does not use are empty.
type Channel struct {
	Kind     Kind              `json:"kind"`
	Address  string            `json:"address,omitempty"`
	Port     int               `json:"port,omitempty"`
	Security Security          `json:"security,omitempty"`
	Pin      string            `json:"pin,omitempty"`
	From     string            `json:"from,omitempty"`
	To       []string          `json:"to,omitempty"`
	Owners   map[string]string `json:"owners,omitempty"`
	User     string            `json:"user,omitempty"`
	URL      string            `json:"url,omitempty"`
}

// Secret is the password of a mail server, or the key with which a webhook's messages are signed.
type Secret = string

const (
	sendLimit = 30 * time.Second
	mostSaid  = 500     // bytes of an error
	mostRead  = 1 << 20 // bytes from a server, its certificates included
)

// Check returns what is wrong with a channel.
func (c Channel) Check() error {
	switch c.Kind {
	case Mail:
		return c.checkMail()
	case Webhook:
		return c.checkWebhook()
	case Syslog:
		return c.checkServer(TLS, Plain)
	}
	return fmt.Errorf("%q is not a kind of channel", c.Kind)
}

func (c Channel) checkServer(securities ...Security) error {
	switch {
	case c.Address == "" || strings.ContainsAny(c.Address, " \t\r\n/"):
		return fmt.Errorf("%q is not the address of a server", c.Address)
	case c.Port < 1 || c.Port > 65535:
		return fmt.Errorf("%d is not a port", c.Port)
	case !slices.Contains(securities, c.Security):
		return fmt.Errorf("%q is not one of %v", c.Security, securities)
	}
	return checkPin(c.Pin)
}

func checkPin(pin string) error {
	sum, err := hex.DecodeString(pin)
	if pin != "" && (err != nil || len(sum) != sha256.Size) {
		return errors.New("the pin is not a SHA-256 in 64 hexadecimal digits")
	}
	return nil
}

// Groups are the groups of people that a message for owners goes to: each group gets a message of its own.
func (c Channel) Group(owner string) string {
	if c.Kind != Mail {
		return ""
	}
	return strings.Join(c.recipients(owner), ",")
}

// Dial opens a connection.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// within opens connections that end with a whole attempt, whatever the server does, and give no more than mostRead
// bytes.
func (d Dial) within(whole context.Context) Dial {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := d(ctx, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(whole, func() { conn.Close() })
		return &bounded{Conn: conn, left: mostRead}, nil
	}
}

type bounded struct {
	net.Conn
	left int
}

func (b *bounded) Read(into []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("it answers with more than %d kB", mostRead>>10)
	}
	n, err := b.Conn.Read(into[:min(len(into), b.left)])
	b.left -= n
	return n, err
}

// CloseWrite ends what is sent, where the connection can do that.
func (b *bounded) CloseWrite() error {
	if half, ok := b.Conn.(interface{ CloseWrite() error }); ok {
		return half.CloseWrite()
	}
	return nil
}

// Sender sends over channels.
type Sender struct {
	Dial Dial
	Now  func() time.Time
	Name string // what the service is called
}

// Send sends a message that is for a group of people. It ends after half a minute at the latest.
func (s Sender) Send(ctx context.Context, c Channel, secret Secret, group string, m notice.Message) error {
	ctx, cancel := context.WithTimeout(ctx, sendLimit)
	defer cancel()
	s.Dial = s.Dial.within(ctx)
	var err error
	switch c.Kind {
	case Mail:
		err = s.mail(ctx, c, secret, group, m)
	case Webhook:
		err = s.webhook(ctx, c, secret, m)
	case Syslog:
		err = s.syslog(ctx, c, m)
	default:
		err = c.Check()
	}
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("it did not answer within %s", sendLimit)
	}
	if err == nil {
		return nil
	}
	said := masked(err.Error(), c.User, secret) // what a server says is kept with the message
	if len(said) > mostSaid {
		said = strings.ToValidUTF8(said[:mostSaid], "") + "…"
	}
	return errors.New(said)
}

// masked hides a password that a server says again in its refusal, as it is and as it was sent (RFC 4616, RFC 7617).
func masked(said, user string, secret Secret) string {
	if secret == "" {
		return said
	}
	for _, form := range []string{secret, base64.StdEncoding.EncodeToString([]byte(secret)),
		base64.StdEncoding.EncodeToString([]byte("\x00" + user + "\x00" + secret)), url.QueryEscape(secret)} {
		said = strings.ReplaceAll(said, form, "••••••")
	}
	return said
}

// config returns how TLS is spoken with a server: its certificate is the pinned one, or one that the system trusts.
func (c Channel) config(name string) *tls.Config {
	if c.Pin == "" {
		return &tls.Config{ServerName: name, MinVersion: tls.VersionTLS12}
	}
	config := pin.Config(pin.To(c.Pin))
	config.ServerName = name
	return config
}

// near reports whether a host is this machine.
func near(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func parseURL(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.User != nil || u.Fragment != "":
		return nil, fmt.Errorf("%q is not an address such as https://hooks.tidewrack.example/certificates", text)
	case u.Scheme != "https" && (u.Scheme != "http" || !near(u.Hostname())):
		return nil, errors.New("a webhook is reached over HTTPS, or over HTTP on the same machine")
	}
	return u, nil
}
