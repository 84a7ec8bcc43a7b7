package contract

import (
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/pki/cert"
)

// Due is what must be done, most urgent first.
type Due struct {
	Items []DueSlot `json:"items" required:"true" nullable:"false"` // the first of them
	Total int       `json:"total" required:"true"`
}

// DueSlot is a slot on which somebody must act.
type DueSlot struct {
	Slot
	// once its certificate has expired, nobody can sign in to replace it
	LocksOut bool `json:"locks_out" required:"true"`
}

// Urgent are the slots that people must look at, with the count in each part and the first of them.
type Urgent struct {
	// expired, changed outside of Fresh Seal, or expiring within a week
	Breaking Part `json:"breaking" required:"true"`
	Start    Part `json:"start" required:"true"` // whose replacement must start within a week
	// with a factory certificate, or one with faults, of those that do not break
	Faulty Part `json:"faulty" required:"true"`
	// that could not be read; those that were not read yet are among them
	Unreachable Part `json:"unreachable" required:"true"`
	NotRead     int  `json:"not_read" required:"true"` // that were not read yet
}

// Part is a part of the slots.
type Part struct {
	Items []DueSlot `json:"items" required:"true" nullable:"false"` // the first of them
	Total int       `json:"total" required:"true"`
}

// DueDay is a day on which something is due.
type DueDay struct {
	Day     string    `json:"day" required:"true"` // 2027-03-14, in UTC
	Total   int       `json:"total" required:"true"`
	Entries []DueDate `json:"entries" required:"true" nullable:"false"` // the first of them
}

// DueDate is what is due on a slot on a day.
type DueDate struct {
	Device   string `json:"device" required:"true"`
	Slot     string `json:"slot" required:"true"`
	Expires  bool   `json:"expires" required:"true"`   // its certificate expires; else its replacement must start
	LocksOut bool   `json:"locks_out" required:"true"` // once it has expired, nobody can sign in to replace it
}

// PastReading is one line of a slot's history: what it served, from when to when.
type PastReading struct {
	At      time.Time        `json:"at" required:"true"` // when it was seen first
	Until   *time.Time       `json:"until"`              // when it was seen last; null while that is not known
	SHA256  string           `json:"sha256,omitempty"`
	Subject string           `json:"subject,omitempty"`
	Version string           `json:"version,omitempty"`
	Failure *finding.Failure `json:"failure,omitempty"`
	// whether another certificate is served than before, and who is behind that: a replacement, or nobody that Fresh
	// Seal knows of
	Change string `json:"change" required:"true" enum:"first,none,replacement,unexpected"`
	// the one behind the change
	Replacement string `json:"replacement,omitempty"`
}

// Slot is a slot as the API shows it; see the design's contracts.
type Slot struct {
	Device  string `json:"device" required:"true"`
	Name    string `json:"name" required:"true"`
	Site    string `json:"site" required:"true"`
	Address string `json:"address" required:"true"`
	Port    int    `json:"port" required:"true"`
	// what its further addresses and its device's nodes serve
	Others        []judge.Other     `json:"others" required:"true"`
	Protocol      string            `json:"protocol" required:"true"`
	ServerName    string            `json:"server_name" required:"true"`
	Condition     due.Condition     `json:"condition" required:"true" enum:"unreachable,expired,unexpected,factory,flawed,overdue,due,fresh"`
	Findings      []finding.Finding `json:"findings" required:"true"`
	ExpiresAt     *time.Time        `json:"expires_at"`
	ExpiresInDays *int              `json:"expires_in_days"`
	ActBy         *time.Time        `json:"act_by"`
	ReadAt        *time.Time        `json:"read_at"`
	// the groups of clients that use the slot; none: the fleet
	TrustGroups []string `json:"trust_groups,omitempty"`
	// the device also connects to others with this certificate, as a TLS client
	ClientUse bool   `json:"client_use,omitempty"`
	Identity  string `json:"identity,omitempty"` // outer identity, where it is read by EAP
	Version   string `json:"version,omitempty"`
	Suite     string `json:"suite,omitempty"`
	// what the last closer look showed: a second certificate, the clock, the stapled OCSP response
	Closer      *judge.Closer `json:"closer,omitempty"`
	Certificate *cert.Facts   `json:"certificate,omitempty"`
	Chain       []Link        `json:"chain,omitempty"`
	// which trust groups trust this chain, and what the others lack
	Trust       []Trust `json:"trust,omitempty"`
	Subject     string  `json:"subject,omitempty"`
	Issuer      string  `json:"issuer,omitempty"`    // short name of the certificate's issuer
	KeyType     string  `json:"key_type,omitempty"`  // such as ECDSA P-256
	Signature   string  `json:"signature,omitempty"` // signature algorithm of the certificate
	Replaceable bool    `json:"replaceable" required:"true"`
}

// SlotChange describes a change of a slot; nil fields stay as they are.
type SlotChange struct {
	Address    *string `json:"address,omitempty"`
	Port       *int    `json:"port,omitempty"`
	Protocol   *string `json:"protocol,omitempty"` // with its usual port if none is given
	ServerName *string `json:"server_name,omitempty"`
	Identity   *string `json:"identity,omitempty"`
	Secret     *string `json:"secret,omitempty"` // empty: the slot has none any more
	// the groups of clients that use the slot, in place of those that are there; fleet alone: the usual
	TrustGroups []string `json:"trust_groups,omitempty"`
	// whether the device also connects to others with this certificate, as a TLS client
	ClientUse *bool   `json:"client_use,omitempty"`
	More      []Place `json:"more,omitempty"` // all further addresses, in place of those that are there
}
