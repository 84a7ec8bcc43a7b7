package judge

import (
	"fmt"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/revocation"
)

// Closer is what a closer look at a slot showed, beside its chain.
type Closer struct {
	Second []string              `json:"second,omitempty"`
	Ahead  int                   `json:"clock_ahead_seconds,omitempty"`
	Clock  bool                  `json:"clock_known" required:"true"`
	Staple *revocation.Statement `json:"staple,omitempty"`
	Failed string                `json:"staple_failed,omitempty"`
}

// clockWrong is from where on a clock is a finding: certificates are made to count an hour earlier
// than they were signed, sessions and tokens are not.
const clockWrong = 5 * time.Minute

// findings are those of a closer look; second is the other chain, parsed.
func (s *Snapshot) closer(look *Closer, second []*cert.Certificate, names []string, rules policy.Rules,
	at time.Time) []finding.Finding {
	if look == nil {
		return nil
	}
	var found []finding.Finding
	if off := time.Duration(look.Ahead) * time.Second; off.Abs() > clockWrong {
		way := "ahead"
		if off < 0 {
			way = "behind"
		}
		found = append(found, finding.ClockWrong.Found("its clock is %s %s", roughly(off.Abs()), way))
	}
	if a := look.Staple; a != nil && a.Status == revocation.Revoked {
		found = append(found, finding.Revoked.Found("the response that the device staples says that the "+
			"certificate was revoked%s", when(*a)))
	}
	if look.Failed != "" {
		found = append(found, finding.StapleUnusable.Found("%s", look.Failed))
	}
	if len(second) == 0 {
		return found
	}
	leaf := second[0]
	found = append(found, finding.SecondCertificate.Found("clients that take only %s keys get “%s”, until %s",
		leaf.Key(), leaf.ShortName(), leaf.NotAfter.Format(time.DateOnly)))
	path := s.Path(second, at)
	wrong := append(chain.Judge(path, chain.Terms{At: at, Names: names, Weak: policy.Is(rules.WeakKeys)}),
		rules.Judge(path.Certificates)...)
	if !leaf.SelfSigned() {
		wrong = append(wrong, chain.Served(path, second)...)
	}
	for _, f := range append(wrong, s.revoked(path)...) {
		f.What = fmt.Sprintf("second certificate (%s): %s", leaf.Key(), f.What)
		found = append(found, f)
	}
	return found
}

// roughly says a duration so that the same error of a clock is said in the same words.
func roughly(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24+0.5))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()+0.5))
	}
	return fmt.Sprintf("%d minutes", int(d.Minutes()+0.5))
}

// Revocation is what was last found out about a certificate.
type Revocation struct {
	revocation.Statement
	Source string // the address that said it
	Failed string // why nothing could be found out; then Statement is empty
}

// revoked finds the certificates of a path that were revoked, or of which nobody says it.
func (s *Snapshot) revoked(path chain.Path) []finding.Finding {
	var found []finding.Finding
	for _, c := range path.Certificates {
		switch r, known := s.Revocations[c.SHA256]; {
		case !known:
		case r.Failed != "":
			found = append(found, finding.RevocationUnknown.Found("whether “%s” was revoked is not known: %s",
				c.ShortName(), r.Failed))
		case r.Status == revocation.Revoked:
			found = append(found, finding.Revoked.Found("“%s” was revoked%s; %s says so", c.ShortName(),
				when(r.Statement), r.Source))
		case r.Status == revocation.Unknown:
			found = append(found, finding.RevocationUnknown.Found("%s does not know “%s”", r.Source, c.ShortName()))
		}
	}
	return found
}

// when returns the date and reason of a revocation.
func when(a revocation.Statement) string {
	out := " on " + a.At.UTC().Format(time.DateOnly)
	if a.Reason != "" {
		out += " (" + a.Reason + ")"
	}
	return out
}
