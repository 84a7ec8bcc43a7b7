// Package discovery finds the devices of an undocumented network: which addresses to
// connect to, what the certificates found there say, and which devices they may be.
//
//	ranges, exclusions, ports → Plan → (addresses are read) → Seen → Propose → devices
//
// It connects to nothing.
package discovery

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/pki/request"
)

// Limits of one plan.
const (
	MostTargets = 1_000_000 // addresses times ports
	mostWords   = 1000      // ranges, exclusions or ports
)

// Port is a port and what is spoken there; an empty protocol is TLS from the first byte.
type Port struct {
	Number   int
	Protocol string
}

// Target is one address and port that is looked at. A host that was given by its name is
// Address by name.
type Target struct {
	Address string
	Port
}

// Plan is what is looked at: no more than was asked for.
type Plan struct {
	ranges []span // sorted, none overlaps another, exclusions taken out
	names  []string
	ports  []Port
}

// span is a range of addresses of one family, both ends included.
type span struct{ from, to netip.Addr }

// Read reads what an administrator gives: networks (192.0.2.0/24), ranges (192.0.2.10-192.0.2.20), single
// addresses and host names; networks, ranges and addresses that are left out; and ports (443, or
// 25/smtp). usual names the protocol of a port that is given without one.
func Read(ranges, except, ports []string, usual func(port int) string) (Plan, error) {
	var p Plan
	if len(ranges) > mostWords || len(except) > mostWords || len(ports) > mostWords {
		return p, fmt.Errorf("more than %d ranges, exclusions or ports", mostWords)
	}
	var out []span
	for _, word := range ranges {
		s, err := spanOf(word)
		switch name := request.PlainName(word); {
		case err == nil:
			out = append(out, s)
		case strings.ContainsAny(word, "/") || !request.IsName(name) || strings.Contains(name, "*") ||
			looksNumeric(name):
			return p, err
		case !slices.Contains(p.names, name):
			p.names = append(p.names, name)
		}
	}
	if len(out)+len(p.names) == 0 {
		return p, fmt.Errorf("no range is given")
	}
	out = join(out)
	for _, word := range except {
		s, err := spanOf(word)
		if err != nil {
			return p, err
		}
		out = without(out, s)
	}
	p.ranges = out
	var err error
	if p.ports, err = portsOf(ports, usual); err != nil {
		return p, err
	}
	if n := p.Count(); n < 0 || n > MostTargets {
		return p, fmt.Errorf("it is more than %d addresses and ports", MostTargets)
	}
	if p.Count() == 0 {
		return p, fmt.Errorf("nothing is left of it after the exclusions")
	}
	return p, nil
}

func portsOf(words []string, usual func(port int) string) (out []Port, err error) {
	for _, word := range words {
		number, protocol, named := strings.Cut(word, "/")
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 || n > 65535 {
			return nil, fmt.Errorf("%q is not a port", word)
		}
		if !named {
			protocol = usual(n)
		}
		if port := (Port{n, protocol}); !slices.Contains(out, port) {
			out = append(out, port)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no port is given")
	}
	return out, nil
}

// looksNumeric reports whether a word is meant as an address: 192.0.2.300 is no host's name.
func looksNumeric(word string) bool {
	return !strings.ContainsFunc(word, func(r rune) bool { return r != '.' && r != '-' && (r < '0' || r > '9') })
}

func spanOf(word string) (span, error) {
	word = strings.TrimSpace(word)
	prefix, err := netip.ParsePrefix(word)
	if err == nil && prefix.Addr().Is4In6() { // the same hosts as without ::ffff:, and the same bounds and exceptions
		if prefix.Bits() < 96 {
			return span{}, fmt.Errorf("%q is more than the addresses of IPv4", word)
		}
		prefix = netip.PrefixFrom(prefix.Addr().Unmap(), prefix.Bits()-96)
	}
	if err == nil {
		return span{prefix.Masked().Addr(), last(prefix.Masked())}, nil
	}
	from, to, ranged := strings.Cut(word, "-")
	a, err := netip.ParseAddr(strings.TrimSpace(from))
	b := a
	if err == nil && ranged {
		b, err = netip.ParseAddr(strings.TrimSpace(to))
	}
	a, b = a.Unmap(), b.Unmap()
	if err != nil || a.Zone() != "" || a.BitLen() != b.BitLen() || b.Less(a) {
		return span{}, fmt.Errorf("%q is not a network, a range of addresses, an address or a name", word)
	}
	return span{a, b}, nil
}

// last returns the highest address of a network.
func last(p netip.Prefix) netip.Addr {
	bytes := p.Addr().AsSlice()
	for bit := p.Bits(); bit < p.Addr().BitLen(); bit++ {
		bytes[bit/8] |= 0x80 >> (bit % 8)
	}
	a, _ := netip.AddrFromSlice(bytes)
	return a
}

// join sorts spans and makes one of those that touch.
func join(all []span) []span {
	slices.SortFunc(all, func(a, b span) int { return a.from.Compare(b.from) })
	var out []span
	for _, s := range all {
		if n := len(out); n > 0 && s.from.BitLen() == out[n-1].to.BitLen() &&
			(s.from.Compare(out[n-1].to) <= 0 || s.from == out[n-1].to.Next()) {
			if out[n-1].to.Less(s.to) {
				out[n-1].to = s.to
			}
			continue
		}
		out = append(out, s)
	}
	return out
}

// without takes a span out of others.
func without(all []span, gone span) []span {
	var out []span
	for _, s := range all {
		if s.from.BitLen() != gone.from.BitLen() || gone.to.Less(s.from) || s.to.Less(gone.from) {
			out = append(out, s)
			continue
		}
		if s.from.Less(gone.from) {
			out = append(out, span{s.from, gone.from.Prev()})
		}
		if gone.to.Less(s.to) {
			out = append(out, span{gone.to.Next(), s.to})
		}
	}
	return out
}

// size returns how many addresses a span has, or -1 where they are more than are ever taken.
func (s span) size() int {
	a, b := s.from.AsSlice(), s.to.AsSlice()
	n := 0
	for i := range a {
		n = n<<8 + int(b[i]) - int(a[i])
		if n > MostTargets || n < -MostTargets {
			return -1
		}
	}
	return n + 1
}

// Count returns how many addresses and ports are looked at; -1: more than MostTargets.
func (p Plan) Count() int {
	addresses := len(p.names)
	for _, s := range p.ranges {
		n := s.size()
		if n < 0 || addresses+n > MostTargets {
			return -1
		}
		addresses += n
	}
	return addresses * len(p.ports)
}

// From returns the targets from that one on, with their places in the whole. A box is asked at one port,
// then all others are before it is asked at the next.
func (p Plan) From(n int) iter.Seq2[int, Target] {
	return func(yield func(int, Target) bool) {
		i := 0
		give := func(address string, port Port) bool {
			i++
			return i <= n || yield(i-1, Target{address, port})
		}
		for _, port := range p.ports {
			for _, name := range p.names {
				if !give(name, port) {
					return
				}
			}
			for _, s := range p.ranges {
				for a := s.from; ; a = a.Next() {
					if !give(a.String(), port) {
						return
					}
					if a == s.to {
						break
					}
				}
			}
		}
	}
}
