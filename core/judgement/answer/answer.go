// Package answer finds what is doubtful in a signer's answer that clients would accept: another issuer than the
// signer signs with, a lifetime that is far too short, a certificate that ends before the one it replaces, and
// clients that lose their trust. That a leaf is marked as an authority is found by core/pki/chain.
//
//	found := answer.Doubts(path, answer.Expected{At: now, Issuers: known, Replaces: served})
//
// A doubtful answer is correct by RFC 5280. It is not installed until a person accepts it.
package answer

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// Issuer is a certification authority with which a signer signs, known by its public key: a renewed certificate of
// the same key is the same issuer.
type Issuer struct {
	SPKI    string // SHA-256 of its subject public key info, in hex
	Subject string
	Days    int // the shortest lifetime that was accepted from it; 0: none yet
}

// Expected is what is known about a signer, a slot and its clients before an answer is judged.
type Expected struct {
	At       time.Time
	Signer   string
	Issuers  []Issuer          // none: any issuer is the first one
	MinDays  int               // the shortest lifetime that the signer gives; 0: not known
	MaxDays  int               // the longest; 0: not known
	Lead     time.Duration     // before its end a certificate is due
	Replaces *cert.Certificate // what the slot serves; nil: not known
	Habits   Habits            // of the signer
	Lost     []string          // trust groups that trust what the slot serves and not the answer
}

// Days returns the lifetime of a certificate in whole days; an hour less than a day counts as one.
func Days(c *cert.Certificate) int {
	return int((c.NotAfter.Sub(c.NotBefore) + time.Hour).Hours() / 24)
}

// By returns the issuer of a leaf as it is remembered. issuer is the second certificate of the path.
func By(leaf, issuer *cert.Certificate) Issuer {
	return Issuer{SPKI: cert.Fingerprint(issuer.RawSubjectPublicKeyInfo), Subject: issuer.Subject(), Days: Days(leaf)}
}

// Doubts returns what a person must look at before the leaf of this path is installed. The path is leaf first and may
// be incomplete.
func Doubts(path []*cert.Certificate, e Expected) []finding.Finding {
	leaf := path[0]
	var out []finding.Finding
	var known *Issuer
	if len(path) > 1 && len(e.Issuers) > 0 {
		by := By(leaf, path[1])
		for i, each := range e.Issuers {
			if each.SPKI == by.SPKI {
				known = &e.Issuers[i]
			}
		}
		if known == nil {
			out = append(out, finding.IssuerUnexpected.Found("%s was issued by “%s”; %s signs with %s",
				leaf.ShortName(), path[1].Subject(), e.Signer, names(e.Issuers)))
		}
	}
	out = append(out, short(leaf, known, e)...)
	if old := e.Replaces; old != nil && !old.SelfSigned() && old.NotAfter.After(e.At) &&
		leaf.NotAfter.Before(old.NotAfter) {
		out = append(out,
			finding.EndsBeforeOld.Found("%s expires on %s, before the certificate that it replaces (%s)",
				leaf.ShortName(), day(leaf.NotAfter), day(old.NotAfter)))
	}
	if old := e.Replaces; old != nil && !old.SelfSigned() &&
		slices.Contains(old.ExtKeyUsage, x509.ExtKeyUsageClientAuth) && !leaf.Allows(x509.ExtKeyUsageClientAuth) &&
		!e.Habits.ServersAlone() {
		out = append(out, finding.UseLost.Found("%s is for servers alone; the certificate that it replaces is for "+
			"TLS clients too", leaf.ShortName()))
	}
	if len(e.Lost) > 0 {
		out = append(out, finding.TrustLost.Found("the clients of %s trust the certificate in use and not this one",
			strings.Join(e.Lost, ", ")))
	}
	return out
}

// short finds a lifetime that is shorter than is usual with this signer.
func short(leaf *cert.Certificate, known *Issuer, e Expected) []finding.Finding {
	days, least, said := Days(leaf), e.MinDays, "issues at least"
	if least == 0 && known != nil {
		least, said = known.Days*9/10, "has issued at least"
	}
	switch {
	case least > 0 && days < least:
		return []finding.Finding{finding.LifetimeTooShort.Found("%s is valid for %s, and %s %s %d", leaf.ShortName(),
			count(days), e.Signer, said, least)}
	case least == 0 && e.MaxDays > 0 && days < e.MaxDays/3:
		return []finding.Finding{finding.LifetimeTooShort.Found("%s is valid for %s, and %s issues up to %d",
			leaf.ShortName(), count(days), e.Signer, e.MaxDays)}
	case least == 0 && leaf.NotAfter.Sub(e.At) < e.Lead:
		return []finding.Finding{finding.LifetimeTooShort.Found("%s is valid for %s and would be due for "+
			"renewal at once", leaf.ShortName(), count(days))}
	}
	return nil
}

func count(days int) string {
	if days == 1 {
		return "1 day"
	}
	return fmt.Sprintf("%d days", days)
}

func names(issuers []Issuer) string {
	out := make([]string, len(issuers))
	for i, each := range issuers {
		out[i] = "“" + each.Subject + "”"
	}
	return strings.Join(out, ", ")
}

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }
