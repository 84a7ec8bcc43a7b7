package replace

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
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store"
)

// ownLife is how long the self-made certificate lives; it is there to be
// replaced long before.
const ownLife = 2 * 365 * 24 * time.Hour

// ErrOtherKey says that the strongbox key is not the one that the database was
// sealed with.
var ErrOtherKey = errors.New("the service's own key cannot be opened")

// ownPurpose is where the material in use is sealed; the material of a
// replacement is beside it.
const ownPurpose = "own/certificate"

type ownMaterial struct {
	Certificate []byte   `json:"certificate,omitempty"` // DER; none while it is being signed
	Chain       [][]byte `json:"chain,omitempty"`       // the intermediates, DER
	Key         []byte   `json:"key"`                   // PKCS #8
}

func (m ownMaterial) signer() (crypto.Signer, error) {
	key, err := x509.ParsePKCS8PrivateKey(m.Key)
	if err != nil {
		return nil, fmt.Errorf("the service's own key is damaged: %w", err)
	}
	return key.(crypto.Signer), nil // all PKCS #8 keys that are made here can sign
}

func (m ownMaterial) pair() (*tls.Certificate, error) {
	key, err := m.signer()
	return &tls.Certificate{Certificate: append([][]byte{m.Certificate}, m.Chain...), PrivateKey: key}, err
}

// OwnCertificate is what the service serves, for a tls.Config: a replacement
// takes effect with the next connection.
func (s *Service) OwnCertificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	return s.serving.Load(), nil
}

// Succession are the endorsements by which clients follow from one certificate
// of the service to the next.
func (s *Service) Succession(ctx context.Context) ([]cert.Endorsement, error) {
	return s.store.Succession.Get(ctx, 50)
}

// OpenOwn opens the service's own certificate, or makes it at the first start.
func (s *Service) OpenOwn(ctx context.Context, name string) error {
	m, err := s.ownMaterial(ctx, ownPurpose)
	if errors.Is(err, store.ErrNotFound) {
		if m, err = makeOwn(name, s.now()); err == nil {
			err = s.putOwn(ctx, ownPurpose, m)
		}
	}
	if err != nil {
		return err
	}
	pair, err := m.pair()
	s.serving.Store(pair)
	return err
}

func (s *Service) ownMaterial(ctx context.Context, purpose string) (ownMaterial, error) {
	var m ownMaterial
	sealed, err := s.store.Secrets.Get(ctx, purpose)
	if err != nil {
		return m, err
	}
	material, err := s.box.Open(purpose, sealed)
	if err == nil {
		err = json.Unmarshal(material, &m)
	}
	if err != nil {
		return m, fmt.Errorf("%w: %v", ErrOtherKey, err)
	}
	return m, nil
}

func (s *Service) putOwn(ctx context.Context, purpose string, m ownMaterial) error {
	material, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return s.store.Secrets.Put(ctx, purpose, s.box.Seal(purpose, material))
}

func makeOwn(host string, now time.Time) (ownMaterial, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return ownMaterial{}, err
	}
	template := x509.Certificate{
		Subject:   pkix.Name{CommonName: "Fresh Seal on " + host},
		NotBefore: now.Add(-5 * time.Minute), NotAfter: now.Add(ownLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true, DNSNames: []string{host, "localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	made, err := cert.Issue(rand.Reader, template, key.Public(), nil, key)
	if err != nil {
		return ownMaterial{}, fmt.Errorf("making the service's own certificate: %w", err)
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	return ownMaterial{Certificate: made.Raw, Key: pkcs8}, err
}

// own does what a replacement of the service's own certificate consists of.
type own struct {
	s *Service
	j job
}

func (o own) next() string { return "own/next/" + replacement.Name(o.j.ID) }

func (o own) before() string { return "own/before/" + replacement.Name(o.j.ID) }

// Act does one of the acts of the verb service. Each may be done twice.
func (o own) Act(ctx context.Context, act string, content []byte) ([]byte, error) {
	o.s.ownLock.Lock()
	defer o.s.ownLock.Unlock()
	switch act {
	case procedure.MakeRequest:
		return o.makeRequest(ctx)
	case procedure.Keep:
		return nil, o.keep(ctx)
	case procedure.LayDown:
		return nil, o.install(ctx, content)
	case procedure.Serve:
		return nil, o.serve(ctx, o.next())
	case procedure.PutBack:
		return nil, o.serve(ctx, o.before())
	case procedure.ClearAway:
		return nil, o.s.store.Secrets.Remove(ctx, o.next())
	}
	return nil, fmt.Errorf("the service knows no act %q", act)
}

func (o own) makeRequest(ctx context.Context) ([]byte, error) {
	m, err := o.s.ownMaterial(ctx, o.next())
	var key crypto.Signer
	switch {
	case errors.Is(err, store.ErrNotFound):
		if key, err = request.NewKey(o.j.Plan.V.Key); err != nil {
			return nil, err
		}
		if m.Key, err = x509.MarshalPKCS8PrivateKey(key); err == nil {
			err = o.s.putOwn(ctx, o.next(), m)
		}
	case err == nil:
		key, err = m.signer()
	}
	if err != nil {
		return nil, err
	}
	made, err := request.Make(o.j.Plan.V, key)
	return made.PEM(), err
}

func (o own) keep(ctx context.Context) error {
	if _, err := o.s.store.Secrets.Get(ctx, o.before()); !errors.Is(err, store.ErrNotFound) {
		return err // kept already
	}
	m, err := o.s.ownMaterial(ctx, ownPurpose)
	if err != nil {
		return err
	}
	return o.s.putOwn(ctx, o.before(), m)
}

func (o own) install(ctx context.Context, content []byte) error {
	m, err := o.s.ownMaterial(ctx, o.next())
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
	return o.s.putOwn(ctx, o.next(), m)
}

// serve puts other material in use, endorsed by what it follows.
func (o own) serve(ctx context.Context, purpose string) error {
	next, err := o.s.ownMaterial(ctx, purpose)
	if err != nil {
		return err
	}
	now, err := o.s.ownMaterial(ctx, ownPurpose)
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
		material, err := json.Marshal(next)
		if err != nil {
			return err
		}
		if err := o.s.store.Succession.Succeed(ctx, ownPurpose, o.s.box.Seal(ownPurpose, material), &e,
			o.s.moment()); err != nil {
			return err
		}
	}
	o.s.serving.Store(pair)
	return nil
}
