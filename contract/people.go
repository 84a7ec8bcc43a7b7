package contract

import (
	"slices"
	"time"
)

// Feed is a calendar that programs read at a secret address. Whoever knows the address sees the
// names of the slots and their dates, and nothing else.
type Feed struct {
	ID     string    `json:"id" required:"true"`
	User   string    `json:"user" required:"true"`
	Site   string    `json:"site" required:"true"` // empty: the whole fleet
	EndsAt time.Time `json:"ends_at" required:"true"`
	// only in the answer to making it: the secret address, below that of the service
	Path string `json:"path,omitempty"`
}

// AuditEntry is a line of the audit log as the API shows it.
type AuditEntry struct {
	ID    int64     `json:"id" required:"true"`
	At    time.Time `json:"at" required:"true"`
	Who   string    `json:"who" required:"true"`
	What  string    `json:"what" required:"true"`
	About string    `json:"about" required:"true"`
	// HMAC-SHA256 over the entry and the hash before it, with a key from the strongbox
	Hash string `json:"hash" required:"true"`
	// the session or token by which it was asked for, with its factors; empty: the service did it by its rules
	Through string `json:"through,omitempty"`
	Address string `json:"address,omitempty"` // from which that was used
}

// Head is the newest entry of the audit log. Who notes it elsewhere sees later whether the
// end of the audit log was cut off.
type Head struct {
	ID   int64     `json:"id" required:"true"`
	Hash string    `json:"hash" required:"true"`
	At   time.Time `json:"at" required:"true"`
}

// Verification is the result of verifying the audit log.
type Verification struct {
	Entries int    `json:"entries" required:"true"` // that hold, from the first on
	Whole   bool   `json:"whole" required:"true"`
	Fault   string `json:"fault,omitempty"`
}

// AuditStream is where the audit log is sent to, as it grows, and how far it was.
type AuditStream struct {
	NewAuditStream
	Sent   int64      `json:"sent" required:"true"`   // number of the last entry that was sent; 0: none
	Newest int64      `json:"newest" required:"true"` // number of the newest entry
	SentAt *time.Time `json:"sent_at,omitempty"`      // when the last ones were
	HeadAt *time.Time `json:"head_at,omitempty"`      // when the newest entry was last told
	Error  string     `json:"error,omitempty"`        // why the last try failed
}

// NewAuditStream says where the audit log is to be sent to.
type NewAuditStream struct {
	// a channel of syslog that gets every entry, with a number so that a gap shows; empty: none
	Channel string `json:"channel" required:"true"`
	// a channel that is told the newest entry each day, to be compared later; empty: none
	HeadChannel string `json:"head_channel" required:"true"`
}

// FileVerification is the result of verifying an exported part of the audit log.
type FileVerification struct {
	File    string `json:"file" required:"true"`
	First   int64  `json:"first" required:"true"` // numbers of its entries
	Last    int64  `json:"last" required:"true"`
	Entries int64  `json:"entries" required:"true"`
	Whole   bool   `json:"whole" required:"true"`
	Fault   string `json:"fault,omitempty"`
}

// AuditFilter narrows the audit log; empty fields do not.
type AuditFilter struct {
	Who   string `query:"who" json:"-"`
	Text  string `query:"text" json:"-" description:"somewhere in what was done, and to what"`
	From  string `query:"from" json:"-" description:"a day or a time in RFC 3339"`
	Until string `query:"until" json:"-" description:"a day, which is included, or a time in RFC 3339"`
}

// Role is the set of things that a user may do.
type Role string

// The roles, each may do what the ones before it may.
const (
	Monitor  Role = "monitor"  // read the metrics, and nothing else; of tokens alone
	Viewer   Role = "viewer"   // look
	Approver Role = "approver" // approve replacements, and change nothing else
	Operator Role = "operator" // read, replace, pack and take in
	Admin    Role = "admin"    // everything
)

// Roles are all roles, the least first.
var Roles = []Role{Monitor, Viewer, Approver, Operator, Admin}

// Reaches reports whether the role includes the needed one.
func (r Role) Reaches(needed Role) bool {
	return slices.Contains(Roles, r) && slices.Index(Roles, r) >= slices.Index(Roles, needed)
}

// User is a person who may sign in, as the API shows it.
type User struct {
	Name    string    `json:"name" required:"true"`
	Role    Role      `json:"role" required:"true" enum:"viewer,approver,operator,admin"`
	AddedAt time.Time `json:"added_at" required:"true"`
	// has a second factor: an authenticator that makes codes
	Factor bool `json:"factor" required:"true"`
}

// NewUser describes a user to add.
type NewUser struct {
	Name     string `json:"name" required:"true"`
	Role     Role   `json:"role" required:"true" enum:"viewer,approver,operator,admin"`
	Password string `json:"password" required:"true"`
}

// Token is an API token. Its secret is returned only once.
type Token struct {
	ID     string    `json:"id" required:"true"`
	Label  string    `json:"label" required:"true"`
	User   string    `json:"user" required:"true"`
	Role   Role      `json:"role" required:"true" enum:"monitor,viewer,approver,operator,admin"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Secret string    `json:"secret,omitempty"` // only in the answer to making it

	Networks []string   `json:"networks" required:"true"` // from which it may be used; none: from all
	Final    bool       `json:"final" required:"true"`    // it may do what cannot be taken back
	SeenAt   *time.Time `json:"seen_at,omitempty"`        // when it was last used
	SeenFrom string     `json:"seen_from,omitempty"`
}

// NewToken describes a token to create.
type NewToken struct {
	Label string `json:"label" required:"true"`
	// monitor: the metrics, and nothing else
	Role Role `json:"role" required:"true" enum:"monitor,viewer,approver,operator,admin"`
	Days int  `json:"days" required:"true"` // how long it holds, at most 730
	// from which it may be used, such as 192.0.2.0/24; none: from all
	Networks []string `json:"networks,omitempty"`
	// it may do what cannot be taken back, without a confirmation
	Final bool `json:"final,omitempty"`
}

// TokenRotation asks for a new secret of a token.
type TokenRotation struct {
	Days  int `json:"days" required:"true"`  // how long the new one holds, at most 730
	Hours int `json:"hours" required:"true"` // how long the old one goes on beside it, at most 168
}

// UserChange describes a change of a user; nil fields stay as they are.
type UserChange struct {
	Role     *Role   `json:"role,omitempty" enum:"viewer,approver,operator,admin"`
	Password *string `json:"password,omitempty"` // for a user who forgot it
}

// View is a filter of a list of the console that a user keeps under a name.
type View struct {
	Page  string `json:"page" required:"true"` // of the console, such as slots
	Name  string `json:"name" required:"true"`
	Query string `json:"query" required:"true"` // as it stands in the page's address
}
