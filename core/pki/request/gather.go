package request

import (
	"net"
	"slices"
	"strings"
)

// Candidate is a name that a request may have.
type Candidate struct {
	Name    string
	Source  string // where it is known from, in words
	Derived bool   // by a rule of the policy: it is left out where the signer would refuse it
}

// Gather takes names in their order, each once, in the form of PlainName. It
// says of each where it came from, and of each derived one that is left out, why.
func Gather(candidates []Candidate, t Terms) (names []string, sources, left map[string]string) {
	sources, left = map[string]string{}, map[string]string{}
	for _, c := range candidates {
		name := PlainName(c.Name)
		if name == "" || slices.Contains(names, name) {
			continue
		}
		if c.Derived {
			why := t.refuses(name)
			if !IsName(name) {
				why = "it is no name that a certificate can have"
			}
			if why != "" && left[name] == "" {
				left[name] = c.Source + ": " + why
			}
			if why != "" {
				continue
			}
		}
		names = append(names, name)
		sources[name] = c.Source
	}
	return names, sources, left
}

// Short returns the first label of a name of several; empty if there is none.
func Short(name string) string {
	first, rest, _ := strings.Cut(PlainName(name), ".")
	if rest == "" || first == "*" || net.ParseIP(name) != nil {
		return ""
	}
	return first
}

// Beside returns another label in front of the domain that a name is in; empty
// where it is in none.
func Beside(name, label string) string {
	_, domain, _ := strings.Cut(PlainName(name), ".")
	if domain == "" || net.ParseIP(name) != nil {
		return ""
	}
	return label + "." + domain
}
