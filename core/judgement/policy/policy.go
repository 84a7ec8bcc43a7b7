// Package policy holds the rules that a fleet sets for itself, and finds what
// breaks them. Rules are set for the whole fleet, for a site or for a device;
// what is set nearer to a device counts:
//
//	Default  ←  fleet  ←  site  ←  device
package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/window"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
)

// Rules are what is set at one place; what is nil is left to the place above.
type Rules struct {
	RenewalDays     *int     `json:"renewal_days,omitempty"`
	MarginDays      *int     `json:"margin_days,omitempty"`
	ReadMinutes     *int     `json:"read_minutes,omitempty"`
	TurnaroundDays  *int     `json:"turnaround_days,omitempty"`
	MinRSABits      *int     `json:"min_rsa_bits,omitempty"`
	MinECBits       *int     `json:"min_ec_bits,omitempty"`
	MaxLifetimeDays *int     `json:"max_lifetime_days,omitempty"`
	Approval        *string  `json:"approval,omitempty" enum:"nobody,anybody,another"`
	KeepKeys        *bool    `json:"keep_keys,omitempty"`
	KeepSignedDays  *int     `json:"keep_signed_days,omitempty"`
	RequiredNames   []string `json:"required_names,omitempty"`

	Signer       *string          `json:"signer,omitempty"`
	Key          *request.KeyType `json:"key,omitempty"`
	RenewalKey   *string          `json:"renewal_key,omitempty" enum:"new,same"`
	OldSubject   *bool            `json:"old_subject,omitempty"`
	Revocation   *bool            `json:"check_revocation,omitempty"`
	WeakKeys     *bool            `json:"weak_keys,omitempty"`
	ShortNames   *bool            `json:"short_names,omitempty"`
	AddressNames *bool            `json:"address_names,omitempty"`
	ClusterNames *bool            `json:"cluster_names,omitempty"`
	NamePrefixes []string         `json:"name_prefixes,omitempty"`

	ServiceDomains []string `json:"service_domains,omitempty"`
	NodeWildcard   *bool    `json:"node_wildcard,omitempty"`

	Windows       []string `json:"windows,omitempty"`
	Freezes       []string `json:"freezes,omitempty"`
	KeepHolidays  *bool    `json:"keep_holidays,omitempty"`
	RootPinsFirst *bool    `json:"root_pins_first,omitempty"`

	signerDays int // working days that the signer takes; see WithSigner
	times      Times
	windows    window.Windows // Windows, read
	freezes    []window.Freeze
}

// Prepared returns the rules of one place with their windows and freezes read. Texts that cannot be read are left
// out: Check refuses them.
func (r Rules) Prepared() Rules {
	r.windows, _ = window.ParseAll(r.Windows)
	r.freezes, _ = window.ParseFreezes(r.Freezes)
	return r
}

// Touches returns when a device may be touched by these rules. They are laid over each other from prepared ones.
func (r Rules) Touches() window.Times {
	t := window.Times{Sets: []window.Windows{r.windows, r.times.Windows}, Freezes: r.freezes}
	if Is(r.KeepHolidays) {
		t.Off = func(day string) bool { return r.times.Holidays[day] }
	}
	return t
}

// Times are those of a site: when it can be reached, and when nobody works.
type Times struct {
	Windows  window.Windows
	Holidays due.Days
}

// WithTimes returns the rules where these times of a site count.
func (r Rules) WithTimes(t Times) Rules {
	r.times = t
	return r
}

// Whether a replacement makes a new key.
const (
	NewKey  = "new"
	SameKey = "same"
)

// WithSigner returns the rules where this many working days go by until the signer
// answers; 0: nobody knows.
func (r Rules) WithSigner(days int) Rules {
	r.signerDays = days
	return r
}

// KeepSigned is for how many days what was signed is kept for another try.
func (r Rules) KeepSigned() int {
	if r.KeepSignedDays == nil {
		return 30
	}
	return *r.KeepSignedDays
}

// Is reports whether a rule is set and says yes.
func Is(rule *bool) bool { return rule != nil && *rule }

// Who must approve a replacement before the device is changed.
const (
	ApprovedByNobody  = "nobody"
	ApprovedByAnybody = "anybody" // an operator, be it the one who asked
	ApprovedByAnother = "another" // an operator other than the one who asked
)

// mostTimes bounds the windows and the freezes of one place.
const mostTimes = 50

func days(n int) *int { return &n }

func word(w string) *string { return &w }

// Default are the rules if nobody has set any.
var Default = Rules{RenewalDays: days(30), MarginDays: days(7), TurnaroundDays: days(2), MinRSABits: days(2048),
	MinECBits: days(224), MaxLifetimeDays: days(0), Approval: word(ApprovedByNobody), RenewalKey: word(NewKey)}

// Under lays rules of a nearer place over these.
func (r Rules) Under(nearer Rules) Rules {
	lay(&r.RenewalDays, nearer.RenewalDays)
	lay(&r.MarginDays, nearer.MarginDays)
	lay(&r.ReadMinutes, nearer.ReadMinutes)
	lay(&r.TurnaroundDays, nearer.TurnaroundDays)
	lay(&r.MinRSABits, nearer.MinRSABits)
	lay(&r.MinECBits, nearer.MinECBits)
	lay(&r.MaxLifetimeDays, nearer.MaxLifetimeDays)
	lay(&r.Approval, nearer.Approval)
	lay(&r.KeepKeys, nearer.KeepKeys)
	lay(&r.KeepSignedDays, nearer.KeepSignedDays)
	lay(&r.Signer, nearer.Signer)
	lay(&r.Key, nearer.Key)
	lay(&r.RenewalKey, nearer.RenewalKey)
	lay(&r.OldSubject, nearer.OldSubject)
	lay(&r.Revocation, nearer.Revocation)
	lay(&r.WeakKeys, nearer.WeakKeys)
	lay(&r.ShortNames, nearer.ShortNames)
	lay(&r.AddressNames, nearer.AddressNames)
	lay(&r.ClusterNames, nearer.ClusterNames)
	lay(&r.NodeWildcard, nearer.NodeWildcard)
	lay(&r.KeepHolidays, nearer.KeepHolidays)
	lay(&r.RootPinsFirst, nearer.RootPinsFirst)
	if nearer.Windows != nil {
		r.Windows, r.windows = nearer.Windows, nearer.windows
	}
	r.Freezes, r.freezes = slices.Concat(r.Freezes, nearer.Freezes), slices.Concat(r.freezes, nearer.freezes)
	if nearer.RequiredNames != nil {
		r.RequiredNames = nearer.RequiredNames
	}
	if nearer.NamePrefixes != nil {
		r.NamePrefixes = nearer.NamePrefixes
	}
	if nearer.ServiceDomains != nil {
		r.ServiceDomains = nearer.ServiceDomains
	}
	return r
}

func lay[T any](over **T, nearer *T) {
	if nearer != nil {
		*over = nearer
	}
}

// Check checks that the rules make sense.
func (r Rules) Check() error {
	for name, f := range map[string]struct {
		value     *int
		low, high int
	}{
		"renewal_days": {r.RenewalDays, 1, 3650}, "margin_days": {r.MarginDays, 0, 365},
		"turnaround_days": {r.TurnaroundDays, 0, 365}, "read_minutes": {r.ReadMinutes, 1, 43200},
		"keep_signed_days": {r.KeepSignedDays, 0, 365},
		"min_rsa_bits":     {r.MinRSABits, 0, 16384}, "min_ec_bits": {r.MinECBits, 0, 521},
		"max_lifetime_days": {r.MaxLifetimeDays, 0, 36500},
	} {
		if f.value != nil && (*f.value < f.low || *f.value > f.high) {
			return fmt.Errorf("%s is %d, and must be from %d to %d", name, *f.value, f.low, f.high)
		}
	}
	if err := r.checkWords(); err != nil {
		return err
	}
	if _, err := window.ParseAll(r.Windows); err != nil {
		return fmt.Errorf("windows: %w", err)
	}
	if _, err := window.ParseFreezes(r.Freezes); err != nil {
		return fmt.Errorf("freezes: %w", err)
	}
	if len(r.Windows) > mostTimes || len(r.Freezes) > mostTimes {
		return fmt.Errorf("there are more than %d windows or freezes", mostTimes)
	}
	return nil
}

// checkWords checks the rules that are words: choices and names.
func (r Rules) checkWords() error {
	if a := r.Approval; a != nil && !slices.Contains([]string{ApprovedByNobody, ApprovedByAnybody, ApprovedByAnother},
		*a) {
		return fmt.Errorf("approval is %q, and must be nobody, anybody or another", *a)
	}
	if k := r.RenewalKey; k != nil && *k != NewKey && *k != SameKey {
		return fmt.Errorf("renewal_key is %q, and must be new or same", *k)
	}
	if k := r.Key; k != nil && *k != "" && !slices.Contains(request.AllKeyTypes, *k) {
		return fmt.Errorf("no key type is called %q; the key types are %v", *k, request.AllKeyTypes)
	}
	for _, label := range r.NamePrefixes {
		if !request.IsName(label+".example") || strings.Contains(label, "*") {
			return fmt.Errorf("%q is no label of a name", label)
		}
	}
	for _, name := range slices.Concat(r.RequiredNames, r.ServiceDomains) {
		if !request.IsName(request.PlainName(name)) {
			return fmt.Errorf("%q is no name: %s", name, request.NameFlaw(request.PlainName(name)))
		}
	}
	return nil
}

// Due returns the thresholds by which conditions are named; r must be complete, as
// rules laid over Default are.
func (r Rules) Due() due.Policy {
	const day = 24 * time.Hour
	p := due.Policy{Renewal: time.Duration(*r.RenewalDays) * day, Margin: time.Duration(*r.MarginDays) * day,
		Turnaround: time.Duration(*r.TurnaroundDays) * day}
	p.Windows, p.Holidays = r.times.Windows, r.times.Holidays
	if len(r.windows) > 0 { // devices are touched in these alone
		p.Windows = r.windows
	}
	p.Chosen = r.RenewalDays != Default.RenewalDays // the very default is untouched
	if r.signerDays > 0 {
		p.Turnaround, p.WorkingDays = 0, r.signerDays // who knows the signer need not guess
	}
	return p
}

// Names returns the names that a leaf must have: those that clients use and those
// that the rules require, each once.
func (r Rules) Names(used ...string) []string {
	names := slices.Clone(used)
	for _, name := range r.RequiredNames {
		if name = request.PlainName(name); !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// Judge finds what breaks the rules in a path, beyond what clients refuse anyway.
func (r Rules) Judge(path []*cert.Certificate) []finding.Finding {
	var found []finding.Finding
	for i, c := range path {
		if bits, least := r.bits(c); bits < least && !c.WeakKey() {
			f := finding.WeakKey.Found("%s has a key of %s, and the policy wants at least %d bits", c.ShortName(),
				c.Key(), least)
			if i == 0 && Is(r.WeakKeys) {
				f = f.As(finding.Warning)
			}
			found = append(found, f)
		}
	}
	if most := *r.MaxLifetimeDays; most > 0 && !path[0].SelfSigned() {
		if life := path[0].NotAfter.Sub(path[0].NotBefore); life > time.Duration(most)*24*time.Hour {
			found = append(found, finding.LifetimeTooLong.Found("%s lives for %d days, and the policy allows %d",
				path[0].ShortName(), int(life.Hours()/24), most))
		}
	}
	return found
}

// Refuses returns why a key of this type may not be asked for; empty: it may.
func (r Rules) Refuses(key request.KeyType) string {
	kind, bits := key.Size()
	least := *r.MinECBits
	if kind == cert.RSA {
		least = *r.MinRSABits
	}
	if bits >= least || Is(r.WeakKeys) {
		return ""
	}
	return fmt.Sprintf("the policy wants keys of at least %d bits, and %s has %d", least, key.Text(), bits)
}

func (r Rules) bits(c *cert.Certificate) (bits, least int) {
	switch kind, bits := c.KeySize(); kind {
	case cert.RSA:
		return bits, *r.MinRSABits
	case cert.ECDSA:
		return bits, *r.MinECBits
	}
	return 0, 0
}
