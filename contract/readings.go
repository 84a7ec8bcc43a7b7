package contract

import (
	"encoding/json"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/pki/cert"
)

// Judging says how far the fleet has been judged again after a change.
type Judging struct {
	Judged int `json:"judged" required:"true"`
	Slots  int `json:"slots" required:"true"`
}

// TrustGroup is a group of clients and how many roots they trust. The trust group
// fleet is the one by which conditions are named.
type TrustGroup struct {
	Name     string   `json:"name" required:"true"`
	Roots    int      `json:"roots" required:"true"`
	Revision Revision `json:"revision" required:"true"`
}

// Export says which roots are wanted, and how.
type Export struct {
	Form       string `json:"form" required:"true" enum:"pem,der,pkcs7,debian,browser-policy,profile,pkcs12"`
	LackedBy   string `json:"lacked_by,omitempty"`  // only those that this other trust group lacks
	Passphrase string `json:"passphrase,omitempty"` // of a PKCS #12 trust store
}

// Trust reports whether a trust group trusts a chain, and what it lacks if not.
type Trust struct {
	TrustGroup string `json:"trust_group" required:"true"`
	Trusted    bool   `json:"trusted" required:"true"`
	Lacks      string `json:"lacks,omitempty"` // the root that it does not hold, or the certificate that is missing
}

// Authorities are the certificates from which chains are completed: intermediates and
// roots that came with some pile. Nobody trusts them for that.
type Authorities struct {
	Count int          `json:"count" required:"true"` // in the pool
	Most  int          `json:"most" required:"true"`  // that the pool takes
	Items []cert.Facts `json:"items" required:"true"` // the first of those that were asked for
}

// Link is one certificate of a drawn chain: as served, or known here and not served.
type Link struct {
	cert.Facts
	// an anchor is a root that the fleet trusts
	Role   string `json:"role" required:"true" enum:"leaf,intermediate,anchor,root,surplus"`
	Served bool   `json:"served" required:"true"`
	PEM    string `json:"pem" required:"true"`

	Extensions []cert.Extension `json:"extensions,omitempty"` // the first ones, in their order
}

// Event is one thing that happened, in order of ID.
type Event struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Kind  string    `json:"kind" required:"true" enum:"stage,step,screen,state,condition,act"`
	About string    `json:"about" required:"true"` // replacement/ID, slot/DEVICE/SLOT, or what an act was asked of
	Who   string    `json:"who,omitempty"`         // of an act
	Stage string    `json:"stage" required:"true"`
	State string    `json:"state" required:"true"` // of a replacement or step, or the condition of a slot
	Text  string    `json:"text,omitempty"`
	// how long a step that began usually takes on devices of this family
	Usual int `json:"usual_seconds,omitempty"`
}

// JSON returns the event on one line.
func (e Event) JSON() []byte {
	line, _ := json.Marshal(e) // plain fields cannot fail
	return line
}

// Policy is the rules of one scope, as the API shows them.
type Policy struct {
	// fleet, site/NAME, tag/NAME or device/NAME; a tag has windows, freezes and keep_holidays alone
	Scope    string       `json:"scope" required:"true"`
	Rules    policy.Rules `json:"rules" required:"true"`
	Revision Revision     `json:"revision" required:"true"`
}

// NewPolicy is the rules that a scope is given.
type NewPolicy struct {
	// fleet, site/NAME, tag/NAME or device/NAME; a tag has windows, freezes and keep_holidays alone
	Scope string       `json:"scope" required:"true"`
	Rules policy.Rules `json:"rules" required:"true"`
}

// Seen is a reading of an address that is not in the inventory.
type Seen struct {
	Address    string            `json:"address" required:"true"`
	Port       int               `json:"port" required:"true"`
	ServerName string            `json:"server_name" required:"true"`
	At         time.Time         `json:"at" required:"true"`
	Protocol   string            `json:"protocol" required:"true"`
	Version    string            `json:"version,omitempty"`
	Suite      string            `json:"suite,omitempty"`
	Chain      []Link            `json:"chain" required:"true"`
	Findings   []finding.Finding `json:"findings" required:"true"`
	Failure    *finding.Failure  `json:"failure,omitempty"`
}

// AskReading is an address that is not in the inventory, and how it is read.
type AskReading struct {
	Address    string `json:"address" required:"true"`
	Port       int    `json:"port,omitempty"`     // that of the protocol where it is left out
	Protocol   string `json:"protocol,omitempty"` // tls, or what is spoken before TLS: see GET /protocols
	ServerName string `json:"server_name,omitempty"`
	Identity   string `json:"identity,omitempty"` // outer identity, for EAP
	Secret     string `json:"secret,omitempty"`   // shared with a RADIUS server, for EAP; it is not kept
}

// Sweep is a reading of the whole fleet, under way or ended.
type Sweep struct {
	ID          string     `json:"id" required:"true"`
	Site        string     `json:"site,omitempty"`        // empty: the whole fleet
	Slots       int        `json:"slots" required:"true"` // to be read; 0 until that is known
	Read        int        `json:"read" required:"true"`
	Unreachable int        `json:"unreachable" required:"true"` // could not be read; known at the end
	BeganAt     time.Time  `json:"began_at" required:"true"`
	EndedAt     *time.Time `json:"ended_at,omitempty"`
	Why         string     `json:"why,omitempty"` // why it ended early
}

// Tally is how many readings were made since the service was started, and how long they took.
type Tally struct {
	Outcomes map[string]uint64  // new, unchanged or unreachable
	Within   map[float64]uint64 // how many took at most so many seconds
	Seconds  float64            // all of them
}

// Protocol is what services speak before their TLS begins.
type Protocol struct {
	Name    string `json:"name" required:"true"`
	Title   string `json:"title" required:"true"`
	Port    int    `json:"port" required:"true"`     // where it usually listens
	OverEAP bool   `json:"over_eap" required:"true"` // read over RADIUS, with a shared secret
	Spoken  string `json:"spoken_as,omitempty"`      // the protocol that this is another name of
}
