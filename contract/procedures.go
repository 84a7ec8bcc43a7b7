package contract

import (
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
)

// Procedure is a family's procedure as the API lists it.
type Procedure struct {
	Name     string    `json:"name" required:"true"`
	Title    string    `json:"title" required:"true"`
	About    string    `json:"about" required:"true"`
	Links    []string  `json:"links" required:"true"`
	Keys     []string  `json:"keys" required:"true"` // the key types that it can make, the usual one first
	Settings []Setting `json:"settings" required:"true"`
	// the device, or its manager, makes and signs the certificate itself: no key type, name or signer is chosen
	Signs   bool              `json:"signs_itself" required:"true"`
	YAML    string            `json:"yaml" required:"true"`
	Steps   []rehearsal.Told  `json:"steps" required:"true"` // what a replacement does to such a device, in order
	Usable  bool              `json:"usable" required:"true"`
	Faults  []procedure.Fault `json:"faults" required:"true"`  // of its file, warnings included
	Devices int               `json:"devices" required:"true"` // how many are of this family
}

// Setting is a setting of a procedure.
type Setting struct {
	Name    string   `json:"name" required:"true"`
	Kind    string   `json:"kind" required:"true"`
	About   string   `json:"about" required:"true"`
	Default string   `json:"default" required:"true"`
	Choices []string `json:"choices,omitempty"`
}
