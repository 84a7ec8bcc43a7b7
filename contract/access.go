package contract

import (
	"time"

	"freshseal/core/judgement/calendar"
	"freshseal/core/pki/request"
)

// Access is how a device is reached over one link, as the API shows it. Its secrets
// are never part of it.
type Access struct {
	Link    string `json:"link" required:"true"`
	Address string `json:"address" required:"true"` // empty: the device's
	Port    int    `json:"port" required:"true"`
	User    string `json:"user" required:"true"`
	// the shared one that signs in; empty: it has secrets of its own
	Credential string `json:"credential" required:"true"`
	// over ssh the host key: TYPE SHA256:…; over https the SHA-256 of its certificate
	Pin     string            `json:"pin" required:"true"`
	Options map[string]string `json:"options" required:"true"`
}

// AccessChange describes a change of an access; nil fields stay as they are, or are
// as usual where the access is new.
type AccessChange struct {
	Link    string  `json:"link,omitempty"`    // empty: the first link of the device's family
	Address *string `json:"address,omitempty"` // if it differs from the device's
	Port    *int    `json:"port,omitempty"`
	User    *string `json:"user,omitempty"`
	// a shared one, instead of a user and secrets of its own; empty: its own again
	Credential *string `json:"credential,omitempty"`
	// over ssh the host key, over https the SHA-256 of the certificate, as a call to host-keys shows it
	Pin *string `json:"pin,omitempty"`
	// over SSH: old_algorithms=yes for a device that knows no others than broken ones; over https: old_tls=yes
	// likewise; an empty value takes one away
	Options map[string]string `json:"options,omitempty"`
	Secrets
}

// Secrets authenticate a user. They are accepted and never returned.
type Secrets struct {
	Password   string `json:"password,omitempty"`
	Key        string `json:"key,omitempty"`        // private key in OpenSSH or PEM form
	Passphrase string `json:"passphrase,omitempty"` // of that key
}

// Credential is a way to sign in that several devices share, as the API shows it.
type Credential struct {
	Name     string    `json:"name" required:"true"`
	User     string    `json:"user" required:"true"`
	Devices  int       `json:"devices" required:"true"` // how many use it
	Source   string    `json:"source,omitempty"`        // where its secret is asked for each time; empty: it is kept here
	AddedAt  time.Time `json:"added_at" required:"true"`
	Revision Revision  `json:"revision" required:"true"`
}

// NewCredential describes a credential to add.
type NewCredential struct {
	Name string `json:"name" required:"true"`
	CredentialChange
}

// CredentialChange is the user and secret that replace those of a credential.
type CredentialChange struct {
	User string `json:"user" required:"true"`
	Secrets
	// in place of secrets: where they are asked for each time, as "file NAME", "systemd NAME" or "helper NAME WORD…"
	Source string `json:"source,omitempty"`
}

// Revised returns how often people changed it.
func (c Credential) Revised() Revision { return c.Revision }

// Site is a place with a way in, as the API shows it.
type Site struct {
	Name    string `json:"name" required:"true"`
	Way     string `json:"way" required:"true" enum:"direct,jump,socks"`
	Address string `json:"address" required:"true"`
	Port    int    `json:"port" required:"true"`
	User    string `json:"user" required:"true"` // on the jump host
	Pin     string `json:"pin" required:"true"`  // host key of the jump host
	// what requests of its devices say where today's certificate says nothing
	Subject request.Subject `json:"subject" required:"true"`
	// how many links to its devices at once; 0: no limit of its own
	MostLinks int `json:"most_links" required:"true"`
	// the site through which its jump host or proxy is reached; empty: directly
	Behind string `json:"behind" required:"true"`
	Paused bool   `json:"paused" required:"true"` // its slots are read only when asked
	// windows (RFC 5545) in which it can be reached, such as that of a ship in port; none: always
	Presence []string           `json:"presence" required:"true"`
	Holidays []calendar.Holiday `json:"holidays" required:"true"` // of the next twelve months
	Away     bool               `json:"away" required:"true"`     // it is outside these windows now
	Implied  bool               `json:"implied" required:"true"`  // devices name it, and nothing is set for it yet
	Revision Revision           `json:"revision" required:"true"`
}

// SiteChange describes a change of a site; nil fields stay as they are.
type SiteChange struct {
	Way       *string          `json:"way,omitempty" enum:"direct,jump,socks"`
	Address   *string          `json:"address,omitempty"`
	Port      *int             `json:"port,omitempty"`
	User      *string          `json:"user,omitempty"`
	Password  *string          `json:"password,omitempty"`
	Pin       *string          `json:"pin,omitempty"`
	Subject   *request.Subject `json:"subject,omitempty"`
	MostLinks *int             `json:"most_links,omitempty"`
	Behind    *string          `json:"behind,omitempty"`
	Paused    *bool            `json:"paused,omitempty"`
	Presence  []string         `json:"presence,omitempty"` // all windows, in place of those that are there
	// an iCalendar file (RFC 5545) with the days off; empty: none
	Holidays *string `json:"holidays,omitempty"`
}

// NewSite describes a site to add.
type NewSite struct {
	Name      string          `json:"name" required:"true"`
	Way       string          `json:"way" required:"true" enum:"direct,jump,socks"`
	Address   string          `json:"address,omitempty"` // of the jump host or the SOCKS5 proxy
	Port      int             `json:"port,omitempty"`
	Subject   request.Subject `json:"subject,omitempty"`
	MostLinks int             `json:"most_links,omitempty"`
	Behind    string          `json:"behind,omitempty"` // the site through which that is reached
	Paused    bool            `json:"paused,omitempty"`
	// DTSTART, DURATION and RRULE on one line, separated by blanks
	Presence []string `json:"presence,omitempty"`
	Holidays string   `json:"holidays,omitempty"` // an iCalendar file (RFC 5545) with the days off
	User     string   `json:"user,omitempty"`     // on the jump host
	// host key of the jump host: TYPE SHA256:…, as a call to host-keys shows it
	Pin string `json:"pin,omitempty"`
	Secrets
}

// Revised returns how often people changed it.
func (s Site) Revised() Revision { return s.Revision }

// TryLook is one test of a device.
type TryLook struct {
	What string `json:"what" required:"true"`
	OK   bool   `json:"ok" required:"true"`
	Said string `json:"said,omitempty"`
	Next string `json:"next,omitempty"`
}
