package request

import (
	"fmt"
	"net"
	"regexp"
	"strings"

	"golang.org/x/net/idna"
)

// PlainName writes a DNS name in lower case and A-labels (RFC 5890) without the
// dot at the end, an IP address in its shortest form.
func PlainName(name string) string {
	name = strings.TrimSpace(name)
	if bare := strings.TrimSuffix(name, "."); bare != "" {
		name = bare
	}
	if ip := net.ParseIP(name); ip != nil {
		return ip.String()
	}
	if ascii, err := idna.Lookup.ToASCII(name); err == nil && ascii != "" {
		return ascii
	}
	return strings.ToLower(name)
}

// IsName reports whether the text is an IP address or a DNS name, perhaps with a
// wildcard as its first label (RFC 9525, 6.3).
func IsName(name string) bool { return NameFlaw(name) == "" }

var (
	label = regexp.MustCompile(`^[a-z0-9_]([a-z0-9_-]*[a-z0-9_])?$`)
	// numeric is a last label that makes a name look like an IPv4 address to whatever reads it (RFC 1123, 2.1)
	numeric = regexp.MustCompile(`^([0-9]+|0x[0-9a-f]*)$`)
)

// NameFlaw returns why a text is neither an IP address nor a DNS name, perhaps with a wildcard; it is empty where it is
// one.
func NameFlaw(name string) string {
	labels := strings.Split(name, ".")
	last := labels[len(labels)-1]
	switch {
	case net.ParseIP(name) != nil:
		return ""
	case name == "":
		return "it is empty"
	case len(name) > 253:
		return "it is longer than 253 bytes"
	case numeric.MatchString(last):
		return "it ends in a number, so it is taken for an IPv4 address, which has four numbers from 0 to 255"
	}
	if labels[0] == "*" && len(labels) > 2 {
		labels = labels[1:]
	}
	for _, l := range labels {
		switch {
		case l == "":
			return "it begins or ends with a dot, or has two dots in a row"
		case len(l) > 63:
			return "a label of it is longer than 63 bytes"
		case strings.Contains(l, "*"):
			return "a wildcard must be the whole first label, with at least two labels after it"
		case !label.MatchString(l):
			return fmt.Sprintf("%q has other characters than letters, digits, hyphens and underscores, "+
				"or begins or ends with a hyphen", l)
		}
	}
	return ""
}

// AddressFlaw returns why nothing can be reached at a text; it is empty for an IP address or a host name.
func AddressFlaw(address string) string {
	address = strings.ToLower(address)
	flaw := NameFlaw(address)
	if flaw == "" && strings.HasPrefix(address, "*") {
		flaw = "a wildcard is not an address"
	}
	if flaw != "" {
		flaw = fmt.Sprintf("%q is neither an IP address nor a host name: %s", address, flaw)
	}
	return flaw
}
