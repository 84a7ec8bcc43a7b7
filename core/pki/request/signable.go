package request

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"freshseal/core/judgement/finding"
)

// Terms are what a signer signs.
type Terms struct {
	Public    bool      `json:"public,omitempty"`
	Wildcards bool      `json:"wildcards,omitempty"`
	Domains   []string  `json:"domains,omitempty"`
	Addresses bool      `json:"addresses,omitempty"`
	Fields    []string  `json:"fields,omitempty"`
	Profile   string    `json:"profile,omitempty"`
	Keys      []KeyType `json:"keys,omitempty"`
}

// AnySigner signs whatever it is asked; PublicSigner what publicly trusted
// authorities sign.
var (
	AnySigner    = Terms{Wildcards: true, Addresses: true}
	PublicSigner = Terms{Public: true, Wildcards: true}
)

// special are the domains of special use (RFC 6761, 6762, 7686, 8375, 9476) and
// those that were taken for inside use so often that nobody will ever own them.
var special = map[string]string{
	"local": "RFC 6762", "localhost": "RFC 6761", "test": "RFC 6761", "invalid": "RFC 6761", "example": "RFC 6761",
	"onion": "RFC 7686", "alt": "RFC 9476",
	"home.arpa": "RFC 8375", "internal": "ICANN", "lan": "never delegated", "corp": "never delegated",
	"home": "never delegated", "intranet": "never delegated", "private": "never delegated",
}

// Unsignable finds the names that a signer with these terms will not sign.
func Unsignable(names []string, t Terms) []finding.Finding {
	var found []finding.Finding
	for _, name := range names {
		if why := t.refuses(name); why != "" {
			found = append(found, finding.NameUnsignable.Found("%s will not be signed: %s", name, why))
		}
	}
	return found
}

func (t Terms) refuses(name string) string {
	if ip, err := netip.ParseAddr(name); err == nil {
		switch {
		case t.Public && (ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast()):
			return "it is an address that exists in many networks (RFC 1918, RFC 4193)"
		case !t.Addresses:
			return "this signer signs no IP addresses"
		}
		return ""
	}
	if strings.HasPrefix(name, "*.") && !t.Wildcards {
		return "this signer signs no wildcards"
	}
	if len(t.Domains) > 0 {
		if !t.Public && !strings.Contains(name, ".") || t.owns(name) {
			return ""
		}
		return "this signer signs only under " + strings.Join(t.Domains, ", ")
	}
	if !t.Public {
		return ""
	}
	labels := strings.Split(strings.TrimPrefix(name, "*."), ".")
	if len(labels) == 1 {
		return "it is a single label, which exists inside alone"
	}
	for i := range labels {
		if source, ok := special[strings.Join(labels[i:], ".")]; ok {
			return fmt.Sprintf("nobody can own %s (%s)", strings.Join(labels[i:], "."), source)
		}
	}
	return ""
}

// owns reports whether a name is one of the signer's domains or under one.
func (t Terms) owns(name string) bool {
	return slices.ContainsFunc(t.Domains, func(domain string) bool {
		return name == domain || strings.HasSuffix(name, "."+domain)
	})
}

// Meets finds what a plan lacks for a signer with these terms.
func (p Plan) Meets(t Terms) []finding.Finding {
	found := Unsignable(p.Names, t)
	for _, name := range SubjectFields {
		if *p.Subject.Field(name) != "" || !slices.Contains(t.Fields, name) {
			continue
		}
		if dropped := p.Dropped[name]; dropped != "" {
			found = append(found, finding.PlanInvalid.Found("the signer demands the %s (“%s”), and the family has "+
				"no place for it in its request", name, dropped))
		} else {
			found = append(found, finding.PlanInvalid.Found("the subject lacks the %s, which the signer demands", name))
		}
	}
	if len(t.Keys) > 0 && !slices.Contains(t.Keys, p.Key) {
		found = append(found, finding.PlanInvalid.Found("the signer signs no %s key; it signs %v", p.Key, t.Keys))
	}
	return found
}
