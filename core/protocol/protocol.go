// Package protocol lists what services speak before their TLS begins, and the usual names of those that speak TLS at
// once.
//
// A new protocol is a row of the table here, and what is said up to TLS in wire/upgrade.go.
package protocol

import "slices"

// Name is what a slot speaks before its TLS begins.
type Name string

// The protocols. The zero value is TLS from the first byte.
const (
	TLS        Name = "tls"
	HTTPS      Name = "https" // read as TLS; a closer look asks for the box's clock too
	SMTP       Name = "smtp"
	IMAP       Name = "imap"
	POP3       Name = "pop3"
	LDAP       Name = "ldap"
	XMPP       Name = "xmpp"
	XMPPServer Name = "xmpp-server"
	FTP        Name = "ftp"
	PostgreSQL Name = "postgresql"
	MySQL      Name = "mysql"
	Desktop    Name = "rdp"
	PEAP       Name = "peap"
	TTLS       Name = "ttls"
	EAPTLS     Name = "eap-tls"
)

// About is what people are reported a protocol.
type About struct {
	Name    Name
	Title   string
	Port    int  // where it usually listens
	OverEAP bool // read over RADIUS, with a shared secret
	Spoken  Name // the protocol that this is another name of
}

// abouts are the protocols, and the usual names of services that speak plain TLS.
var abouts = []About{
	{Name: TLS, Title: "TLS from the first byte", Port: 443},
	{Name: HTTPS, Title: "HTTPS", Port: 443},
	{Name: SMTP, Title: "SMTP with STARTTLS (RFC 3207)", Port: 25},
	{Name: IMAP, Title: "IMAP with STARTTLS (RFC 9051, 6.2.1)", Port: 143},
	{Name: POP3, Title: "POP3 with STLS (RFC 2595)", Port: 110},
	{Name: LDAP, Title: "LDAP with StartTLS (RFC 4511, 4.14)", Port: 389},
	{Name: XMPP, Title: "XMPP with STARTTLS, as clients do (RFC 6120, 5)", Port: 5222},
	{Name: XMPPServer, Title: "XMPP with STARTTLS, as servers do (RFC 6120, 5)", Port: 5269},
	{Name: FTP, Title: "FTP with AUTH TLS (RFC 4217)", Port: 21},
	{Name: PostgreSQL, Title: "PostgreSQL with SSLRequest", Port: 5432},
	{Name: MySQL, Title: "MySQL and MariaDB with SSLRequest", Port: 3306},
	{Name: Desktop, Title: "remote desktop with TLS (X.224 negotiation)", Port: 3389},
	{Name: PEAP, Title: "PEAP over RADIUS (RFC 3579)", Port: 1812, OverEAP: true},
	{Name: TTLS, Title: "EAP-TTLS over RADIUS (RFC 5281)", Port: 1812, OverEAP: true},
	{Name: EAPTLS, Title: "EAP-TLS over RADIUS (RFC 5216)", Port: 1812, OverEAP: true},
	{Name: "ldaps", Title: "LDAP over TLS", Port: 636, Spoken: TLS},
	{Name: "smtps", Title: "SMTP over TLS", Port: 465, Spoken: TLS},
	{Name: "imaps", Title: "IMAP over TLS", Port: 993, Spoken: TLS},
	{Name: "pop3s", Title: "POP3 over TLS", Port: 995, Spoken: TLS},
	{Name: "ftps", Title: "FTP over TLS", Port: 990, Spoken: TLS},
	{Name: "sips", Title: "SIP over TLS", Port: 5061, Spoken: TLS},
	{Name: "radsec", Title: "RADIUS over TLS", Port: 2083, Spoken: TLS},
	{Name: "syslog-tls", Title: "syslog over TLS", Port: 6514, Spoken: TLS},
}

// All returns all names that a protocol can be given by.
func All() []About { return slices.Clone(abouts) }

// Named finds a protocol by its name, or that of a service which speaks plain TLS.
// An empty name is TLS.
func Named(name string) (About, bool) {
	if name == "" {
		return abouts[0], true
	}
	i := slices.IndexFunc(abouts, func(a About) bool { return string(a.Name) == name })
	if i < 0 {
		return About{}, false
	}
	return abouts[i], true
}

// Reads returns the protocol that is spoken under this name.
func (a About) Reads() Name {
	if a.Spoken != "" {
		return a.Spoken
	}
	return a.Name
}

// OverEAP reports whether a protocol is read over RADIUS, which needs a shared secret.
func (n Name) OverEAP() bool {
	about, _ := Named(string(n))
	return about.OverEAP
}
