// Package ssh is the link over SSH: commands and files on one device.
//
//	Open  →  Link: Run (a command that can be ended and asked after), Files
//
// A link asks, it does not decide: the pinned host key, the secrets and the
// dialler come from the caller.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/device/links"

	"github.com/pkg/sftp"
	crypto "golang.org/x/crypto/ssh"
)

// Limits of a link.
const (
	signInLimit = 20 * time.Second
	maxOutput   = 1 << 20 // bytes of each stream that are taken of one command
	maxFile     = 4 << 20 // bytes of one file
)

// Target says how a device is reached over SSH.
type Target struct {
	Address  string // host:port
	User     string
	Password string // used when not empty
	Key      []byte // private key in OpenSSH or PEM form, used when not empty
	HostKey  string // pinned: "TYPE SHA256:…"

	Passphrase []byte // of Key
	OldSSH     bool   // also offer algorithms that are broken, for a box that knows no others
}

// ParseKey reads a private key in OpenSSH or PEM form.
func ParseKey(key, passphrase []byte) (crypto.Signer, error) {
	if len(passphrase) > 0 {
		return crypto.ParsePrivateKeyWithPassphrase(key, passphrase)
	}
	return crypto.ParsePrivateKey(key)
}

// HostKeyChanged means that a device shows another host key than the pinned one.
type HostKeyChanged struct{ Pinned, Shown string }

func (e HostKeyChanged) Error() string {
	return fmt.Sprintf("the host key has changed: pinned is %s, shown was %s", e.Pinned, e.Shown)
}

// Pin writes a host key as it is kept and compared: "TYPE SHA256:…".
func Pin(key crypto.PublicKey) string { return key.Type() + " " + crypto.FingerprintSHA256(key) }

// AskHostKey connects just far enough to learn which host key a device shows.
func AskHostKey(ctx context.Context, dial links.Dial, address string) (pin string, err error) {
	enough := errors.New("enough")
	config := &crypto.ClientConfig{User: "host-key-only",
		HostKeyCallback: func(_ string, _ net.Addr, key crypto.PublicKey) error {
			pin = Pin(key)
			return enough
		}}
	conn, err := handshake(ctx, dial, address, config)
	if conn != nil {
		conn.Close()
	}
	if pin != "" {
		return pin, nil
	}
	return "", fmt.Errorf("asking %s for its host key: %w", address, err)
}

// Link is an SSH connection to one device. It is used by one goroutine at a time.
type Link struct {
	client *crypto.Client
	files  *sftp.Client
	once   sync.Once
	left   atomic.Int64 // of what the device may send over the file channel; see meter
	able   *Able
	lock   sync.Mutex // guards able
	more   moreRights

	alive sync.WaitGroup // keepAlive
	over  sync.Once
	ended chan struct{}
}

// aliveEvery is how often an idle link is tried: boxes and firewalls forget
// connections that are silent for some minutes.
const aliveEvery = 20 * time.Second

// keepAlive asks the device for a sign of life now and then, and ends the link
// when none comes: whoever uses it learns then that it is lost.
func (l *Link) keepAlive(every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-l.ended:
			return
		}
		silent := time.AfterFunc(every, func() { l.client.Close() })
		_, _, err := l.client.SendRequest("keepalive@openssh.com", true, nil)
		silent.Stop()
		if err != nil {
			return
		}
	}
}

// Open connects and signs in. A host key other than the pinned one is
// HostKeyChanged, and nothing was sent then.
func Open(ctx context.Context, dial links.Dial, t Target) (*Link, error) {
	var changed error
	config := &crypto.ClientConfig{
		User:              t.User,
		HostKeyAlgorithms: algorithms(t.HostKey),
		HostKeyCallback: func(_ string, _ net.Addr, key crypto.PublicKey) error {
			if shown := Pin(key); shown != t.HostKey {
				changed = HostKeyChanged{Pinned: t.HostKey, Shown: shown}
				return changed
			}
			return nil
		},
	}
	if len(t.Key) > 0 {
		signer, err := ParseKey(t.Key, t.Passphrase)
		if err != nil {
			return nil, fmt.Errorf("reading the key for %s: %w", t.User, err)
		}
		config.Auth = append(config.Auth, crypto.PublicKeys(signer))
	}
	if t.Password != "" {
		config.Auth = append(config.Auth, crypto.Password(t.Password), crypto.KeyboardInteractive(answer(t.Password)))
	}
	if t.OldSSH {
		allowOld(config)
	}
	client, err := handshake(ctx, dial, t.Address, config)
	var disagreed *crypto.AlgorithmNegotiationError
	switch {
	case changed != nil:
		return nil, changed
	case errors.As(err, &disagreed) && disagreed.What == "host key":
		// The pinned kind of key is not offered any more: learn which one is.
		shown, askErr := AskHostKey(ctx, dial, t.Address)
		if askErr != nil {
			return nil, askErr
		}
		return nil, HostKeyChanged{Pinned: t.HostKey, Shown: shown}
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"): // the library has no type for it
		return nil, fmt.Errorf("signing in to %s as %s: %w", t.Address, t.User, links.ErrSignIn)
	case err != nil:
		return nil, fmt.Errorf("reaching %s: %w", t.Address, err)
	}
	link := &Link{client: client, ended: make(chan struct{})}
	link.alive.Go(func() { link.keepAlive(aliveEvery) })
	return link, nil
}

// answer answers with the password to every question whose answer is not shown, which
// is what boxes ask that do not know the method "password" (RFC 4256).
func answer(password string) crypto.KeyboardInteractiveChallenge {
	return func(_, _ string, questions []string, echo []bool) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range questions {
			if !echo[i] {
				answers[i] = password
			}
		}
		return answers, nil
	}
}

// allowOld adds the algorithms that old boxes know to those that are safe.
func allowOld(c *crypto.ClientConfig) {
	safe, old := crypto.SupportedAlgorithms(), crypto.InsecureAlgorithms()
	c.KeyExchanges = append(safe.KeyExchanges, old.KeyExchanges...)
	c.Ciphers = append(safe.Ciphers, old.Ciphers...)
	c.MACs = append(safe.MACs, old.MACs...)
	if slices.Contains(c.HostKeyAlgorithms, crypto.KeyAlgoRSASHA256) {
		c.HostKeyAlgorithms = append(c.HostKeyAlgorithms, crypto.KeyAlgoRSA)
	}
}

// algorithms asks for the pinned kind of host key, since a device with several
// shows whichever the client prefers.
func algorithms(pin string) []string {
	kind, _, _ := strings.Cut(pin, " ")
	if kind == crypto.KeyAlgoRSA {
		return []string{crypto.KeyAlgoRSASHA512, crypto.KeyAlgoRSASHA256}
	}
	return []string{kind}
}

// handshake dials and signs in within signInLimit. The deadline is kept by
// closing the connection: one through a jump host knows no deadlines.
func handshake(ctx context.Context, dial links.Dial, address string,
	config *crypto.ClientConfig) (*crypto.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, signInLimit)
	defer cancel()
	conn, err := dial(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	c, channels, requests, err := crypto.NewClientConn(conn, address, config)
	if !stop() {
		conn.Close()
		return nil, fmt.Errorf("%w (%s) while signing in", links.ErrTimeLimit, signInLimit)
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return crypto.NewClient(c, channels, requests), nil
}

// Close ends the connection.
func (l *Link) Close() error {
	err := l.client.Close()
	l.over.Do(func() { close(l.ended) })
	l.alive.Wait()
	return err
}

// Dial opens a connection from the device onwards: it serves as a jump host. A
// link that was lost is ErrLost.
func (l *Link) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := l.client.DialContext(ctx, network, address)
	var refused *crypto.OpenChannelError
	switch {
	case errors.As(err, &refused):
		return nil, fmt.Errorf("no way leads from there to %s: %s", address, refused.Message)
	case err != nil && ctx.Err() == nil:
		return nil, fmt.Errorf("%w: %v", links.ErrLost, err)
	}
	return conn, err
}
