package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"

	"freshseal/core/judgement/finding"
)

// unreadable is the code of a certificate that crypto/x509 refuses.
const unreadable = "unreadable-certificate"

// OwnFault is a fault of this side while the way to a slot is found, such as a database that cannot be read: it says
// nothing of the slot.
type OwnFault struct{ Err error }

func (f OwnFault) Error() string { return f.Err.Error() }
func (f OwnFault) Unwrap() error { return f.Err }

// fail records why a slot could not be read.
func (r *Reading) fail(t Target, err error) {
	r.Why = explain(t, err)
	if errors.As(err, new(OwnFault)) {
		r.Own = err
	}
}

// explain returns why a slot could not be read.
func explain(t Target, err error) *finding.Failure {
	var known finding.Failure
	if errors.As(err, &known) { // the way into the site, or the protocol, says it better
		return &known
	}
	if errors.As(err, new(unreached)) {
		return unanswered(t, err)
	}
	var record tls.RecordHeaderError
	var certificate *tls.CertificateVerificationError
	text := err.Error()
	switch {
	case errors.As(err, &record):
		return &finding.Failure{Code: "no-tls", What: fmt.Sprintf("%s does not speak TLS", t),
			Remedy: "check port and protocol"}
	case strings.Contains(text, "failed to parse certificate"), errors.As(err, &certificate),
		strings.Contains(text, "RSA key larger than"):
		return &finding.Failure{Code: unreadable, What: fmt.Sprintf("%s serves a certificate that cannot be read: %v",
			t, err), Remedy: "look at it with openssl s_client -showcerts"}
	case strings.Contains(text, "keys are insecure"): // too small for crypto/rsa to check a signature
		return &finding.Failure{Code: "old-tls", What: fmt.Sprintf("%s has a key so small that nothing it signs "+
			"proves anything", t), Remedy: "replace the certificate"}
	case strings.Contains(text, "invalid signature by the server certificate"):
		return &finding.Failure{Code: "key-not-held", What: fmt.Sprintf("%s serves a certificate whose key it "+
			"does not hold", t), Remedy: "put the key of this certificate on the device, or replace the certificate"}
	case strings.HasSuffix(text, "unrecognized name"):
		return &finding.Failure{Code: "unknown-name", What: fmt.Sprintf("%s serves nothing under the name %s", t,
			t.ServerName), Remedy: "correct the server name of the slot"}
	case isAlert(err):
		return &finding.Failure{Code: "alert", What: fmt.Sprintf("%s ended the handshake: %s", t, reason(err)),
			Remedy: "check the server name and what the service demands of its clients"}
	case timedOut(err):
		return &finding.Failure{Code: "silent-tls", What: fmt.Sprintf("%s takes connections and does not answer a "+
			"handshake", t), Remedy: "check the port; the service may hang, or speak another protocol"}
	case strings.HasPrefix(text, "tls: "):
		return &finding.Failure{Code: "old-tls", What: fmt.Sprintf("%s speaks TLS that cannot be agreed on: %s", t,
			strings.TrimPrefix(text, "tls: ")), Remedy: "update the device or its TLS settings"}
	}
	return unanswered(t, err)
}

// unanswered returns why a connection could not be had, or was lost.
func unanswered(t Target, err error) *finding.Failure {
	var dns *net.DNSError
	var forbidden Forbidden
	switch {
	case errors.As(err, &forbidden):
		return &finding.Failure{Code: "forbidden", What: fmt.Sprintf("%s was not asked: %s", t, forbidden),
			Remedy: "correct the address, or start the service without forbidding it"}
	case errors.As(err, &dns):
		return &finding.Failure{Code: "unknown-host", What: fmt.Sprintf("%s cannot be resolved", t.Address),
			Remedy: "correct the name, or give the address itself"}
	case errors.Is(err, syscall.ECONNREFUSED):
		return &finding.Failure{Code: "refused", What: fmt.Sprintf("%s refuses connections", t),
			Remedy: "check that the service runs and listens on this port"}
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return &finding.Failure{Code: "unreachable", What: fmt.Sprintf("%s is unreachable", t),
			Remedy: "check the routes to this site"}
	case timedOut(err) && t.Protocol.OverEAP():
		return &finding.Failure{Code: "silent", What: fmt.Sprintf("%s did not answer in time", t),
			Remedy: "check that the server knows the address of this service as a network device, with the shared " +
				"secret of this slot; a server does not answer to others"}
	case timedOut(err):
		return &finding.Failure{Code: "silent", What: fmt.Sprintf("%s did not answer in time", t),
			Remedy: "check that the device is on and that no firewall drops the connection"}
	case isEnd(err):
		return &finding.Failure{Code: "closed", What: fmt.Sprintf("%s closed the connection during the handshake", t),
			Remedy: "check the port"}
	}
	return &finding.Failure{Code: "closed", What: fmt.Sprintf("%s could not be read: %v", t, err),
		Remedy: "try again, then check the device"}
}

// isAlert reports whether the box ended the handshake in the way of TLS.
func isAlert(err error) bool {
	var remote *net.OpError // what crypto/tls makes of an alert that it receives
	return errors.As(err, &remote) && remote.Op == "remote error"
}

func timedOut(err error) bool {
	var timeout interface{ Timeout() bool }
	return errors.Is(err, context.DeadlineExceeded) || errors.As(err, &timeout) && timeout.Timeout()
}

// isEnd reports whether the box ended the connection.
func isEnd(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, syscall.EPIPE) || errors.As(err, new(ended))
}

// reason returns what an alert says, or how the connection ended.
func reason(err error) string {
	var remote *net.OpError
	if errors.As(err, &remote) && remote.Op == "remote error" {
		return strings.TrimPrefix(remote.Err.Error(), "tls: ")
	}
	return err.Error()
}
