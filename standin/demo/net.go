package demo

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"syscall"

	_ "freshseal/standin/kinds"
)

var documentation = []netip.Prefix{
	netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("198.51.100.0/24"),
	netip.MustParsePrefix("203.0.113.0/24"),
}

// loopback returns where an address of the documentation ranges (RFC 5737) stands
// in the demo: 192.0.2.11 at 127.20.2.11, 198.51.100.21 at 127.20.100.21.
func loopback(shown string) string {
	p := strings.Split(shown, ".")
	return "127.20." + p[2] + "." + p[3]
}

// Dial connects to the fleet's boxes under the addresses that are shown, and to
// everything else as it is.
func (f *Fleet) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	var dialer net.Dialer
	if place, ok := f.places[""][address]; ok {
		return dialer.DialContext(ctx, network, place)
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if ip, err := netip.ParseAddr(host); err == nil {
		for _, prefix := range documentation {
			if prefix.Contains(ip) {
				// nothing else listens there
				return nil, &net.OpError{Op: "dial", Net: network, Err: syscall.ECONNREFUSED}
			}
		}
	}
	return dialer.DialContext(ctx, network, address)
}

// LookupHost returns the DNS of the made-up world: each member's name leads to its
// shown address, but for one that was moved and whose record was forgotten.
func (f *Fleet) LookupHost(_ context.Context, host string) ([]string, error) {
	for _, m := range f.Members {
		if m.Name == host && host == moved {
			return []string{"198.51.100.99"}, nil
		}
		if m.Name == host {
			return []string{m.Address}, nil
		}
	}
	if strings.HasPrefix(host, "freshseal.") {
		return []string{"127.0.0.1"}, nil
	}
	return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
}

// LookupAddr returns its other direction.
func (f *Fleet) LookupAddr(_ context.Context, address string) ([]string, error) {
	for _, m := range f.Members {
		if m.Address == address {
			return []string{m.Name + "."}, nil
		}
	}
	return nil, &net.DNSError{Err: "no such host", Name: address, IsNotFound: true}
}

// where tells people which loopback address stands for which shown one.
func (f *Fleet) where() string {
	var b strings.Builder
	b.WriteString("device,shown,listens_at\n")
	for _, m := range f.Members {
		for _, port := range []int{m.TLSPort, m.MorePort, m.SSHPort, m.EAPPort} {
			shown := net.JoinHostPort(m.Address, fmt.Sprint(port))
			for _, places := range f.places {
				if place, ok := places[shown]; ok {
					fmt.Fprintf(&b, "%s,%s,%s\n", m.Name, shown, place)
				}
			}
		}
	}
	return b.String()
}
