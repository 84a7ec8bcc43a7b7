package contract

import (
	"time"

	"freshseal/core/pki/cert"
)

// SignIn is the body of a sign-in.
type SignIn struct {
	User     string `json:"user" required:"true"`
	Password string `json:"password" required:"true"`
	Code     string `json:"code,omitempty"`   // of the authenticator, or a recovery code, where the user has one
	Client   bool   `json:"client,omitempty"` // true gives a token in the answer; else a session cookie is set
}

// Confirmation shows again that the user of a session is there: by a code where the user has a second factor, else by
// the password.
type Confirmation struct {
	Password string `json:"password,omitempty"`
	Code     string `json:"code,omitempty"`
}

// Session says who is signed in.
type Session struct {
	User   string    `json:"user" required:"true"`
	Role   Role      `json:"role" required:"true" enum:"viewer,approver,operator,admin"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Token  string    `json:"token,omitempty"`        // given once, to a client
	Factor bool      `json:"factor" required:"true"` // the user has a second factor
	// the user must set up a second factor before anything else
	MustSetUp bool `json:"must_set_up,omitempty"`
}

// SignedIn is a console or a client that somebody is signed in with.
type SignedIn struct {
	ID        string     `json:"id" required:"true"`
	User      string     `json:"user" required:"true"`
	Kind      string     `json:"kind" required:"true" enum:"console,client"`
	How       string     `json:"how" required:"true"` // it was signed in to: password
	Factor    string     `json:"factor,omitempty"`    // the second one that was given
	From      string     `json:"from,omitempty"`      // the address at the sign-in
	StartedAt time.Time  `json:"started_at" required:"true"`
	SeenAt    *time.Time `json:"seen_at,omitempty"` // when it was last used
	SeenFrom  string     `json:"seen_from,omitempty"`
	EndsAt    time.Time  `json:"ends_at" required:"true"` // at the latest
	Own       bool       `json:"own" required:"true"`     // the one that asks
}

// SignInPolicy is the rules for signing in. A limit of 0 is none.
type SignInPolicy struct {
	ConsoleHours int `json:"console_hours" required:"true"`        // at most 720; from the sign-in on
	ConsoleIdle  int `json:"console_idle_minutes" required:"true"` // without use
	ClientDays   int `json:"client_days" required:"true"`          // at most 365; from the sign-in on
	ClientIdle   int `json:"client_idle_days" required:"true"`     // without use
	// after how long what cannot be taken back asks for the password or a code again
	Confirm int `json:"confirm_minutes" required:"true"`
	// the roles that need a second factor
	FactorFor []Role `json:"factor_for" required:"true"`
}

// NewFactor is an authenticator that is being set up.
type NewFactor struct {
	Secret string `json:"secret" required:"true"` // base32, to be typed
	URI    string `json:"uri" required:"true"`    // otpauth, to be scanned
	Image  string `json:"image" required:"true"`  // the URI as a QR code: a PNG as a data URI
}

// FactorCode is a code of the authenticator that is being set up.
type FactorCode struct {
	Code string `json:"code" required:"true"`
}

// RecoveryCodes sign in where the authenticator is lost, each once.
type RecoveryCodes struct {
	Codes []string `json:"codes" required:"true"`
}

// Status is a summary of the fleet, with the signed-in user.
type Status struct {
	Version string `json:"version" required:"true"`
	User    string `json:"user" required:"true"`
	Overview
}

// Succession lets clients follow that pinned an older certificate.
type Succession struct {
	Items []cert.Endorsement `json:"items"`
}

// Settings say how the service is set up; it is set up where it is started, so
// they can be looked at and not changed here.
type Settings struct {
	Version   string    `json:"version" required:"true"`
	Folder    string    `json:"folder" required:"true"`     // everything that outlives the process
	ReadEvery string    `json:"read_every" required:"true"` // how often the whole fleet is read
	StartedAt time.Time `json:"started_at" required:"true"`
}
