package wire

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"time"

	"freshseal/core/judgement/finding"

	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
)

// An access-control system shows its certificate inside EAP (RFC 3748), which it speaks over
// RADIUS with switches and access points (RFC 3579). To read it, the reader plays one: with
// the shared secret of a network device, and without any user.
//
//	TLS record → EAP-TLS fragments → EAP-Response → EAP-Message attributes → Access-Request

// The kinds of an EAP packet, and the types that matter here.
const (
	eapRequest  = 1
	eapResponse = 2
	eapFailure  = 4
	eapIdentity = 1
	eapNAK      = 3
)

// The flags of EAP-TLS (RFC 5216, 3.1), which PEAP and TTLS share.
const (
	eapLength = 0x80
	eapMore   = 0x40
	eapStart  = 0x20
)

// Bounds of a conversation.
const (
	eapRounds   = 60               // a chain of 32 kB takes 32
	eapPiece    = 1000             // of TLS in one packet
	mostFlight  = 256 << 10        // of TLS from the server before it waits for an answer
	radiusAgain = time.Second      // until a request that was not answered is sent again
	eapName     = "fresh-seal"     // outer identity; nobody signs in
	nasName     = "fresh-seal-nas" // what calls itself the network device
)

// eapConn carries TLS inside EAP. What is written is sent when an answer is wanted.
type eapConn struct {
	net.Conn
	target  Target
	method  byte
	out, in []byte
	id      byte // of the server's last EAP request
	state   []byte
	rounds  int
	serial  byte
	until   time.Time
}

// openEAP begins a conversation of one EAP method: identity, agreement on the method, start.
func openEAP(method byte) func(context.Context, net.Conn, Target) (net.Conn, error) {
	return func(ctx context.Context, conn net.Conn, t Target) (net.Conn, error) {
		if len(t.Secret) == 0 {
			return nil, finding.Failure{Code: "no-secret", What: fmt.Sprintf("%s cannot be read: no shared "+
				"secret is known", t), Remedy: "give the slot the shared secret of a network device that the " +
				"server knows"}
		}
		c := &eapConn{Conn: conn, target: t, method: method}
		c.until, _ = ctx.Deadline()
		who := t.Identity
		if who == "" {
			who = eapName
		}
		kind, body, err := c.exchange(append([]byte{eapIdentity}, who...))
		for range 3 {
			if err != nil {
				return nil, err
			}
			if kind == method && len(body) > 0 && body[0]&eapStart != 0 {
				return c, nil
			}
			kind, body, err = c.exchange([]byte{eapNAK, method})
		}
		return nil, c.refused(fmt.Sprintf("it offers EAP method %d", kind))
	}
}

func (c *eapConn) refused(said string) error {
	return finding.Failure{Code: "no-eap", What: fmt.Sprintf("%s does not let %s begin: %s", c.target,
		c.target.Protocol, said), Remedy: "allow this EAP method for the network device whose shared secret is " +
		"used, or set another protocol (peap, ttls, eap-tls)"}
}

func (c *eapConn) Write(p []byte) (int, error) {
	if len(c.out)+len(p) > mostFlight {
		return 0, errors.New("too much to send")
	}
	c.out = append(c.out, p...)
	return len(p), nil
}

// Close sends what is still to be said, such as an alert, without waiting for its answer.
func (c *eapConn) Close() error { return c.Conn.Close() }

// SetDeadline bounds the conversation.
func (c *eapConn) SetDeadline(t time.Time) error { c.until = t; return c.Conn.SetDeadline(t) }

// SetReadDeadline bounds the conversation.
func (c *eapConn) SetReadDeadline(t time.Time) error { return c.SetDeadline(t) }

func (c *eapConn) Read(p []byte) (int, error) {
	for len(c.in) == 0 {
		if err := c.flight(); err != nil {
			return 0, err
		}
	}
	n := copy(p, c.in)
	c.in = c.in[n:]
	return n, nil
}

// flight sends all that was written, in pieces, and takes in the server's answer, in pieces.
func (c *eapConn) flight() error {
	total, first := len(c.out), true
	for {
		piece := c.out[:min(len(c.out), eapPiece)]
		c.out = c.out[len(piece):]
		flags := byte(0)
		packet := []byte{c.method, 0}
		if len(c.out) > 0 {
			flags |= eapMore
		}
		if first && len(c.out) > 0 {
			flags |= eapLength
			packet = binary.BigEndian.AppendUint32(packet, uint32(total))
		}
		first = false
		packet[1] = flags
		kind, body, err := c.exchange(append(packet, piece...))
		if err != nil {
			return err
		}
		if kind != c.method || len(body) < 1 {
			return c.refused(fmt.Sprintf("in the middle of it comes EAP method %d", kind))
		}
		if len(c.out) > 0 { // an acknowledgement
			continue
		}
		data := body[1:]
		if body[0]&eapLength != 0 {
			if len(data) < 4 {
				return c.refused("a fragment is torn")
			}
			data = data[4:]
		}
		if c.in = append(c.in, data...); len(c.in) > mostFlight {
			return c.refused("it sends too much")
		}
		if body[0]&eapMore == 0 {
			if len(c.in) == 0 {
				return io.EOF // it has nothing more to say
			}
			return nil
		}
	}
}

// exchange sends the body of an EAP response and returns type and body of the request that
// answers it.
func (c *eapConn) exchange(body []byte) (kind byte, answer []byte, err error) {
	if c.rounds++; c.rounds > eapRounds {
		return 0, nil, c.refused("it does not come to an end")
	}
	packet := []byte{eapResponse, c.id, 0, 0}
	binary.BigEndian.PutUint16(packet[2:], uint16(4+len(body)))
	reply, err := c.radius(append(packet, body...))
	if err != nil {
		return 0, nil, err
	}
	message := rfc2869.EAPMessage_Get(reply)
	said := rfc2865.ReplyMessage_GetString(reply)
	switch {
	case reply.Code == radius.CodeAccessReject || len(message) >= 1 && message[0] == eapFailure:
		if said != "" {
			said = " and says " + shown(said)
		}
		return 0, nil, ended{"it rejects the request" + said, c}
	case reply.Code != radius.CodeAccessChallenge || len(message) < 5 || message[0] != eapRequest ||
		int(binary.BigEndian.Uint16(message[2:])) != len(message):
		return 0, nil, c.refused("its answer is no EAP request")
	}
	c.id, c.state = message[1], rfc2865.State_Get(reply)
	return message[4], message[5:], nil
}

// ended is that the server refused to go on: at the start a failure, later, when the chain has
// been seen, what was to be expected of a user who does not sign in.
type ended struct {
	said string
	by   *eapConn
}

func (e ended) Error() string { return e.said }
func (e ended) Unwrap() error { return e.by.refused(e.said) }

// radius sends a request until it is answered. Answers that were not made with the shared
// secret (RFC 2865, 3; RFC 3579, 3.2) are passed over, as are those to other requests.
func (c *eapConn) radius(eap []byte) (*radius.Packet, error) {
	request, wire, err := c.accessRequest(eap)
	if err != nil {
		return nil, err
	}
	strange := "" // what was wrong with an answer that was not taken
	for buffer := make([]byte, radius.MaxPacketLength); ; {
		if _, err := c.Conn.Write(wire); err != nil {
			return nil, err
		}
		again := time.Now().Add(radiusAgain)
		if !c.until.IsZero() && c.until.Before(again) {
			again = c.until
		}
		c.Conn.SetReadDeadline(again)
		for {
			n, err := c.Conn.Read(buffer)
			if errors.Is(err, os.ErrDeadlineExceeded) && (c.until.IsZero() || time.Now().Before(c.until)) {
				break
			}
			if err != nil && strange != "" {
				return nil, finding.Failure{Code: "wrong-secret",
					What: fmt.Sprintf("%s answers %s", c.target, strange), Remedy: "compare the shared secret of " +
						"the slot with that of the network device on the server"}
			}
			if err != nil {
				return nil, err
			}
			reply, why := c.reply(append([]byte{}, buffer[:n]...), request, wire)
			if reply != nil {
				return reply, nil
			}
			if why != "" {
				strange = why
			}
		}
	}
}

// accessRequest builds the next request around an EAP message.
func (c *eapConn) accessRequest(eap []byte) (request *radius.Packet, wire []byte, err error) {
	c.serial++
	request = &radius.Packet{Code: radius.CodeAccessRequest, Identifier: c.serial, Secret: c.target.Secret}
	if _, err := rand.Read(request.Authenticator[:]); err != nil {
		return nil, nil, err
	}
	who := c.target.Identity
	if who == "" {
		who = eapName
	}
	rfc2865.UserName_SetString(request, who)
	rfc2865.NASIdentifier_SetString(request, nasName)
	rfc2865.ServiceType_Set(request, rfc2865.ServiceType_Value_FramedUser)
	rfc2865.FramedMTU_Set(request, 1400)
	if c.state != nil {
		rfc2865.State_Set(request, c.state)
	}
	if err := rfc2869.EAPMessage_Set(request, eap); err != nil {
		return nil, nil, err
	}
	rfc2869.MessageAuthenticator_Set(request, make([]byte, md5.Size))
	if wire, err = request.MarshalBinary(); err != nil {
		return nil, nil, err
	}
	rfc2869.MessageAuthenticator_Set(request, sum(wire, c.target.Secret))
	wire, err = request.MarshalBinary()
	return request, wire, err
}

// reply returns the packet of an answer to the request, or why it was not made with the shared secret; neither where
// it answers something else.
func (c *eapConn) reply(answer []byte, request *radius.Packet, wire []byte) (reply *radius.Packet, strange string) {
	if !radius.IsAuthenticResponse(answer, wire, c.target.Secret) {
		return nil, "with another shared secret"
	}
	reply, err := radius.Parse(answer, c.target.Secret)
	if err != nil || reply.Identifier != request.Identifier {
		return nil, ""
	}
	if !authentic(answer, request.Authenticator, reply, c.target.Secret) {
		return nil, "without a Message-Authenticator made with the shared secret"
	}
	return reply, ""
}

// authentic checks the Message-Authenticator of an answer, which every answer with an EAP
// message must have (RFC 3579, 3.2): it is made over the packet with the authenticator of the
// request in place of its own, and with zeros in its own place.
func authentic(answer []byte, asked [16]byte, reply *radius.Packet, secret []byte) bool {
	got := rfc2869.MessageAuthenticator_Get(reply)
	if len(got) != md5.Size {
		return false
	}
	copied := append([]byte{}, answer...)
	copy(copied[4:20], asked[:])
	for at := 20; at+2 <= len(copied) && copied[at+1] >= 2; at += int(copied[at+1]) {
		if copied[at] == byte(rfc2869.MessageAuthenticator_Type) && copied[at+1] == 2+md5.Size &&
			at+2+md5.Size <= len(copied) {
			clear(copied[at+2 : at+2+md5.Size])
		}
	}
	return hmac.Equal(got, sum(copied, secret))
}

func sum(packet, secret []byte) []byte {
	mac := hmac.New(md5.New, secret)
	mac.Write(packet)
	return mac.Sum(nil)
}
