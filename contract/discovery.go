package contract

import (
	"time"

	"freshseal/core/judgement/discovery"
	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
)

// Found are the first hits of a search, and how many slots fit in all.
type Found struct {
	Hits  []Hit `json:"hits" required:"true"`
	Slots int   `json:"slots" required:"true"` // how many slots fit
}

// Known is a certificate that was seen or made here.
type KnownDefault struct {
	Certificate cert.Facts `json:"certificate" required:"true"`
	Chain       []Link     `json:"chain" required:"true"` // as it is completed from what is known
	Trust       []Trust    `json:"trust" required:"true"` // which trust groups trust it, and what the others lack
}

// Discovery is one search of networks, under way or ended.
type Discovery struct {
	ID      string         `json:"id" required:"true"`
	Asked   AskedDiscovery `json:"asked" required:"true"`
	By      string         `json:"by" required:"true"`
	Total   int            `json:"total" required:"true"` // addresses and ports
	Done    int            `json:"done" required:"true"`
	Found   int            `json:"found" required:"true"`   // that serve a certificate
	Strange int            `json:"strange" required:"true"` // that answered without one
	BeganAt time.Time      `json:"began_at" required:"true"`
	EndedAt *time.Time     `json:"ended_at,omitempty"`
	Why     string         `json:"why,omitempty"` // why it ended early
}

// Find is one address and port that answered.
type Find struct {
	Address     string           `json:"address" required:"true"`
	Port        int              `json:"port" required:"true"`
	Protocol    string           `json:"protocol" required:"true"`
	ServerName  string           `json:"server_name,omitempty"`
	Slot        string           `json:"slot,omitempty"` // the slot of the fleet that is read there
	Certificate *cert.Facts      `json:"certificate,omitempty"`
	Factory     bool             `json:"factory" required:"true"` // it is what the device was delivered with
	Default     string           `json:"default,omitempty"`       // whose known default it is
	SharedKey   bool             `json:"shared_key,omitempty"`    // every device of the kind has this key
	Same        int              `json:"same" required:"true"`    // how many other addresses serve the same certificate
	Version     string           `json:"version,omitempty"`
	Banner      string           `json:"banner,omitempty"`
	Failure     *finding.Failure `json:"failure,omitempty"`
}

// Proposal is a device that what was found may be.
type Proposal struct {
	discovery.Proposal
	Known string `json:"known,omitempty"`      // the device of the fleet that is there already, or has the name
	Same  int    `json:"same" required:"true"` // how many other addresses serve a certificate of it
}

// DiscoveryResult is a discovery with what it found.
type DiscoveryResult struct {
	Discovery
	Finds     []Find     `json:"finds" required:"true"`
	Proposals []Proposal `json:"proposals" required:"true"`
}

// Adoption says which of the proposed devices are added to the fleet.
type Adoption struct {
	Devices []string `json:"devices,omitempty"` // names of proposals
	All     bool     `json:"all,omitempty"`     // instead: all that are not there yet
	Factory bool     `json:"factory,omitempty"` // with all: only those that serve a factory certificate
	Site    string   `json:"site,omitempty"`    // their site; left out: that through which they were found
	Owner   string   `json:"owner,omitempty"`
	Tags    []string `json:"tags,omitempty"`
	DryRun  bool     `json:"dry_run,omitempty"` // only say what would be done
}

// Adopted is what became of each device.
type Adopted struct {
	Added []string  `json:"added" required:"true"` // by name
	There []string  `json:"there" required:"true"` // that were in the fleet already
	Wrong []Refused `json:"wrong" required:"true"`
	Done  bool      `json:"done" required:"true"` // false: nothing was changed
}

// AskedDiscovery says where is looked for services.
type AskedDiscovery struct {
	Ranges []string `json:"ranges" required:"true"` // networks, ranges of addresses, single addresses and host names
	Except []string `json:"except,omitempty"`       // networks, ranges and addresses that are left out
	Ports  []string `json:"ports,omitempty"`        // 443, or 25/smtp; left out: the usual ones
	Rate   int      `json:"rate,omitempty"`         // connections a second, 1 to 500; left out: 50
	Site   string   `json:"site,omitempty"`         // through whose way in; left out: directly
}
