package cert

import (
	"crypto/x509"
	"encoding/asn1"
	"net"
	"strings"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// Subtrees are the names that an authority may sign for, or may not (RFC 5280,
// section 4.2.1.10).
type Subtrees struct {
	DNS       []string
	Mail      []string
	URI       []string
	IP        []*net.IPNet
	Directory [][]string // the keys of the relative distinguished names; see RDNKeys
	Other     bool       // and some of a kind that is not read here
}

func (s Subtrees) empty() bool {
	return len(s.DNS)+len(s.Mail)+len(s.URI)+len(s.IP)+len(s.Directory) == 0 && !s.Other
}

const mostSubtrees = 1000

var (
	nameConstraints = asn1.ObjectIdentifier{2, 5, 29, 30}
	mailAttribute   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 9, 1}
)

// addConstraints reads the name constraints of an authority, and what they apply
// to besides DNS names and addresses. Constraints that are read here are no
// unknown rule any more, whatever crypto/x509 thinks of them.
func (r *Rare) addConstraints(x *x509.Certificate) {
	for _, e := range x.Extensions {
		switch {
		case e.Id.Equal(nameConstraints):
			in, list := cryptobyte.String(e.Value), cryptobyte.String(nil)
			if !in.ReadASN1(&list, tags.SEQUENCE) {
				r.Permitted.Other = true
				continue
			}
			ok := readSubtrees(&list, 0, &r.Permitted) && readSubtrees(&list, 1, &r.Excluded)
			if ok && !r.Permitted.Other && !r.Excluded.Other {
				r.UnhandledCriticalExtensions = without(r.UnhandledCriticalExtensions, nameConstraints)
			}
		case e.Id.Equal(subjectAltName):
			r.DirectoryNames = append(r.DirectoryNames, directoryNames(e.Value)...)
		}
	}
}

func without(list []asn1.ObjectIdentifier, id asn1.ObjectIdentifier) []asn1.ObjectIdentifier {
	var out []asn1.ObjectIdentifier
	for _, each := range list {
		if !each.Equal(id) {
			out = append(out, each)
		}
	}
	return out
}

func readSubtrees(in *cryptobyte.String, tag uint8, to *Subtrees) bool {
	var list cryptobyte.String
	var some bool
	if !in.ReadOptionalASN1(&list, &some, tags.Tag(tag).Constructed().ContextSpecific()) {
		to.Other = true
		return false
	}
	for n := 0; some && !list.Empty(); n++ {
		var subtree, value cryptobyte.String
		var kind tags.Tag
		if n > mostSubtrees || !list.ReadASN1(&subtree, tags.SEQUENCE) || !subtree.ReadAnyASN1(&value, &kind) {
			to.Other = true
			return false
		}
		to.add(kind, value)
	}
	return true
}

// add takes one GeneralName in. minimum and maximum are not used by any certificate
// that follows the standard.
func (s *Subtrees) add(kind tags.Tag, value []byte) {
	switch kind {
	case tags.Tag(1).ContextSpecific():
		s.Mail = append(s.Mail, string(value))
	case tags.Tag(2).ContextSpecific():
		s.DNS = append(s.DNS, string(value))
	case tags.Tag(6).ContextSpecific():
		s.URI = append(s.URI, string(value))
	case tags.Tag(7).ContextSpecific():
		half := len(value) / 2
		if len(value) != 8 && len(value) != 32 {
			s.Other = true
			return
		}
		s.IP = append(s.IP, &net.IPNet{IP: net.IP(value[:half]), Mask: net.IPMask(value[half:])})
	case tags.Tag(4).ContextSpecific().Constructed():
		s.Directory = append(s.Directory, RDNKeys(value))
	default:
		s.Other = true
	}
}

// directoryNames returns the directory names among the subject alternative names.
func directoryNames(value []byte) [][]string {
	in, list := cryptobyte.String(value), cryptobyte.String(nil)
	if !in.ReadASN1(&list, tags.SEQUENCE) {
		return nil
	}
	var out [][]string
	for !list.Empty() && len(out) < mostSubtrees {
		var name cryptobyte.String
		var kind tags.Tag
		if !list.ReadAnyASN1(&name, &kind) {
			return out
		}
		if kind == tags.Tag(4).ContextSpecific().Constructed() {
			out = append(out, RDNKeys(name))
		}
	}
	return out
}

// Mails returns the mail addresses that constraints apply to: the alternative names,
// or if there are none, the attribute of old subjects.
func (c *Certificate) Mails() []string {
	if len(c.Rare.EmailAddresses) > 0 {
		return c.Rare.EmailAddresses
	}
	if !strings.Contains(c.subject, "1.2.840.113549.1.9.1") {
		return nil
	}
	var out []string
	for _, a := range c.X509().Subject.Names {
		if text, ok := a.Value.(string); ok && a.Type.Equal(mailAttribute) {
			out = append(out, text)
		}
	}
	return out
}
