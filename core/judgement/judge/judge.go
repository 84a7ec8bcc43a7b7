// Package judge says what a reading means: what is wrong with the chain that a
// slot serves, and so in which condition the slot is.
//
//	reading + what is known of the fleet (Snapshot)  →  Judgement
//
// A snapshot is made when something of it changes, and never changed after: judging
// loads nothing.
package judge

import (
	"net"
	"slices"
	"strconv"
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
)

// Fleet is the scope of the rules that count everywhere.
const Fleet = "fleet"

// Snapshot is what is known of the whole fleet at one moment. It is safe for use
// by several goroutines at once.
type Snapshot struct {
	Version     int64                   // differs from that of every other snapshot
	Anchors     *chain.Pool             // the roots that the fleet trusts
	TrustGroups map[string]*chain.Pool  // the roots that each group of clients trusts
	Authorities *chain.Pool             // from which chains are completed; trusted by nobody for that
	Scopes      map[string]policy.Rules // the rules of fleet, site/NAME, tag/NAME and device/NAME
	Sites       map[string]policy.Times // of those that have any
	Turnaround  map[string]int          // working days until each signer answers
	Defaults    discovery.Defaults      // by which factory certificates are recognized that are not self-signed
	Revocations map[string]Revocation   // by SHA-256; certificates of which nothing bad is known are left out
}

// Place says where a slot is in the fleet.
type Place struct {
	Site, Device string
	Signer       string // who signed what it serves
}

// Rules returns those that count for a slot: its device's over its site's over the
// fleet's.
func (s *Snapshot) Rules(at Place) policy.Rules {
	rules := policy.Default.Under(s.Scopes[Fleet]).Under(s.Scopes["site/"+at.Site]).Under(s.Scopes["device/"+at.Device])
	signer := at.Signer
	if rules.Signer != nil {
		signer = *rules.Signer
	}
	return rules.WithSigner(s.Turnaround[signer]).WithTimes(s.Sites[at.Site])
}

// Touches returns when a device with these tags may be touched: its own windows count, else those of its tags, each of
// which must be open, else those of its site or the fleet. Freezes add up, and the times in which the site can be
// reached count always.
func (s *Snapshot) Touches(at Place, tags []string) window.Times {
	rules, own := s.Rules(at), s.Scopes["device/"+at.Device]
	times := rules.Touches()
	var sets []window.Windows
	for _, tag := range tags {
		of := s.Scopes["tag/"+tag].Touches()
		times.Freezes = append(times.Freezes, of.Freezes...)
		if len(of.Sets[0]) > 0 {
			sets = append(sets, of.Sets[0])
		}
		if policy.Is(s.Scopes["tag/"+tag].KeepHolidays) {
			off := s.Sites[at.Site].Holidays
			times.Off = func(day string) bool { return off[day] }
		}
	}
	if len(sets) > 0 && len(own.Windows) == 0 {
		times.Sets = append(sets, times.Sets[1:]...)
	}
	return times
}

// Slot is what judging must know of a slot besides its reading.
type Slot struct {
	Place
	ServerName  string // the name that clients use; may be empty
	Installed   string // SHA-256 of the leaf that the last replacement installed; empty: none did
	Others      []Other
	Version     string            // of TLS, as it was agreed: "TLS 1.0"
	Remarks     []finding.Finding // what the handshake showed
	Closer      *Closer           // what the last closer look showed; nil: there was none
	Second      []*cert.Certificate
	TrustGroups []string // the groups of clients that use it; none: the fleet
	OverEAP     bool     // its clients are supplicants
	ClientUse   bool     // the device also connects with it as a TLS client
}

// Other is what a further address of a slot serves: one of its own, or that of a node.
type Other struct {
	Address string           `json:"address" required:"true"`
	Port    int              `json:"port" required:"true"`
	Node    string           `json:"node,omitempty"`
	SHA256  string           `json:"sha256,omitempty"`
	Subject string           `json:"subject,omitempty"`
	Failure *finding.Failure `json:"failure,omitempty"`
}

func (o Other) String() string {
	at := net.JoinHostPort(o.Address, strconv.Itoa(o.Port))
	if o.Node != "" {
		at = o.Node + " (" + at + ")"
	}
	return at
}

// differs finds the addresses that do not serve the leaf.
func (s Slot) differs(sha256 string) []finding.Finding {
	var found []finding.Finding
	for _, o := range s.Others {
		switch {
		case o.Failure != nil:
			found = append(found, finding.AddressDiffers.Found("%s could not be read: %s", o, o.Failure.What))
		case o.SHA256 != sha256:
			found = append(found, finding.AddressDiffers.Found("%s serves “%s” (SHA-256 %.16s…), not the "+
				"certificate that the slot's first address serves", o, o.Subject, o.SHA256))
		}
	}
	return found
}

// handshake finds what is wrong with how the slot speaks.
func (s Slot) handshake() []finding.Finding {
	found := slices.Clone(s.Remarks)
	if slices.Contains([]string{"SSLv3", "TLS 1.0", "TLS 1.1"}, s.Version) {
		found = append(found, finding.OldProtocol.Found("it speaks %s at best", s.Version))
	}
	return found
}

// Judgement is what a reading means.
type Judgement struct {
	Findings []finding.Finding
	State    due.State
	Until    time.Time // when it is to be judged again although nothing changes; zero: never
	Path     []string  // fingerprints of the completed path, leaf first
}

// Path completes the path of a served leaf from what was served and what is known.
func (s *Snapshot) Path(served []*cert.Certificate, at time.Time) chain.Path {
	return chain.Complete(served[0], s.Authorities.With(served[1:]...), s.Anchors, at)
}

// Judge judges what a slot serves, leaf first, at that time.
func (s *Snapshot) Judge(served []*cert.Certificate, slot Slot, at time.Time) Judgement {
	rules, path := s.Rules(slot.Place), s.Path(served, at)
	if len(slot.TrustGroups) > 0 {
		path = s.pathOf(slot.TrustGroups[0], served, at)
	}
	var used []string
	if slot.ServerName != "" {
		used = append(used, slot.ServerName)
	}
	names := rules.Names(used...)
	found := append(chain.Judge(path, chain.Terms{At: at, Names: names, Client: slot.ClientUse,
		Weak: policy.Is(rules.WeakKeys)}), rules.Judge(path.Certificates)...)
	leaf := served[0]
	if !leaf.SelfSigned() {
		found = append(found, chain.Served(path, served)...)
		found = append(s.untrusted(slot.TrustGroups, served, at, found), supplicants(leaf, slot.OverEAP)...)
	}
	found = append(append(found, slot.differs(leaf.SHA256)...), slot.handshake()...)
	found = append(append(found, s.revoked(path)...), s.closer(slot.Closer, slot.Second, names, rules, at)...)
	facts := due.Facts{Read: true, NotBefore: leaf.NotBefore, NotAfter: leaf.NotAfter, SelfSigned: leaf.SelfSigned(),
		Installed: slot.Installed, SHA256: leaf.SHA256, Findings: found}
	if known, is := s.Defaults.Of(leaf); is {
		facts.SelfSigned = true
		f := finding.FactoryDefault.Found("it is known as the default of %s", known.About)
		if known.Shared() {
			f = finding.FactoryDefault.Found("it is known as the default of %s, and every device of the kind has "+
				"the same key", known.About).As(finding.Error)
		}
		found = append(found, f)
		facts.Findings = found
	}
	if len(slot.Second) > 0 && slot.Second[0].SHA256 == slot.Installed {
		facts.SHA256 = slot.Installed // a replacement gave it the one of its two certificates
	}
	until := turns(append(slices.Clone(path.Certificates), slot.Second...), at)
	return Judgement{Findings: found, State: due.StateOf(facts, rules.Due()), Until: until, Path: path.Fingerprints()}
}

// Unreachable judges a slot that could not be read.
func (s *Snapshot) Unreachable(why finding.Failure, slot Slot) Judgement {
	found := []finding.Finding{finding.Unreadable.Found("%s", why.What).WithRemedy("%s", why.Remedy)}
	return Judgement{Findings: found, State: due.StateOf(due.Facts{Installed: slot.Installed, Findings: found},
		s.Rules(slot.Place).Due())}
}

// turns returns the next moment at which a certificate of a path begins or ends.
func turns(path []*cert.Certificate, at time.Time) time.Time {
	var next time.Time
	for _, c := range path {
		for _, moment := range []time.Time{c.NotBefore, c.NotAfter} {
			if moment.After(at) && (next.IsZero() || moment.Before(next)) {
				next = moment
			}
		}
	}
	return next
}
