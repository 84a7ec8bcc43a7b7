package wire

import (
	"context"
	"fmt"
	"net"
	"slices"

	"freshseal/core/finding"
)

// Protocol is what a slot speaks before its TLS begins.
type Protocol string

// The protocols. The zero value is TLS from the first byte.
const (
	TLS        Protocol = "tls"
	HTTPS      Protocol = "https" // read as TLS; a closer look asks for the box's clock too
	SMTP       Protocol = "smtp"
	IMAP       Protocol = "imap"
	POP3       Protocol = "pop3"
	LDAP       Protocol = "ldap"
	XMPP       Protocol = "xmpp"
	XMPPServer Protocol = "xmpp-server"
	FTP        Protocol = "ftp"
	PostgreSQL Protocol = "postgresql"
	MySQL      Protocol = "mysql"
	Desktop    Protocol = "rdp"
	PEAP       Protocol = "peap"
	TTLS       Protocol = "ttls"
	EAPTLS     Protocol = "eap-tls"
)

// About is what people are told of a protocol.
type About struct {
	Name     Protocol `json:"name" required:"true"`
	Title    string   `json:"title" required:"true"`
	Port     int      `json:"port" required:"true" description:"where it usually listens"`
	OverEAP  bool     `json:"over_eap" required:"true" description:"read over RADIUS, with a shared secret"`
	Spoken   string   `json:"spoken_as,omitempty" description:"the protocol that this is another name of"`
	protocol          // how it opens
}

type protocol struct {
	open func(ctx context.Context, conn net.Conn, t Target) (net.Conn, error)
}

// abouts are the protocols, and the usual names of services that speak plain TLS.
var abouts = []About{
	{Name: TLS, Title: "TLS from the first byte", Port: 443},
	{Name: HTTPS, Title: "HTTPS", Port: 443},
	{Name: SMTP, Title: "SMTP with STARTTLS (RFC 3207)", Port: 25, protocol: protocol{upgradeSMTP}},
	{Name: IMAP, Title: "IMAP with STARTTLS (RFC 9051, 6.2.1)", Port: 143, protocol: protocol{upgradeIMAP}},
	{Name: POP3, Title: "POP3 with STLS (RFC 2595)", Port: 110, protocol: protocol{upgradePOP3}},
	{Name: LDAP, Title: "LDAP with StartTLS (RFC 4511, 4.14)", Port: 389, protocol: protocol{upgradeLDAP}},
	{Name: XMPP, Title: "XMPP with STARTTLS, as clients do (RFC 6120, 5)", Port: 5222, protocol: protocol{upgradeXMPP}},
	{Name: XMPPServer, Title: "XMPP with STARTTLS, as servers do (RFC 6120, 5)", Port: 5269, protocol: protocol{upgradeXMPP}},
	{Name: FTP, Title: "FTP with AUTH TLS (RFC 4217)", Port: 21, protocol: protocol{upgradeFTP}},
	{Name: PostgreSQL, Title: "PostgreSQL with SSLRequest", Port: 5432, protocol: protocol{upgradePostgreSQL}},
	{Name: MySQL, Title: "MySQL and MariaDB with SSLRequest", Port: 3306, protocol: protocol{upgradeMySQL}},
	{Name: Desktop, Title: "remote desktop with TLS (X.224 negotiation)", Port: 3389, protocol: protocol{upgradeDesktop}},
	{Name: PEAP, Title: "PEAP over RADIUS (RFC 3579)", Port: 1812, OverEAP: true, protocol: protocol{openEAP(25)}},
	{Name: TTLS, Title: "EAP-TTLS over RADIUS (RFC 5281)", Port: 1812, OverEAP: true, protocol: protocol{openEAP(21)}},
	{Name: EAPTLS, Title: "EAP-TLS over RADIUS (RFC 5216)", Port: 1812, OverEAP: true, protocol: protocol{openEAP(13)}},
	{Name: "ldaps", Title: "LDAP over TLS", Port: 636, Spoken: string(TLS)},
	{Name: "smtps", Title: "SMTP over TLS", Port: 465, Spoken: string(TLS)},
	{Name: "imaps", Title: "IMAP over TLS", Port: 993, Spoken: string(TLS)},
	{Name: "pop3s", Title: "POP3 over TLS", Port: 995, Spoken: string(TLS)},
	{Name: "ftps", Title: "FTP over TLS", Port: 990, Spoken: string(TLS)},
	{Name: "sips", Title: "SIP over TLS", Port: 5061, Spoken: string(TLS)},
	{Name: "radsec", Title: "RADIUS over TLS", Port: 2083, Spoken: string(TLS)},
	{Name: "syslog-tls", Title: "syslog over TLS", Port: 6514, Spoken: string(TLS)},
}

// Protocols are all names that a protocol can be given by.
func Protocols() []About { return slices.Clone(abouts) }

// ProtocolNamed finds a protocol by its name, or that of a service which speaks plain TLS.
// An empty name is TLS.
func ProtocolNamed(name string) (About, bool) {
	if name == "" {
		return abouts[0], true
	}
	i := slices.IndexFunc(abouts, func(a About) bool { return string(a.Name) == name })
	if i < 0 {
		return About{}, false
	}
	return abouts[i], true
}

// Reads is the protocol that is spoken under this name.
func (a About) Reads() Protocol {
	if a.Spoken != "" {
		return Protocol(a.Spoken)
	}
	return a.Name
}

// OverEAP says whether a protocol is read over RADIUS, which needs a shared secret.
func (p Protocol) OverEAP() bool {
	about, _ := ProtocolNamed(string(p))
	return about.OverEAP
}

// network is what carries a protocol.
func (p Protocol) network() string {
	if p.OverEAP() {
		return "udp"
	}
	return "tcp"
}

// opened brings a new connection to where TLS begins.
func (t Target) opened(ctx context.Context, conn net.Conn) (net.Conn, error) {
	about, ok := ProtocolNamed(string(t.Protocol))
	if !ok {
		return nil, finding.Failure{Code: "no-tls", What: fmt.Sprintf("%q is no protocol that can be read", t.Protocol), Remedy: "correct the protocol of the slot"}
	}
	if about.open == nil {
		return conn, nil
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	return about.open(ctx, conn, t)
}
