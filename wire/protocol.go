package wire

import (
	"context"
	"fmt"
	"net"

	"freshseal/core/judgement/finding"
	"freshseal/core/protocol"
)

// Protocol is what a slot speaks before its TLS begins.
type Protocol = protocol.Name

// openers bring a new connection to where TLS begins; a protocol without one begins with TLS.
var openers = map[Protocol]func(ctx context.Context, conn net.Conn, t Target) (net.Conn, error){
	protocol.SMTP:       upgradeSMTP,
	protocol.IMAP:       upgradeIMAP,
	protocol.POP3:       upgradePOP3,
	protocol.LDAP:       upgradeLDAP,
	protocol.XMPP:       upgradeXMPP,
	protocol.XMPPServer: upgradeXMPP,
	protocol.FTP:        upgradeFTP,
	protocol.PostgreSQL: upgradePostgreSQL,
	protocol.MySQL:      upgradeMySQL,
	protocol.Desktop:    upgradeDesktop,
	protocol.PEAP:       openEAP(25),
	protocol.TTLS:       openEAP(21),
	protocol.EAPTLS:     openEAP(13),
}

// networkOf returns what carries a protocol.
func networkOf(p Protocol) string {
	if p.OverEAP() {
		return "udp"
	}
	return "tcp"
}

// opened brings a new connection to where TLS begins.
func (t Target) opened(ctx context.Context, conn net.Conn) (net.Conn, error) {
	if _, ok := protocol.Named(string(t.Protocol)); !ok {
		return nil, finding.Failure{Code: "no-tls", What: fmt.Sprintf("%q is no protocol that can be read",
			t.Protocol), Remedy: "correct the protocol of the slot"}
	}
	open := openers[t.Protocol]
	if open == nil {
		return conn, nil
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	return open(ctx, conn, t)
}
