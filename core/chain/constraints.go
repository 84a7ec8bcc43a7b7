package chain

import (
	"net"
	"strings"

	"freshseal/core/cert"
	"freshseal/core/finding"
)

// constraints judges the names of the leaf by the name constraints of one
// authority above it (RFC 5280, 4.2.1.10): DNS names and addresses, which are
// what servers have. Critical constraints of other kinds are left to
// UnknownRule by crypto/x509.
func constraints(authority *cert.Certificate, below []*cert.Certificate) []finding.Finding {
	leaf := below[0]
	for _, name := range leaf.DNSNames {
		if anyDomain(authority.Rare.ExcludedDNSDomains, name) ||
			len(authority.Rare.PermittedDNSDomains) > 0 && !anyDomain(authority.Rare.PermittedDNSDomains, name) {
			return []finding.Finding{finding.NameNotAllowed.Found("%s may not sign for %s", authority.ShortName(), name)}
		}
	}
	for _, ip := range leaf.IPAddresses {
		if anyNet(authority.Rare.ExcludedIPRanges, ip) ||
			len(authority.Rare.PermittedIPRanges) > 0 && !anyNet(authority.Rare.PermittedIPRanges, ip) {
			return []finding.Finding{finding.NameNotAllowed.Found("%s may not sign for %s", authority.ShortName(), ip)}
		}
	}
	return nil
}

func anyDomain(domains []string, name string) bool {
	name = strings.ToLower(name)
	for _, d := range domains {
		d = strings.ToLower(strings.TrimPrefix(d, "."))
		if d == "" || name == d || strings.HasSuffix(name, "."+d) {
			return true
		}
	}
	return false
}

func anyNet(nets []*net.IPNet, ip net.IP) bool {
	for _, n := range nets {
		if n.Contains(ip) {
			return true
		}
	}
	return false
}
