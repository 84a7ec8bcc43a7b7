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
	Operator Role = "operator" // read, replace, pack and take in
	Admin    Role = "admin"    // everything
)

// Roles are all roles, the least first.
var Roles = []Role{Monitor, Viewer, Operator, Admin}

// Reaches reports whether the role includes the needed one.
func (r Role) Reaches(needed Role) bool {
	return slices.Contains(Roles, r) && slices.Index(Roles, r) >= slices.Index(Roles, needed)
}

// User is a person who may sign in, as the API shows it.
type User struct {
	Name    string    `json:"name" required:"true"`
	Role    Role      `json:"role" required:"true" enum:"viewer,operator,admin"`
	AddedAt time.Time `json:"added_at" required:"true"`
}

// NewUser describes a user to add.
type NewUser struct {
	Name     string `json:"name" required:"true"`
	Role     Role   `json:"role" required:"true" enum:"viewer,operator,admin"`
	Password string `json:"password" required:"true"`
}

// Token is an API token. Its secret is returned only once.
type Token struct {
	ID     string    `json:"id" required:"true"`
	Label  string    `json:"label" required:"true"`
	User   string    `json:"user" required:"true"`
	Role   Role      `json:"role" required:"true" enum:"monitor,viewer,operator,admin"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Secret string    `json:"secret,omitempty"` // only in the answer to making it
}

// NewToken describes a token to create.
type NewToken struct {
	Label string `json:"label" required:"true"`
	// monitor: the metrics, and nothing else
	Role Role `json:"role" required:"true" enum:"monitor,viewer,operator,admin"`
	Days int  `json:"days" required:"true"` // how long it holds, at most 730
}

// UserChange describes a change of a user; nil fields stay as they are.
type UserChange struct {
	Role     *Role   `json:"role,omitempty" enum:"viewer,operator,admin"`
	Password *string `json:"password,omitempty"` // for a user who forgot it
}

// View is a filter of a list of the console that a user keeps under a name.
type View struct {
	Page  string `json:"page" required:"true"` // of the console, such as slots
	Name  string `json:"name" required:"true"`
	Query string `json:"query" required:"true"` // as it stands in the page's address
}
