package cert

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"errors"
	"fmt"
)

// SignedBy checks that the key of the issuer made this certificate's
// signature. It looks at the signature alone: whether the issuer may sign is
// judged elsewhere. MD5 and SHA-1 are checked as well, since old boxes serve
// them and a path must be found before it can be called weak. With a key out of
// bounds nothing is checked; see Bounded.
func (c *Certificate) SignedBy(issuer *Certificate) error {
	if err := Bounded(issuer.PublicKey()); err != nil {
		return err
	}
	switch c.SignatureAlgorithm {
	case x509.SHA1WithRSA:
		return c.signedWithOldHash(issuer, crypto.SHA1)
	case x509.ECDSAWithSHA1:
		return c.signedWithOldHash(issuer, crypto.SHA1)
	case x509.MD5WithRSA:
		return c.signedWithOldHash(issuer, crypto.MD5)
	}
	key := x509.Certificate{PublicKey: issuer.PublicKey()}
	return key.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature)
}

// signedWithOldHash checks the signatures that crypto/x509 refuses to look at.
func (c *Certificate) signedWithOldHash(issuer *Certificate, hash crypto.Hash) error {
	h := hash.New()
	h.Write(c.RawTBSCertificate)
	digest := h.Sum(nil)
	switch key := issuer.PublicKey().(type) {
	case *rsa.PublicKey:
		return rsa.VerifyPKCS1v15(key, hash, digest, c.Signature)
	case *ecdsa.PublicKey:
		if !ecdsa.VerifyASN1(key, digest, c.Signature) {
			return errors.New("the signature does not fit the key")
		}
		return nil
	}
	return fmt.Errorf("a %s key does not make signatures of this kind", issuer.Key())
}

// WeakHash reports whether the signature is over MD5 or SHA-1.
func (c *Certificate) WeakHash() bool {
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		return true
	}
	return false
}
