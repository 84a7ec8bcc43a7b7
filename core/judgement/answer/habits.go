package answer

import (
	"crypto/x509"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"

	"freshseal/core/pki/cert"
)

// Habits are what became of the uses and names that a signer was asked for, counted over its answers.
type Habits struct {
	// answers for servers alone since the last one that was for TLS clients too
	Servers int            `json:"servers,omitempty"`
	Kept    map[string]int `json:"kept,omitempty"`    // names that an answer has, by kind
	Dropped map[string]int `json:"dropped,omitempty"` // names that were asked for and left out, by kind
}

// The kinds of names that signers treat differently.
const (
	addressName  = "IP addresses"
	wildcardName = "wildcards"
	singleLabel  = "names without a domain"
	fullName     = "DNS names"
)

func kindOf(name string) string {
	switch {
	case net.ParseIP(name) != nil:
		return addressName
	case strings.HasPrefix(name, "*."):
		return wildcardName
	case !strings.Contains(name, "."):
		return singleLabel
	}
	return fullName
}

// Learn adds what an answer to a request for these names shows. Only one that was accepted tells which uses are usual.
func (h Habits) Learn(leaf *cert.Certificate, asked []string, accepted bool) Habits {
	out := Habits{h.Servers, maps.Clone(h.Kept), maps.Clone(h.Dropped)}
	if out.Kept == nil {
		out.Kept = map[string]int{}
	}
	if out.Dropped == nil {
		out.Dropped = map[string]int{}
	}
	switch {
	case !accepted:
	case leaf.Allows(x509.ExtKeyUsageClientAuth):
		out.Servers = 0
	default:
		out.Servers++
	}
	kept, dropped := map[string]bool{}, map[string]bool{} // a kind counts once for each answer
	have := leaf.Names()
	for _, name := range asked {
		if slices.Contains(have, name) {
			kept[kindOf(name)] = true
		} else {
			dropped[kindOf(name)] = true
		}
	}
	for kind := range kept {
		out.Kept[kind]++
	}
	for kind := range dropped {
		out.Dropped[kind]++
	}
	return out
}

// ServersAlone reports whether the last answer that was accepted was for servers alone.
func (h Habits) ServersAlone() bool { return h.Servers > 0 }

// Texts say in words what the habits are: what was never given.
func (h Habits) Texts() []string {
	var out []string
	if h.ServersAlone() {
		out = append(out, "signs for servers alone, not for TLS clients")
	}
	for _, kind := range slices.Sorted(maps.Keys(h.Dropped)) {
		if n := h.Dropped[kind]; h.Kept[kind] == 0 {
			out = append(out, fmt.Sprintf("leaves out %s (%s)", kind, answers(n)))
		}
	}
	return out
}

// Cautions say what a signer with these habits will leave out of a request with these names and this use.
func (h Habits) Cautions(signer string, names []string, clientUse bool) []string {
	var out []string
	if clientUse && h.ServersAlone() {
		out = append(out, fmt.Sprintf("%s signs for servers alone (%s), and the device connects to others with "+
			"this certificate", signer, answers(h.Servers)))
	}
	seen := map[string]bool{}
	for _, name := range names {
		kind := kindOf(name)
		if n := h.Dropped[kind]; n > 0 && h.Kept[kind] == 0 && !seen[kind] {
			seen[kind] = true
			out = append(out, fmt.Sprintf("%s has left %s out of %s and never kept one; %s is asked for", signer,
				kind, answers(n), name))
		}
	}
	return out
}

func answers(n int) string {
	if n == 1 {
		return "1 answer"
	}
	return fmt.Sprintf("%d answers", n)
}
