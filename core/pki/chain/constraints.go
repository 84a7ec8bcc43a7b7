package chain

import (
	"net"
	"slices"
	"strings"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// constraints judges the names of the certificates below an authority by its
// name constraints (RFC 5280, 4.2.1.10). They apply to all that follow in the path
// but self-issued intermediates; below begins with the leaf.
func constraints(authority *cert.Certificate, below []*cert.Certificate) []finding.Finding {
	permitted, excluded := authority.Rare.Permitted, authority.Rare.Excluded
	for i, c := range below {
		if i > 0 && c.SelfIssued() {
			continue
		}
		if name := refused(c, permitted, excluded); name != "" {
			return []finding.Finding{finding.NameNotAllowed.Found("%s may not sign for %s", authority.ShortName(),
				name)}
		}
	}
	return nil
}

// refused returns the first name of a certificate that constraints do not allow. A kind
// of name that is not constrained is allowed.
func refused(c *cert.Certificate, permitted, excluded cert.Subtrees) string {
	for _, name := range c.DNSNames {
		if !allowed(name, permitted.DNS, excluded.DNS, inDomain) {
			return name
		}
	}
	for _, ip := range c.IPAddresses {
		if !allowed(ip, permitted.IP, excluded.IP, func(ip net.IP, n *net.IPNet) bool { return n.Contains(ip) }) {
			return ip.String()
		}
	}
	for _, mail := range c.Mails() {
		if !allowed(mail, permitted.Mail, excluded.Mail, inMailDomain) {
			return mail
		}
	}
	for _, u := range c.Rare.URIs {
		host := u.Hostname()
		constrained := len(permitted.URI)+len(excluded.URI) > 0
		// A URI without a host name cannot be told from what is not allowed.
		if constrained && (host == "" || net.ParseIP(host) != nil) ||
			!allowed(host, permitted.URI, excluded.URI, inHost) {
			return u.String()
		}
	}
	names := c.Rare.DirectoryNames
	if subject := cert.RDNKeys(c.RawSubject); len(subject) > 0 && len(permitted.Directory)+len(excluded.Directory) > 0 {
		names = append(slices.Clone(names), subject)
	}
	for _, name := range names {
		if !allowed(name, permitted.Directory, excluded.Directory, inDirectory) {
			return "a name in this directory (" + c.Subject() + ")"
		}
	}
	return ""
}

func allowed[Name, Subtree any](name Name, permitted, excluded []Subtree, in func(Name, Subtree) bool) bool {
	within := func(list []Subtree) bool {
		return slices.ContainsFunc(list, func(s Subtree) bool { return in(name, s) })
	}
	return !within(excluded) && (len(permitted) == 0 || within(permitted))
}

// inDomain: any DNS name that can be made by adding labels to the left of the
// constraint.
func inDomain(name, domain string) bool {
	name, domain = strings.ToLower(name), strings.ToLower(strings.TrimPrefix(domain, "."))
	return domain == "" || name == domain || strings.HasSuffix(name, "."+domain)
}

// inHost: the constraint of URIs names one host, or with a period in front, all
// below a domain and not the domain itself.
func inHost(host, constraint string) bool {
	host, constraint = strings.ToLower(host), strings.ToLower(constraint)
	if strings.HasPrefix(constraint, ".") {
		return strings.HasSuffix(host, constraint)
	}
	return host == constraint
}

// inMailDomain: a constraint is one mailbox, all mailboxes of one host, or with a
// period in front, all below a domain. The local part counts with its case.
func inMailDomain(mail, constraint string) bool {
	at := strings.LastIndex(mail, "@")
	if at < 0 {
		return false
	}
	if i := strings.LastIndex(constraint, "@"); i >= 0 {
		return mail[:at] == constraint[:i] && strings.EqualFold(mail[at:], constraint[i:])
	}
	return inHost(mail[at+1:], constraint)
}

// inDirectory: the constraint's name is the beginning of the name (RFC 5280, 7.1).
func inDirectory(name, constraint []string) bool {
	return len(name) >= len(constraint) && slices.Equal(name[:len(constraint)], constraint)
}
