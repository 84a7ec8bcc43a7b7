// Package naming holds the rules for the names that administrators give: to
// devices, slots, sites, credentials, trust groups, signers and users.
//
// Names stand in addresses of the API, in commands and in file names, so their
// alphabet is small.
package naming

import "regexp"

// Rule says in words what Device, Slot and Label accept.
const Rule = "use small letters, digits, dots and hyphens"

var (
	device = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,126}[a-z0-9])?$`)
	slot   = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)
	label  = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,62}[a-z0-9])?$`)
)

// Device reports whether name can be that of a device or a user: up to 128 characters.
func Device(name string) bool { return device.MatchString(name) }

// Slot reports whether name can be that of a slot: up to 31 characters, no dots.
func Slot(name string) bool { return slot.MatchString(name) }

// Label reports whether name can be that of a credential, a trust group or a
// signer: up to 64 characters.
func Label(name string) bool { return label.MatchString(name) }
