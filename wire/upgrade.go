package wire

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"strings"

	"freshseal/core/judgement/finding"
	"freshseal/core/protocol"
	"freshseal/core/terminal/visible"
)

// Bounds of what a server may say before TLS begins.
const (
	mostLine   = 2 << 10
	mostLines  = 100
	mostStream = 64 << 10
)

// dialog reads a server's answers byte by byte: what follows the last of them is TLS and
// must stay in the connection.
type dialog struct {
	net.Conn
	target Target
}

// line reads one line, without its end.
func (d dialog) line() (string, error) {
	var out []byte
	for one := make([]byte, 1); len(out) < mostLine; {
		if _, err := io.ReadFull(d, one); err != nil {
			return "", err
		}
		if one[0] == '\n' {
			return strings.TrimSuffix(string(out), "\r"), nil
		}
		out = append(out, one[0])
	}
	return "", d.stranger(string(out))
}

// until reads on until one of the ends has come, and returns all of it.
func (d dialog) until(ends ...string) (string, error) {
	var out []byte
	for one := make([]byte, 1); len(out) < mostStream; {
		if _, err := io.ReadFull(d, one); err != nil {
			return "", err
		}
		out = append(out, one[0])
		for _, end := range ends {
			if bytes.HasSuffix(out, []byte(end)) {
				return string(out), nil
			}
		}
	}
	return "", d.stranger(string(out[:200]))
}

// stranger is the failure of a server that speaks another protocol.
func (d dialog) stranger(said string) error {
	return finding.Failure{Code: "no-tls", What: fmt.Sprintf("%s does not speak %s: it says %q", d.target,
		d.target.Protocol, shown(said)), Remedy: "check port and protocol"}
}

// refused is the failure of a server that speaks the protocol, but offers no TLS in it.
func (d dialog) refused(said string) error {
	return finding.Failure{Code: "no-starttls", What: fmt.Sprintf("%s offers no TLS: it says %q", d.target,
		shown(said)), Remedy: "switch TLS on for this service; where it speaks TLS from the first byte, set the " +
		"protocol to tls"}
}

// shown returns a short piece of what a server said.
func shown(said string) string {
	said = visible.Line(said)
	if len(said) > 120 {
		said = strings.ToValidUTF8(said[:120], "") + "…"
	}
	return said
}

// reply reads a reply of SMTP or FTP (RFC 5321, 4.2.1): a code, and on all lines but the
// last a dash behind it.
func (d dialog) reply() (code, text string, err error) {
	for range mostLines {
		line, err := d.line()
		if err != nil {
			return "", "", err
		}
		if code == "" {
			if len(line) < 3 || strings.Trim(line[:3], "0123456789") != "" {
				return "", "", d.stranger(line)
			}
			code = line[:3]
		}
		text += line + "\n"
		if line == code || strings.HasPrefix(line, code+" ") {
			return code, text, nil
		}
	}
	return "", "", d.stranger(text)
}

func (d dialog) say(text string) error {
	_, err := io.WriteString(d, text)
	return err
}

// ask says a line and wants a code as its answer.
func (d dialog) ask(line, want string) (string, error) {
	if err := d.say(line); err != nil {
		return "", err
	}
	code, text, err := d.reply()
	if err == nil && code != want {
		err = d.refused(text)
	}
	return text, err
}

func upgradeSMTP(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	code, text, err := d.reply()
	if err == nil && code != "220" {
		err = d.refused(text)
	}
	if err != nil {
		return nil, err
	}
	if text, err = d.ask("EHLO "+d.literal()+"\r\n", "250"); err != nil {
		return nil, err
	}
	if !strings.Contains(strings.ToUpper(text), "STARTTLS") {
		return nil, d.refused(text)
	}
	_, err = d.ask("STARTTLS\r\n", "220")
	return conn, err
}

// literal returns our address as SMTP writes it (RFC 5321, 4.1.3).
func (d dialog) literal() string {
	host, _, err := net.SplitHostPort(d.LocalAddr().String())
	switch ip := net.ParseIP(host); {
	case err != nil || ip == nil:
		return "[127.0.0.1]"
	case ip.To4() == nil:
		return "[IPv6:" + host + "]"
	}
	return "[" + host + "]"
}

func upgradeFTP(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	code, text, err := d.reply()
	if err == nil && code != "220" {
		err = d.refused(text)
	}
	if err == nil {
		_, err = d.ask("AUTH TLS\r\n", "234")
	}
	return conn, err
}

func upgradePOP3(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	for _, say := range []string{"", "STLS\r\n"} {
		if err := d.say(say); err != nil {
			return nil, err
		}
		line, err := d.line()
		switch {
		case err != nil:
			return nil, err
		case strings.HasPrefix(line, "+OK"):
		case strings.HasPrefix(line, "-ERR"):
			return nil, d.refused(line)
		default:
			return nil, d.stranger(line)
		}
	}
	return conn, nil
}

func upgradeIMAP(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	line, err := d.line()
	if err != nil {
		return nil, err
	}
	if !strings.HasPrefix(line, "* ") {
		return nil, d.stranger(line)
	}
	if err := d.say("a STARTTLS\r\n"); err != nil {
		return nil, err
	}
	for range mostLines {
		if line, err = d.line(); err != nil {
			return nil, err
		}
		switch {
		case strings.HasPrefix(line, "* "):
		case strings.HasPrefix(strings.ToUpper(line), "A OK"):
			return conn, nil
		default:
			return nil, d.refused(line)
		}
	}
	return nil, d.stranger(line)
}

// upgradeLDAP sends the extended request 1.3.6.1.4.1.1466.20037 as message 1.
func upgradeLDAP(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	if err := d.say("\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037"); err != nil {
		return nil, err
	}
	head := make([]byte, 2)
	if _, err := io.ReadFull(d, head); err != nil {
		return nil, err
	}
	length := int(head[1])
	if head[1] >= 0x80 {
		more := make([]byte, head[1]&0x7f)
		if head[0] != 0x30 || len(more) == 0 || len(more) > 4 {
			return nil, d.stranger(string(head))
		}
		if _, err := io.ReadFull(d, more); err != nil {
			return nil, err
		}
		length = 0
		for _, b := range more {
			length = length<<8 | int(b)
		}
	}
	if head[0] != 0x30 || length > mostStream {
		return nil, d.stranger(string(head))
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(d, body); err != nil {
		return nil, err
	}
	// messageID, [APPLICATION 24] with its length, resultCode as ENUMERATED
	at := bytes.Index(body, []byte{0x0a, 0x01})
	if at < 0 || at+2 >= len(body) || bytes.IndexByte(body, 0x78) < 0 {
		return nil, d.stranger(string(body))
	}
	if body[at+2] != 0 {
		return nil, d.refused(fmt.Sprintf("result %d: %s", body[at+2], bytes.Trim(body[at+3:], "\x04\x00\x01")))
	}
	return conn, nil
}

func upgradeXMPP(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	var name strings.Builder
	xml.EscapeText(&name, []byte(t.ServerName))
	space := "jabber:client"
	if t.Protocol == protocol.XMPPServer {
		space = "jabber:server"
	}
	if err := d.say("<?xml version='1.0'?><stream:stream to='" + name.String() + "' xmlns='" + space +
		"' xmlns:stream='http://etherx.jabber.org/streams' version='1.0'>"); err != nil {
		return nil, err
	}
	features, err := d.until("</stream:features>", "<stream:features/>", "</stream:error>")
	if err != nil {
		return nil, err
	}
	if !strings.Contains(features, "urn:ietf:params:xml:ns:xmpp-tls") {
		return nil, d.refused(features)
	}
	if err := d.say("<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>"); err != nil {
		return nil, err
	}
	answer, err := d.until("/>", "</proceed>", "</failure>")
	if err == nil && !strings.Contains(answer, "<proceed") {
		err = d.refused(answer)
	}
	return conn, err
}

// upgradePostgreSQL sends SSLRequest, whose answer is one byte (PostgreSQL, Frontend/Backend
// Protocol, SSL Session Encryption).
func upgradePostgreSQL(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	if err := d.say("\x00\x00\x00\x08\x04\xd2\x16\x2f"); err != nil {
		return nil, err
	}
	answer := make([]byte, 1)
	if _, err := io.ReadFull(d, answer); err != nil {
		return nil, err
	}
	switch answer[0] {
	case 'S':
		return conn, nil
	case 'N':
		return nil, d.refused("N")
	}
	return nil, d.stranger(string(answer))
}

// Capabilities of MySQL's connection phase.
const (
	mysqlProtocol41 = 0x0200
	mysqlTLS        = 0x0800
	mysqlSecure     = 0x8000
)

// upgradeMySQL reads the server's greeting and answers with SSLRequest (MySQL Internals,
// Protocol::SSLRequest).
func upgradeMySQL(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	head := make([]byte, 4)
	if _, err := io.ReadFull(d, head); err != nil {
		return nil, err
	}
	length := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if length > mostLine || length < 1 {
		return nil, d.stranger(string(head))
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(d, body); err != nil {
		return nil, err
	}
	if body[0] == 0xff { // an error packet, such as for a host that is not let in
		return nil, d.refused(string(body[min(3, len(body)):]))
	}
	end := bytes.IndexByte(body, 0) // version 10, then the server's version up to a zero
	if body[0] != 10 || end < 0 || len(body) < end+1+4+8+1+2 {
		return nil, d.stranger(string(body))
	}
	if binary.LittleEndian.Uint16(body[end+1+4+8+1:])&mysqlTLS == 0 {
		return nil, d.refused("no capability TLS, version " + string(body[1:end]))
	}
	request := make([]byte, 4+32)
	request[0], request[3] = 32, 1
	binary.LittleEndian.PutUint32(request[4:], mysqlProtocol41|mysqlTLS|mysqlSecure)
	binary.LittleEndian.PutUint32(request[8:], 1<<24)
	request[12] = 33 // utf8
	return conn, d.say(string(request))
}

// upgradeDesktop asks for TLS in an X.224 connection request (MS-RDPBCGR, 2.2.1.1 and
// 2.2.1.2).
func upgradeDesktop(_ context.Context, conn net.Conn, t Target) (net.Conn, error) {
	d := dialog{conn, t}
	if err := d.say("\x03\x00\x00\x13" + "\x0e\xe0\x00\x00\x00\x00\x00" +
		"\x01\x00\x08\x00\x03\x00\x00\x00"); err != nil {
		return nil, err
	}
	head := make([]byte, 4)
	if _, err := io.ReadFull(d, head); err != nil {
		return nil, err
	}
	length := int(binary.BigEndian.Uint16(head[2:]))
	if head[0] != 3 || length < 11 || length > mostLine {
		return nil, d.stranger(string(head))
	}
	body := make([]byte, length-4)
	if _, err := io.ReadFull(d, body); err != nil {
		return nil, err
	}
	switch {
	case body[1]&0xf0 != 0xd0:
		return nil, d.stranger(string(body))
	case len(body) < 15 || body[7] != 2:
		return nil, d.refused("remote desktop without TLS")
	case binary.LittleEndian.Uint32(body[11:]) == 0:
		return nil, d.refused("remote desktop with its own encryption alone")
	}
	return conn, nil
}
