package contract

import (
	"fmt"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
)

// Unmatched is a leaf that came and that nobody waits for. It is kept, with who is
// nearest to it, until its request turns up or somebody throws it away.
type Unmatched struct {
	Certificate cert.Facts `json:"certificate" required:"true"`
	Why         string     `json:"why" required:"true"`
	Near        []Near     `json:"near" required:"true"`
	CameAt      time.Time  `json:"came_at" required:"true"`
	CameBy      string     `json:"came_by" required:"true"`
	PEM         string     `json:"pem" required:"true"`
}

// Near is a replacement or slot for which a certificate may be intended.
type Near struct {
	// that waits with another key; none: the slot alone bears the name
	Replacement string   `json:"replacement,omitempty"`
	Device      string   `json:"device" required:"true"`
	Slot        string   `json:"slot" required:"true"`
	Names       []string `json:"names" required:"true"` // that both have
}

func (n Near) String() string {
	if n.Replacement == "" {
		return fmt.Sprintf("%s/%s is known under %s, and no request of it waits", n.Device, n.Slot,
			strings.Join(n.Names, ", "))
	}
	return fmt.Sprintf("%s (%s/%s) waits for %s, with another key", n.Replacement, n.Device, n.Slot,
		strings.Join(n.Names, ", "))
}

// Bench is the authority of your own.
type Bench struct {
	Levels   []BenchLevel `json:"levels" required:"true"`    // the root first
	LeafDays int          `json:"leaf_days" required:"true"` // the longest certificate that it issues
	Root     string       `json:"root" required:"true"`      // its root, PEM
}

// BenchLevel is a certificate of the authority.
type BenchLevel struct {
	Subject    string    `json:"subject" required:"true"`
	SHA256     string    `json:"sha256" required:"true"`
	NotBefore  time.Time `json:"not_before" required:"true"`
	NotAfter   time.Time `json:"not_after" required:"true"`
	PathLength int       `json:"path_length" required:"true"` // how many levels may be below it
}

// BenchSetup sets the authority up again.
type BenchSetup struct {
	BenchPlan
	// the levels below are made again under the root that there is; what is said of the root does not count
	KeepRoot bool `json:"keep_root,omitempty"`
	// SHA-256 of the issuing level that was looked at: somebody else may have set it up meanwhile
	Replaces string `json:"replaces" required:"true"`
}

// SignerIssuer is a certification authority with which a signer signs.
type SignerIssuer struct {
	KeySHA256 string    `json:"key_sha256" required:"true"` // SHA-256 of its public key (subject public key info)
	Subject   string    `json:"subject" required:"true"`
	Days      int       `json:"days,omitempty"`            // the shortest lifetime that was accepted from it
	Confirmed bool      `json:"confirmed" required:"true"` // by a person; else it was learnt from an answer
	KnownBy   string    `json:"known_by" required:"true"`
	KnownAt   time.Time `json:"known_at" required:"true"`
}

// Acceptance names the doubtful answer that a person accepts.
type Acceptance struct {
	// of the certificate that is accepted: another may have come meanwhile
	SHA256 string `json:"sha256" required:"true"`
}

// NewIssuer names an issuer of a signer, by the certificate of the issuer or by its public key where that is known
// already.
type NewIssuer struct {
	// of a root or intermediate that is known here, or of the public key of an issuer of this signer
	SHA256 string `json:"sha256" required:"true"`
}

// Intake is the result of taking in a pile.
type Intake struct {
	Files   []pile.Account `json:"files" required:"true"`
	Answers []Answer       `json:"answers" required:"true"`
}

// IntakeTerms are the options of an intake.
type IntakeTerms struct {
	TrustRoots  bool     // trust the roots in it from now on
	Keys        bool     // take private keys in, for replacements of families that are given their key
	Passphrases []string // of PKCS #12 stores in it
}

// Answer is one leaf of a pile and its outcome.
type Answer struct {
	Leaf        string `json:"leaf" required:"true"` // its common name
	SHA256      string `json:"sha256" required:"true"`
	Replacement string `json:"replacement,omitempty"`
	Device      string `json:"device,omitempty"`
	Slot        string `json:"slot,omitempty"`
	Accepted    bool   `json:"accepted" required:"true"`
	// clients would accept it; a person must accept it first
	Doubtful bool              `json:"doubtful" required:"true"`
	Why      string            `json:"why,omitempty"` // why it was not accepted
	Next     string            `json:"next,omitempty"`
	Actions  []next.Action     `json:"actions,omitempty"` // what a person can do next
	Findings []finding.Finding `json:"findings" required:"true"`
	Chain    []Link            `json:"chain" required:"true"`
	// which trust groups will trust it, and what the others lack
	Trust []Trust `json:"trust" required:"true"`
	// nobody waits for it, and it was kept as unmatched
	Unmatched bool   `json:"unmatched" required:"true"`
	Near      []Near `json:"near" required:"true"` // for whom it may have been meant
}

// Parcel is a bundle of requests that went out to a signer.
type Parcel struct {
	ID       string    `json:"id" required:"true"`
	Signer   string    `json:"signer" required:"true"`
	PackedAt time.Time `json:"packed_at" required:"true"`
	PackedBy string    `json:"packed_by" required:"true"`
	Requests int       `json:"requests" required:"true"`
	Open     int       `json:"open" required:"true"`

	State     string     `json:"state" required:"true" enum:"packed,handed-over,partly-back,complete"`
	HandedTo  string     `json:"handed_to,omitempty"`
	Reference string     `json:"reference,omitempty"` // the signer's number for it
	HandedAt  *time.Time `json:"handed_at,omitempty"`
	BackBy    *time.Time `json:"back_by,omitempty"`        // when the signer should have answered, working days counted
	Late      bool       `json:"late" required:"true"`     // that time is over and something is not back
	Obsolete  int        `json:"obsolete" required:"true"` // requests of it that were asked for again since
	Reminder  string     `json:"reminder,omitempty"`       // what to do about what is late
}

// Handover says to whom a parcel went.
type Handover struct {
	To        string `json:"to" required:"true"`
	Reference string `json:"reference,omitempty"` // the signer's number for it
}

// The signers that are always there.
const (
	BenchSigner  = "bench"
	DeskSigner   = "desk"
	DeviceSigner = "device"
	OwnKeySigner = "own-key" // the certificate is signed with its own key
)

// Signer is a person or authority that signs requests.
type Signer struct {
	Name string `json:"name" required:"true"`
	Kind string `json:"kind" required:"true" enum:"bench,desk,device,own-key"`
	SignerTerms
	// what it leaves out of what it is asked for, learnt from its answers
	Habits []string `json:"habits,omitempty"`
	// the certification authorities with which it signs; an answer under another one waits for a person
	Issuers  []SignerIssuer `json:"issuers,omitempty"`
	Revision Revision       `json:"revision" required:"true"`
}

// SignerTerms describe a signer.
type SignerTerms struct {
	About   string `json:"about" required:"true"`
	Contact string `json:"contact,omitempty"`
	// the steps of its portal, who validates the domain and how
	Notes          string `json:"notes,omitempty"`
	TurnaroundDays int    `json:"turnaround_days,omitempty"` // working days
	// the longest certificate that it issues; 0: not known
	MaxDays int `json:"max_days,omitempty"`
	// the shortest certificate that it issues; a shorter one waits for a person; 0: not known
	MinDays int           `json:"min_days,omitempty"`
	Terms   request.Terms `json:"terms" required:"true"`
	Proof   request.Proof `json:"proof" required:"true"` // how it has domains proven before it signs
	Order   request.Order `json:"order" required:"true"` // the purchase by which it signs
}

// BenchPlan says what the authority bench is to be.
type BenchPlan struct {
	Names        []string `json:"names" required:"true"` // the common names of its levels, the root first: two or three
	Organization string   `json:"organization,omitempty"`
	Country      string   `json:"country,omitempty"` // two letters
	RootDays     int      `json:"root_days" required:"true"`
	BelowDays    int      `json:"below_days" required:"true"` // of each level below the root
	LeafDays     int      `json:"leaf_days" required:"true"`  // the longest certificate that it issues
}
