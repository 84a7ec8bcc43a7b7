package wire

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
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

// Refuses returns why no connection goes to an address; nil: one may. An address of IPv6 that stands for one of IPv4 is
// refused where that is.
func (g Guard) Refuses(a netip.Addr) error {
	a = a.Unmap().WithZone("")
	for _, p := range g.Never {
		if p.Contains(a) {
			return Forbidden{fmt.Sprintf("no connection goes to %s: the administrator forbids %s", a, p)}
		}
	}
	if inner, ok := standsFor(a); ok {
		if err := g.Refuses(inner); err != nil {
			return fmt.Errorf("%s stands for %s: %w", a, inner, err)
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
		!a.IsGlobalUnicast() || slices.ContainsFunc(inside, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return Forbidden{fmt.Sprintf("no connection goes to %s: it is not an address of the public Internet", a)}
	}
	return nil
}

// inside are networks that are not of the public Internet, beside those that package netip knows (RFC 6890).
var inside = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), // this host; carriers (RFC 6598)
	netip.MustParsePrefix("192.0.0.0/24"), netip.MustParsePrefix("198.18.0.0/15"), // protocols; benchmarks (RFC 2544)
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("fec0::/10"), // reserved; site-local (RFC 3879)
	netip.MustParsePrefix("64:ff9b:1::/48"), // translation within a network (RFC 8215)
}

// Networks of IPv6 whose addresses stand for addresses of IPv4.
var (
	translated = netip.MustParsePrefix("64:ff9b::/96") // RFC 6052
	sixToFour  = netip.MustParsePrefix("2002::/16")    // RFC 3056
	teredo     = netip.MustParsePrefix("2001::/32")    // RFC 4380
	compatible = netip.MustParsePrefix("::/96")        // RFC 4291, 2.5.5.1
)

// standsFor returns the address of IPv4 to which one of IPv6 leads, if there is any.
func standsFor(a netip.Addr) (netip.Addr, bool) {
	if !a.Is6() || a.IsLoopback() || a.IsUnspecified() {
		return a, false
	}
	b := a.As16()
	switch {
	case translated.Contains(a), compatible.Contains(a):
		return netip.AddrFrom4([4]byte(b[12:])), true
	case sixToFour.Contains(a):
		return netip.AddrFrom4([4]byte(b[2:6])), true
	case teredo.Contains(a):
		return netip.AddrFrom4([4]byte{^b[12], ^b[13], ^b[14], ^b[15]}), true
	}
	return a, false
}

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
