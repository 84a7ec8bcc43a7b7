package chain

import (
	"crypto/x509"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
)

// Terms are what a path is judged by.
type Terms struct {
	At     time.Time
	Names  []string // that clients use; each must be among the leaf's
	SPKI   []byte   // the public key asked for, or nil
	Client bool     // the device also connects with it as a TLS client
	Weak   bool     // the device can do no better than a weak leaf: that is a warning, for ever
}

// Judge tells everything that is wrong with a path for clients that hold the
// anchors it was completed with. Findings of severity error are what clients
// refuse.
func Judge(path Path, terms Terms) []finding.Finding {
	leaf := path.Leaf()
	var found []finding.Finding
	if terms.SPKI != nil && !leaf.SameKey(terms.SPKI) {
		found = append(found, finding.KeyDiffers.Found("%s is for another key than the request's", leaf.ShortName()))
	}
	found = append(found, ending(path)...)
	found = append(found, malformed(path)...)
	found = append(found, faults(path.Certificates, terms.At)...)
	found = append(found, names(leaf, terms.Names)...)
	found = append(found, strength(path, terms.Weak)...)
	found = append(found, usages(path)...)
	if terms.Client {
		found = append(found, clientUse(path)...)
	}
	found = append(found, policies(path)...)
	found = append(found, revocation(path)...)
	return append(found, endsFirst(path, terms.At)...)
}

// Valid reports whether the path reaches one of the anchors and keeps the rules of
// RFC 5280, section 6, at that time; policies and revocation aside.
func Valid(path Path, at time.Time) bool {
	return path.Anchored && len(faults(path.Certificates, at)) == 0
}

// ending judges where the path ends.
func ending(path Path) []finding.Finding {
	leaf := path.Leaf()
	switch {
	case path.Anchored:
		return nil
	case leaf.SelfSigned():
		return []finding.Finding{finding.SelfSigned.Found("the certificate of %s is self-signed", leaf.ShortName())}
	case !path.Complete:
		return []finding.Finding{finding.ChainIncomplete.Found("the issuer %s is missing", path.Missing)}
	}
	root := path.Root()
	f := finding.AnchorUnknown.Found("the root “%s” (SHA-256 %s…) is not trusted by the fleet", root.Subject(),
		root.SHA256[:16])
	f.Actions = []next.Action{next.AddRoot.On("fleet").With(root.SHA256)}
	return []finding.Finding{f}
}

// malformed finds what strict readers refuse. It breaks no rule of a path, which
// lenient clients take.
func malformed(path Path) []finding.Finding {
	var found []finding.Finding
	for _, c := range path.Certificates {
		if c.Refused != "" {
			found = append(found, finding.Malformed.Found("%s is not as RFC 5280 wants it: %s", c.ShortName(),
				c.Refused))
		}
	}
	return found
}

// faults returns the breaches of RFC 5280, section 6.1, on the path at that time.
func faults(path []*cert.Certificate, at time.Time) []finding.Finding {
	var found []finding.Finding
	below := 0 // intermediates below the one in hand that are not self-issued
	for i, c := range path {
		found = append(found, period(c, i == 0, at)...)
		if len(c.Rare.UnhandledCriticalExtensions) > 0 {
			found = append(found, finding.UnknownRule.Found("%s has the critical extension %s", c.ShortName(),
				c.Rare.UnhandledCriticalExtensions[0]))
		}
		if i == 0 {
			found = append(found, usage(c)...)
			continue
		}
		found = append(found, authority(c, below)...)
		found = append(found, constraints(c, path[:i])...)
		if !c.SelfIssued() {
			below++
		}
	}
	return found
}

func period(c *cert.Certificate, leaf bool, at time.Time) []finding.Finding {
	code := finding.IssuerExpired
	if leaf {
		code = finding.Expired
	}
	switch {
	case at.After(c.NotAfter):
		return []finding.Finding{code.Found("%s expired on %s", c.ShortName(), day(c.NotAfter))}
	case at.Before(c.NotBefore):
		return []finding.Finding{finding.NotYetValid.Found("%s is not valid before %s", c.ShortName(),
			day(c.NotBefore))}
	}
	return nil
}

func usage(leaf *cert.Certificate) []finding.Finding {
	if leaf.Allows(x509.ExtKeyUsageServerAuth) {
		return nil
	}
	return []finding.Finding{finding.UsageWrong.Found("%s is not for servers", leaf.ShortName())}
}

// clientUse judges what servers that authenticate TLS clients look at (RFC 5280, 4.2.1.12): the use clientAuth, in
// the leaf and, as most of them do, in every authority that is limited to some uses, the root included.
func clientUse(path Path) []finding.Finding {
	var found []finding.Finding
	for i, c := range path.Certificates {
		switch {
		case c.Allows(x509.ExtKeyUsageClientAuth):
		case i == 0:
			found = append(found, finding.UsageWrong.Found("%s is not for TLS clients, and the device connects to "+
				"others with it", c.ShortName()).
				WithRemedy("request a new certificate for both uses, serverAuth and clientAuth; many public "+
					"signers give the first alone"))
		default:
			found = append(found, finding.UsageWrong.Found("%s may not sign for TLS clients, and the device "+
				"connects to others with it", c.ShortName()).
				WithRemedy("ask the signer for a certificate of an authority that is not limited to servers"))
		}
	}
	return found
}

func authority(c *cert.Certificate, below int) []finding.Finding {
	var found []finding.Finding
	if c.Version == 3 && !c.IsAuthority() {
		found = append(found, finding.NotAuthority.Found("%s is no authority", c.ShortName()))
	}
	if c.KeyUsage != 0 && c.KeyUsage&x509.KeyUsageCertSign == 0 {
		found = append(found, finding.NotAuthority.Found("the key of %s may not sign certificates", c.ShortName()))
	}
	if c.MaxPathLen >= 0 && below > c.MaxPathLen {
		found = append(found, finding.PathTooLong.Found("%s allows %d intermediates below it and has %d",
			c.ShortName(), c.MaxPathLen, below))
	}
	return found
}

// usages judges what the keys of the path may be used for, as clients do beyond
// RFC 5280: a handshake is signed (RFC 8446, 4.4.2.2), and an authority that is
// limited to some uses limits those below it.
func usages(path Path) []finding.Finding {
	leaf := path.Leaf()
	var found []finding.Finding
	if leaf.IsAuthority() && len(leaf.Names()) == 0 {
		return nil // no server's: authorities are looked at by themselves
	}
	if ku := leaf.KeyUsage; ku != 0 && ku&x509.KeyUsageDigitalSignature == 0 {
		f := finding.UsageWrong.Found("the key of %s may not sign, as every handshake of today wants",
			leaf.ShortName()).
			WithRemedy("have it signed again with the key usage digitalSignature")
		if ku&x509.KeyUsageKeyEncipherment != 0 {
			f = f.As(finding.Warning) // old clients can still use it
		}
		found = append(found, f)
	}
	if !leaf.SelfSigned() && (leaf.IsAuthority() || leaf.KeyUsage&x509.KeyUsageCertSign != 0) {
		found = append(found, finding.AuthorityMarked.Found("%s is marked as a certification authority (RFC "+
			"5280, 4.2.1.9)", leaf.ShortName()))
	}
	for _, c := range path.Intermediates() {
		if len(usage(c)) > 0 {
			found = append(found, finding.UsageWrong.Found("%s may not sign for servers", c.ShortName()).
				WithRemedy("ask the signer for the intermediate of its server certificates"))
		}
	}
	return found
}

// policies finds an authority that wants a policy named below it where the leaf
// names none.
func policies(path Path) []finding.Finding {
	if path.Leaf().NamesPolicy {
		return nil
	}
	for i, c := range path.Certificates[1:] {
		if after := c.Rare.ExplicitPolicy; after >= 0 && after <= i {
			return []finding.Finding{finding.PolicyMissing.Found("%s wants a policy to be named, and the leaf "+
				"names none", c.ShortName())}
		}
	}
	return nil
}

// revocation finds a leaf that does not say where its revocation can be looked
// up, although an authority above it does: where none does, nobody revokes.
func revocation(path Path) []finding.Finding {
	for _, c := range path.Intermediates() {
		if c.Revocable && !path.Leaf().Revocable {
			return []finding.Finding{finding.NoRevocation.Found("%s does not say where its revocation can be "+
				"looked up, and %s does", path.Leaf().ShortName(), c.ShortName())}
		}
	}
	return nil
}

func names(leaf *cert.Certificate, wanted []string) []finding.Finding {
	if len(leaf.Names()) == 0 && leaf.CommonName() != "" && !leaf.IsAuthority() {
		return []finding.Finding{finding.CommonNameOnly.Found("%s has a common name and no subject alternative names",
			leaf.ShortName())}
	}
	var found []finding.Finding
	if cn := strings.ToLower(leaf.CommonName()); strings.Contains(cn, ".") && !strings.ContainsAny(cn, " /@") &&
		!leaf.Matches(cn) && !leaf.SelfSigned() {
		found = append(found, finding.CommonNameElse.Found("the common name %s is not among the names of the leaf", cn))
	}
	for _, name := range wanted {
		if !leaf.Matches(name) {
			found = append(found, finding.NameMissing.Found("%s is not among the names of %s", name, leaf.ShortName()))
		}
	}
	return found
}

func strength(path Path, weakLeaf bool) []finding.Finding {
	var found []finding.Finding
	for i, c := range path.Certificates {
		severity := finding.Error
		if i == 0 && weakLeaf {
			severity = finding.Warning
		}
		if c.WeakKey() {
			found = append(found, finding.WeakKey.Found("%s has a key of %s", c.ShortName(), c.Key()).As(severity))
		}
		if n := c.SerialNumber; n.Sign() <= 0 || n.BitLen() > 20*8-1 {
			found = append(found, finding.SerialOdd.Found("%s has the serial number %s", c.ShortName(), c.Serial()))
		}
		if c.WeakHash() && !c.SelfSigned() {
			found = append(found, finding.WeakHash.Found("%s is signed with %s", c.ShortName(),
				c.SignatureText()).As(severity))
		}
	}
	return found
}

func endsFirst(path Path, at time.Time) []finding.Finding {
	leaf := path.Leaf()
	for _, c := range path.Certificates[1:] {
		if c.NotAfter.Before(leaf.NotAfter) && c.Within(at) {
			return []finding.Finding{finding.IssuerEndsFirst.Found("%s ends on %s, before the leaf on %s",
				c.ShortName(), day(c.NotAfter), day(leaf.NotAfter))}
		}
	}
	return nil
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }
