package contract

import (
	"time"

	"freshseal/core/pki/cert"
)

// SignIn is the body of a sign-in.
type SignIn struct {
	User     string `json:"user" required:"true"`
	Password string `json:"password" required:"true"`
	Client   bool   `json:"client,omitempty"` // true gives a token in the answer; else a session cookie is set
}

// Session says who is signed in.
type Session struct {
	User   string    `json:"user" required:"true"`
	Role   Role      `json:"role" required:"true" enum:"viewer,operator,admin"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Token  string    `json:"token,omitempty"` // given once, to a client
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
