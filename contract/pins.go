package contract

import (
	"time"

	"freshseal/core/pki/cert"
)

// Pin is a user who recorded something of a slot's certificate, and needs
// the new value when it changes.
type Pin struct {
	ID     string   `json:"id" required:"true"`
	Device string   `json:"device" required:"true"`
	Slot   string   `json:"slot" required:"true"`
	Who    string   `json:"who" required:"true"`
	What   cert.Pin `json:"what" required:"true" enum:"sha256,sha1,key,certificate,root"`
	How    string   `json:"how" required:"true"` // they get the new one
	// what happens to them at a replacement, until they have the new one
	Breaks  string    `json:"breaks" required:"true"`
	AddedBy string    `json:"added_by" required:"true"`
	AddedAt time.Time `json:"added_at" required:"true"`
}

// NewPin describes a pin.
type NewPin struct {
	Device string `json:"device" required:"true"`
	Slot   string `json:"slot" required:"true"`
	Who    string `json:"who" required:"true"` // a system or a person, in a line
	// what they recorded; where it is not said, sha256
	What cert.Pin `json:"what,omitempty" enum:"sha256,sha1,key,certificate,root"`
	// how they get the new one, such as whom to write to or where to enter it
	How string `json:"how" required:"true"`
}

// PinUpdate is a pin that a replacement made outdated: pending until somebody confirms
// that the new value was recorded.
type PinUpdate struct {
	ID          string   `json:"id" required:"true"`
	Replacement string   `json:"replacement" required:"true"`
	Device      string   `json:"device" required:"true"`
	Slot        string   `json:"slot" required:"true"`
	Who         string   `json:"who" required:"true"`
	What        cert.Pin `json:"what" required:"true" enum:"sha256,sha1,key,certificate,root"`
	How         string   `json:"how" required:"true"`
	Old         string   `json:"old" required:"true"` // what they recorded; empty where it was not known
	New         string   `json:"new" required:"true"`
	// of the new certificate, or of its root where the root is pinned
	Subject     string     `json:"subject" required:"true"`
	NewSHA256   string     `json:"new_sha256" required:"true"` // of that certificate
	AroseAt     time.Time  `json:"arose_at" required:"true"`
	ConfirmedAt *time.Time `json:"confirmed_at,omitempty"`
	ConfirmedBy string     `json:"confirmed_by,omitempty"`
	Note        string     `json:"note,omitempty"`
}
