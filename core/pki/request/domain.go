package request

import (
	"net"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"
)

// Proof is how a signer has it proven whose a domain is, before it signs.
type Proof struct {
	How  string `json:"how,omitempty" enum:"mail,dns,file"`
	Who  string `json:"who,omitempty"`
	Days int    `json:"days,omitempty"`
}

// ProofWays are the ways of proving a domain.
var ProofWays = []string{"mail", "dns", "file"}

// Steps returns in words what is to be done to prove domains.
func (p Proof) Steps(domains []string) string {
	list := strings.Join(domains, ", ")
	switch p.How {
	case "mail":
		return "The signer sends a mail to an address of each domain (" + list + "), such as hostmaster@ or the " +
			"one in its registration. Have whoever reads it answer it as it says."
	case "dns":
		return "The signer names a record for the DNS of each domain (" + list + "). Have whoever keeps the zone " +
			"put it there, and leave it until the certificate has come."
	}
	return "The signer names a file for the web server of each domain (" + list + "). Have whoever runs it put it " +
		"there, reachable over plain HTTP, and leave it until the certificate has come."
}

// Domains returns the registered domains of names (the part that somebody owns,
// publicsuffix.org), each once, sorted. Addresses are proven one by one.
func Domains(names []string) []string {
	var out []string
	for _, name := range names {
		name = strings.TrimPrefix(name, "*.")
		if net.ParseIP(name) == nil {
			if domain, err := publicsuffix.EffectiveTLDPlusOne(name); err == nil {
				name = domain
			}
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
