package judge

import (
	"crypto/x509"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
)

// pathOf completes the path of a served leaf as clients of a group do.
func (s *Snapshot) pathOf(trustGroup string, served []*cert.Certificate, at time.Time) chain.Path {
	roots := s.TrustGroups[trustGroup]
	if roots == nil {
		roots = chain.NewPool()
	}
	known := s.Authorities.With(served[1:]...).With(s.Anchors.All()...)
	for _, held := range s.TrustGroups { // so that a root that is lacking has a name
		known = known.With(held.All()...)
	}
	return chain.Complete(served[0], known, roots, at)
}

// untrusted returns for each group of clients that uses a slot, and does not trust what it serves, which root it lacks.
// Without groups the findings stay as they are: by the fleet.
func (s *Snapshot) untrusted(trustGroups []string, served []*cert.Certificate, at time.Time,
	found []finding.Finding) []finding.Finding {
	if len(trustGroups) == 0 {
		return found
	}
	found = slices.DeleteFunc(found, func(f finding.Finding) bool { return f.Code == finding.AnchorUnknown })
	for _, name := range trustGroups {
		path := s.pathOf(name, served, at)
		root := path.Root()
		if path.Anchored || root == nil { // what is missing is told already
			continue
		}
		f := finding.AnchorUnknown.Found("the root “%s” (SHA-256 %s…) is not trusted by the trust group %s",
			root.Subject(), root.SHA256[:16], name).
			WithRemedy("give the root to these clients, then add it to the trust group")
		f.Actions = []next.Action{next.AddRoot.On(name).With(root.SHA256)}
		found = append(found, f)
	}
	return found
}

// supplicants finds what clients of EAP refuse although browsers accept it. They compare a configured name with the
// certificate, many without wildcards, and want the use serverAuth stated (RFC 5216, 5.3; RFC 9190, 5.2).
func supplicants(leaf *cert.Certificate, overEAP bool) []finding.Finding {
	if !overEAP {
		return nil
	}
	var found []finding.Finding
	if !slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageServerAuth) {
		found = append(found, finding.SupplicantRefuses.Found("%s does not state the extended key usage serverAuth",
			leaf.ShortName()))
	}
	names := leaf.Names()
	if len(names) > 0 && !slices.ContainsFunc(names, func(name string) bool { return !strings.HasPrefix(name, "*.") }) {
		found = append(found, finding.SupplicantRefuses.Found("%s has wildcards alone: %s", leaf.ShortName(),
			strings.Join(names, ", ")).
			WithRemedy("request a new certificate with the name of the RADIUS server"))
	}
	return found
}
