// Package pin makes TLS configurations for servers that are trusted by the SHA-256 of their certificate, instead of by
// an authority and a name:
//
//	config := pin.Config(pin.To(recorded))
//
// Everything that talks to a device, a mail server or the service itself by a recorded certificate uses it, so that
// there is one place where the usual verification is off.
package pin

import (
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// Changed is the error of a server that shows another certificate than the recorded ones.
type Changed struct {
	Pinned []string // SHA-256 of those, hex
	Shown  string
}

func (e Changed) Error() string {
	return fmt.Sprintf("the server shows another certificate than the pinned one: its SHA-256 is %s", e.Shown)
}

// Config returns a configuration with which a handshake, a resumed one too, ends in the error of accept for the SHA-256
// (hex, lower case) of the certificate that the server shows. Nothing is sent to a server that is not accepted.
func Config(accept func(sha256 string) error) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, // accept decides instead
		VerifyConnection: func(state tls.ConnectionState) error {
			sum := sha256.Sum256(state.PeerCertificates[0].Raw)
			return accept(hex.EncodeToString(sum[:]))
		}}
}

// To accepts the recorded certificates, by their SHA-256 in hex of either case; all others are Changed.
func To(pins ...string) func(string) error {
	return func(shown string) error {
		if slices.ContainsFunc(pins, func(p string) bool { return strings.EqualFold(p, shown) }) {
			return nil
		}
		return Changed{Pinned: pins, Shown: shown}
	}
}

// Unknown accepts every certificate: for a question by which a certificate is only seen, and nothing secret is sent.
func Unknown(string) error { return nil }
