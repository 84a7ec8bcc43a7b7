// Package own keeps the service's own certificate: it makes one at the first start, serves it, and replaces it by the
// verb service of the procedure language, endorsed so that clients follow.
package own

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/store"
	"freshseal/strongbox"
)

// life is how long the self-made certificate lives; it is there to be
// replaced long before.
const life = 2 * 365 * 24 * time.Hour

// ErrOtherKey means that the strongbox key is not the one that the database was
// sealed with.
var ErrOtherKey = errors.New("the service's own key cannot be opened")

// inUse is where the material in use is sealed; the material of a
// replacement is beside it.
const inUse = "own/certificate"

type material struct {
	Certificate []byte   `json:"certificate,omitempty"` // DER; none while it is being signed
	Chain       [][]byte `json:"chain,omitempty"`       // the intermediates, DER
	Key         []byte   `json:"key"`                   // PKCS #8
}

func (m material) signer() (crypto.Signer, error) {
	key, err := x509.ParsePKCS8PrivateKey(m.Key)
	if err != nil {
		return nil, fmt.Errorf("the service's own key is damaged: %w", err)
	}
	return key.(crypto.Signer), nil // all PKCS #8 keys that are made here can sign
}

func (m material) pair() (*tls.Certificate, error) {
	key, err := m.signer()
	return &tls.Certificate{Certificate: append([][]byte{m.Certificate}, m.Chain...), PrivateKey: key}, err
}

// Service is the service's own certificate. Its methods are safe for concurrent use.
type Service struct {
	secrets    secretsStore
	succession successionStore
	box        *strongbox.Box
	clock      func() time.Time

	serving atomic.Pointer[tls.Certificate]
	lock    sync.Mutex // one act on it at a time
}

type secretsStore interface {
	Get(ctx context.Context, purpose string) ([]byte, error)
	Put(ctx context.Context, purpose string, sealed []byte) error
	Remove(ctx context.Context, purposes ...string) error
}

type successionStore interface {
	Get(ctx context.Context, most int) ([]cert.Endorsement, error)
	Succeed(ctx context.Context, purpose string, sealed []byte, e *cert.Endorsement, at store.Moment) error
}

// New returns the service; Open comes first.
func New(db *store.Store, box *strongbox.Box, clock func() time.Time) *Service {
	return &Service{secrets: db.Secrets, succession: db.Succession, box: box, clock: clock}
}

// For returns the acts by which a replacement changes the certificate.
func (s *Service) For(replacementID int64, plan request.Plan) device.Own {
	return work{s, replacementID, plan}
}

// Certificate returns what the service serves, for a tls.Config: a replacement
// takes effect with the next connection.
func (s *Service) Certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return s.serving.Load(), nil
}

// Succession returns the endorsements by which clients follow from one certificate
// of the service to the next.
func (s *Service) Succession(ctx context.Context) ([]cert.Endorsement, error) {
	return s.succession.Get(ctx, 50)
}

// Open opens the service's own certificate, or makes it at the first start.
func (s *Service) Open(ctx context.Context, name string) error {
	m, err := s.material(ctx, inUse)
	if errors.Is(err, store.ErrNotFound) {
		if m, err = first(name, s.clock().UTC()); err == nil {
			err = s.put(ctx, inUse, m)
		}
	}
	if err != nil {
		return err
	}
	pair, err := m.pair()
	s.serving.Store(pair)
	return err
}

func (s *Service) material(ctx context.Context, purpose string) (material, error) {
	var m material
	sealed, err := s.secrets.Get(ctx, purpose)
	if err != nil {
		return m, err
	}
	text, err := s.box.Open(purpose, sealed)
	if err == nil {
		err = json.Unmarshal(text, &m)
	}
	if err != nil {
		return m, fmt.Errorf("%w: %v", ErrOtherKey, err)
	}
	return m, nil
}

func (s *Service) put(ctx context.Context, purpose string, m material) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return s.secrets.Put(ctx, purpose, s.box.Seal(purpose, text))
}

func first(host string, now time.Time) (material, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return material{}, err
	}
	template := x509.Certificate{
		Subject:   pkix.Name{CommonName: "Fresh Seal on " + host},
		NotBefore: now.Add(-5 * time.Minute), NotAfter: now.Add(life),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, DNSNames: []string{host, "localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	made, err := cert.Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		return material{}, fmt.Errorf("making the service's own certificate: %w", err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	return material{Certificate: made.Raw, Key: pkcs8}, err
}

// work does what a replacement of the service's own certificate consists of.
type work struct {
	*Service
	id   int64 // of the replacement
	plan request.Plan
}

func (w work) next() string { return "own/next/" + replacement.Name(w.id) }

func (w work) before() string { return "own/before/" + replacement.Name(w.id) }

// Act does one of the acts of the verb service. Each may be done twice.
func (w work) Act(ctx context.Context, act string, content []byte) ([]byte, error) {
	w.lock.Lock()
	defer w.lock.Unlock()
	switch act {
	case verb.MakeRequest:
		return w.makeRequest(ctx)
	case verb.Keep:
		return nil, w.keep(ctx)
	case verb.LayDown:
		return nil, w.install(ctx, content)
	case verb.Serve:
		return nil, w.serve(ctx, w.next())
	case verb.PutBack:
		return nil, w.serve(ctx, w.before())
	case verb.ClearAway:
		return nil, w.secrets.Remove(ctx, w.next())
	}
	return nil, fmt.Errorf("the service knows no act %q", act)
}

func (w work) makeRequest(ctx context.Context) ([]byte, error) {
	m, err := w.material(ctx, w.next())
	var key crypto.Signer
	switch {
	case errors.Is(err, store.ErrNotFound):
		if key, err = request.NewKey(w.plan.Key); err != nil {
			return nil, err
		}
		if m.Key, err = x509.MarshalPKCS8PrivateKey(key); err == nil {
			err = w.put(ctx, w.next(), m)
		}
	case err == nil:
		key, err = m.signer()
	}
	if err != nil {
		return nil, err
	}
	made, err := request.Make(w.plan, key)
	return made.PEM(), err
}

func (w work) keep(ctx context.Context) error {
	if _, err := w.secrets.Get(ctx, w.before()); !errors.Is(err, store.ErrNotFound) {
		return err // kept already
	}
	m, err := w.material(ctx, inUse)
	if err != nil {
		return err
	}
	return w.put(ctx, w.before(), m)
}

func (w work) install(ctx context.Context, content []byte) error {
	m, err := w.material(ctx, w.next())
	if err != nil {
		return err
	}
	accounts, err := pile.Sort([]pile.File{{Name: "chain", Content: content}}, pile.Options{})
	if err != nil {
		return err
	}
	path := pile.Certificates(accounts)
	key, err := m.signer()
	if err != nil {
		return err
	}
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	if len(path) == 0 || !path[0].SameKey(spki) {
		return errors.New("the leaf is for another key")
	}
	m.Certificate, m.Chain = path[0].Raw, nil
	for _, c := range path[1:] {
		m.Chain = append(m.Chain, c.Raw)
	}
	return w.put(ctx, w.next(), m)
}

// serve puts other material in use, endorsed by what it follows.
func (w work) serve(ctx context.Context, purpose string) error {
	next, err := w.material(ctx, purpose)
	if err != nil {
		return err
	}
	if len(next.Certificate) == 0 { // it would lock everybody out
		return errors.New("no signed certificate was laid down, so there is nothing to serve")
	}
	now, err := w.material(ctx, inUse)
	if err != nil {
		return err
	}
	pair, err := next.pair()
	if err != nil {
		return err
	}
	if shown := cert.Fingerprint(next.Certificate); shown != cert.Fingerprint(now.Certificate) {
		key, err := now.signer()
		if err != nil {
			return err
		}
		e, err := cert.Endorse(rand.Reader, now.Certificate, key, shown)
		if err != nil {
			return err
		}
		text, err := json.Marshal(next)
		if err != nil {
			return err
		}
		if err := w.succession.Succeed(ctx, inUse, w.box.Seal(inUse, text), &e,
			store.At(w.clock())); err != nil {
			return err
		}
	}
	w.serving.Store(pair)
	return nil
}
