package wire

import (
	"fmt"
	"net"
	"net/netip"
	"syscall"
)

// Guard says to which addresses no connection is opened. It is asked when the address
// is known, after DNS and for each redirect: a name that leads to another address the
// second time gains nothing.
type Guard struct {
	Never  []netip.Prefix // to these not at all
	Inside bool           // refuse what is not of the public Internet, but for Except
	Except []netip.Prefix
}

// Forbidden is an address to which no connection goes.
type Forbidden struct{ why string }

func (f Forbidden) Error() string { return f.why }

// Refuses says why no connection goes to an address; nil: one may.
func (g Guard) Refuses(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	for _, p := range g.Never {
		if p.Contains(a) {
			return Forbidden{fmt.Sprintf("no connection goes to %s: the administrator forbids %s", a, p)}
		}
	}
	if !g.Inside {
		return nil
	}
	for _, p := range g.Except {
		if p.Contains(a) {
			return nil
		}
	}
	if a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() ||
		shared.Contains(a) || !a.IsGlobalUnicast() {
		return Forbidden{fmt.Sprintf("no connection goes to %s: it is not an address of the public Internet", a)}
	}
	return nil
}

// shared is the address space of carriers (RFC 6598), inside as well.
var shared = netip.MustParsePrefix("100.64.0.0/10")

// Control is a net.Dialer's: it refuses connections as Refuses does.
func (g Guard) Control(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return err
	}
	return g.Refuses(a)
}
