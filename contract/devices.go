package contract

import (
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/next"
)

// Device is a box as the API shows it. Its secrets are never part of it.
type Device struct {
	Name    string   `json:"name" required:"true"`
	Family  string   `json:"family" required:"true"`
	Site    string   `json:"site" required:"true"`
	Address string   `json:"address" required:"true"`
	Access  []Access `json:"access" required:"true"` // how it is reached, link by link
	// members with an address of their own; every slot is read there too
	Nodes       []Node            `json:"nodes" required:"true"`
	Settings    map[string]string `json:"settings" required:"true"`
	Cluster     string            `json:"cluster" required:"true"` // devices that serve one name together
	ClusterRole string            `json:"cluster_role" required:"true" enum:",active,standby,member"`
	Owner       string            `json:"owner" required:"true"`
	Tags        []string          `json:"tags" required:"true"`
	Notes       string            `json:"notes" required:"true"`
	Slots       []DeviceSlot      `json:"slots" required:"true"`
	AddedAt     time.Time         `json:"added_at" required:"true"`
	// the worst of its slots
	Condition due.Condition `json:"condition" required:"true" enum:"unreachable,expired,unexpected,factory,flawed,overdue,due,fresh"`
	// the soonest of its slots
	ExpiresAt *time.Time `json:"expires_at"`
	// counts the changes that people make
	Revision Revision `json:"revision" required:"true"`
}

// DeviceSlot is a slot as it is configured.
type DeviceSlot struct {
	Name       string `json:"name" required:"true"`
	Address    string `json:"address,omitempty"`  // if it differs from the device's
	Port       int    `json:"port,omitempty"`     // that of the protocol where it is left out
	Protocol   string `json:"protocol,omitempty"` // tls, or what is spoken before TLS: see GET /protocols
	ServerName string `json:"server_name,omitempty"`
	Identity   string `json:"identity,omitempty"` // outer identity, where it is read by EAP

	// the groups of clients that use the slot: it is judged by what they trust; none: the fleet
	TrustGroups []string `json:"trust_groups,omitempty"`
	// the device also connects to others with this certificate, as a TLS client: it must allow that use
	ClientUse bool `json:"client_use,omitempty"`
	// shared with the RADIUS server, where it is read by EAP; never shown
	Secret string `json:"secret,omitempty"`

	More []Place `json:"more,omitempty"` // further addresses that serve the same certificate
}

// NewDevice describes a device to add.
type NewDevice struct {
	Name        string            `json:"name" required:"true"`
	Family      string            `json:"family,omitempty"` // a procedure; leave it out for a device that is only read
	Site        string            `json:"site,omitempty"`
	Address     string            `json:"address" required:"true"`
	Nodes       []Node            `json:"nodes,omitempty"`
	Settings    map[string]string `json:"settings,omitempty"`
	Cluster     string            `json:"cluster,omitempty"`
	ClusterRole string            `json:"cluster_role,omitempty" enum:"active,standby,member"`
	Owner       string            `json:"owner,omitempty"`
	Tags        []string          `json:"tags,omitempty"`
	Notes       string            `json:"notes,omitempty"`
	Slots       []DeviceSlot      `json:"slots" required:"true"`

	Access []AccessChange `json:"access,omitempty"` // how it is reached, link by link
}

// Revised returns how often people changed the device: what a reading changes makes
// nobody's change stale.
func (d Device) Revised() Revision { return d.Revision }

// DeviceChange describes a change of a device; nil fields stay as they are.
type DeviceChange struct {
	Site        *string  `json:"site,omitempty"`
	Family      *string  `json:"family,omitempty"`
	Address     *string  `json:"address,omitempty"`
	Cluster     *string  `json:"cluster,omitempty"`
	ClusterRole *string  `json:"cluster_role,omitempty"`
	Owner       *string  `json:"owner,omitempty"`
	Tags        []string `json:"tags,omitempty"`
	Notes       *string  `json:"notes,omitempty"`
	// laid over those that are there; an empty value takes one away
	Settings map[string]string `json:"settings,omitempty"`
	Nodes    []Node            `json:"nodes,omitempty"` // all of them, in place of those that are there

	Access []AccessChange `json:"access,omitempty"` // laid over what is there, link by link
}

// Hit is something that fits a search.
type Hit struct {
	Kind  string `json:"kind" required:"true" enum:"slot,device,replacement,site,family"`
	Name  string `json:"name" required:"true"`  // as it is called in the API: a slot is DEVICE/SLOT
	About string `json:"about" required:"true"` // what tells it from others
}

// Facet is a value by which lists are filtered, and how many slots have it.
type Facet struct {
	Value string `json:"value" required:"true"`
	Count int    `json:"count" required:"true"`
}

// Facets are the values by which lists are filtered.
type Facets struct {
	Sites      []Facet `json:"sites" required:"true"`
	Families   []Facet `json:"families" required:"true"`
	Owners     []Facet `json:"owners" required:"true"`
	Tags       []Facet `json:"tags" required:"true"`
	Signers    []Facet `json:"signers" required:"true"`
	Issuers    []Facet `json:"issuers" required:"true"`
	KeyTypes   []Facet `json:"key_types" required:"true"`
	Signatures []Facet `json:"signatures" required:"true"`
}

// Imported is the outcome of one line of an import.
type Imported struct {
	Line    int           `json:"line" required:"true"`
	Device  string        `json:"device" required:"true"`
	What    string        `json:"what" required:"true" enum:"add,change,same,error"`
	Changes []Difference  `json:"changes,omitempty"` // of a device that is there
	Why     string        `json:"why,omitempty"`
	Next    string        `json:"next,omitempty"`
	Actions []next.Action `json:"actions,omitempty"`
}

// Difference is one thing that an import changes.
type Difference struct {
	What string `json:"what" required:"true"`
	From string `json:"from" required:"true"`
	To   string `json:"to" required:"true"`
}

// Import is the result of an import.
type Import struct {
	Lines   []Imported `json:"lines" required:"true"`
	Added   int        `json:"added" required:"true"`   // devices
	Changed int        `json:"changed" required:"true"` // devices
	Wrong   int        `json:"wrong" required:"true"`   // lines
	Done    bool       `json:"done" required:"true"`    // false: nothing was changed
}

// ImportTerms are the options of an import.
type ImportTerms struct {
	CSV     string            `json:"csv,omitempty"`     // with a header
	XLSX    []byte            `json:"xlsx,omitempty"`    // instead: a workbook, in base64
	Sheet   string            `json:"sheet,omitempty"`   // of the workbook; left out: the first
	Columns map[string]string `json:"columns,omitempty"` // our name of a column → its name in the header
	DryRun  bool              `json:"dry_run,omitempty"` // only say what would be done
	Partial bool              `json:"partial,omitempty"` // take the lines that are right although others are wrong
}

// Changes changes many devices in the same way.
type Changes struct {
	Devices []string      `json:"devices,omitempty"` // their names
	Filter  *DeviceFilter `json:"filter,omitempty"`  // instead of names: all that fit
	Change  ManyChange    `json:"change" required:"true"`
}

// ManyChange is what can be changed on many devices at once.
type ManyChange struct {
	Owner      *string  `json:"owner,omitempty"`
	Site       *string  `json:"site,omitempty"`
	Family     *string  `json:"family,omitempty"`
	Credential *string  `json:"credential,omitempty"` // a shared one, over the first link of the family
	AddTags    []string `json:"add_tags,omitempty"`
	RemoveTags []string `json:"remove_tags,omitempty"`
}

// Changed says what became of each device.
type Changed struct {
	Changed int       `json:"changed" required:"true"`
	Refused []Refused `json:"refused" required:"true"`
}

// Refused is a device that was left as it was.
type Refused struct {
	Device string `json:"device" required:"true"`
	Why    string `json:"why" required:"true"`
	Next   string `json:"next,omitempty"`
}

// Try is the result of testing a device, link by link; nothing is changed.
type Try struct {
	Device string    `json:"device" required:"true"`
	OK     bool      `json:"ok" required:"true"`
	Looks  []TryLook `json:"looks" required:"true"`
	At     time.Time `json:"at" required:"true"`
}

// Node is a member of a device that has an address of its own.
type Node struct {
	Name    string `json:"name" required:"true"`
	Address string `json:"address" required:"true"`
}

// Place is an address and a port.
type Place struct {
	Address string `json:"address" required:"true"`
	Port    int    `json:"port" required:"true"`
}
