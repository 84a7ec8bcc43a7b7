package store

import (
	"context"
	"errors"
	"net"
	"strconv"

	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Device is a box of the fleet.
type Device struct {
	ID          int64                   `db:"id"`
	Name        string                  `db:"name"`
	Family      string                  `db:"family"`
	Site        string                  `db:"site"`
	Address     string                  `db:"address"`
	Settings    JSON[map[string]string] `db:"settings"`
	Cluster     string                  `db:"cluster"`
	ClusterRole string                  `db:"cluster_role"`
	Owner       string                  `db:"owner"`
	Tags        JSON[[]string]          `db:"tags"`
	Notes       string                  `db:"notes"`
	Nodes       JSON[[]Node]            `db:"nodes"`
	AddedAt     Moment                  `db:"added_at"`

	Revision Revision `db:"revision"`
}

// Node is a member of a device with an address of its own.
type Node struct {
	Name    string `json:"name" required:"true"`
	Address string `json:"address" required:"true"`
}

// Place is an address and a port.
type Place struct {
	Address string `json:"address" required:"true"`
	Port    int    `json:"port" required:"true"`
}

func (p Place) String() string { return net.JoinHostPort(p.Address, strconv.Itoa(p.Port)) }

// Slot is a place on a device where a certificate sits, with what its newest
// reading says.
type Slot struct {
	ID          int64          `db:"id"`
	DeviceID    int64          `db:"device_id"`
	Name        string         `db:"name"`
	Address     string         `db:"address"`
	Port        int            `db:"port"`
	Protocol    string         `db:"protocol"`
	ServerName  string         `db:"server_name"`
	Identity    string         `db:"identity"`     // outer identity, where it is read by EAP
	TrustGroups JSON[[]string] `db:"trust_groups"` // whose clients use it; none: the fleet
	ClientUse   bool           `db:"client_use"`   // the device also connects with its certificate as a TLS client
	More        JSON[[]Place]  `db:"more"`         // further addresses that serve the same
	Installed   string         `db:"installed"`
	Signer      string         `db:"signer"` // who signed that

	InstalledAt Moment `db:"installed_at"` // when that was sealed, or reverted
	NextAt      Moment `db:"next_at"`      // when it is read next
	Misses      int    `db:"misses"`       // readings in a row that showed nothing

	Closer JSON[*judge.Closer] `db:"closer"`  // what the last closer look showed
	LookAt Moment              `db:"look_at"` // when the next one is taken; zero: not known yet

	ReadAt     Moment                 `db:"read_at"`
	Chain      JSON[[]string]         `db:"chain"`
	Version    string                 `db:"version"`
	Suite      string                 `db:"suite"`
	Remarks    sqlite.Findings        `db:"remarks"` // what the handshake showed
	Failure    JSON[*finding.Failure] `db:"failure"`
	Findings   sqlite.Findings        `db:"findings"`
	Subject    string                 `db:"subject"`
	Issuer     string                 `db:"issuer"`    // of the leaf, its short name
	KeyType    string                 `db:"key_type"`  // of the leaf
	Signature  string                 `db:"signature"` // algorithm of the leaf's signature
	SelfSigned bool                   `db:"self_signed"`
	NotBefore  Moment                 `db:"not_before"`
	NotAfter   Moment                 `db:"not_after"`
	Others     JSON[[]judge.Other]    `db:"others"`      // what further addresses and nodes serve
	Above      JSON[[]string]         `db:"above"`       // fingerprints of the leaf's completed path, without its own
	SearchText string                 `db:"search_text"` // the words of the leaf by which the slot is found

	Base        due.Condition `db:"base"`
	OverdueFrom Moment        `db:"overdue_from"`
	DueFrom     Moment        `db:"due_from"`

	Condition due.Condition `db:"condition"` // as of TurnsAt
	TurnsAt   Moment        `db:"turns_at"`  // when that changes by time alone; zero: never

	Device string       `db:"device"` // its device's name
	Site   string       `db:"site"`
	Nodes  JSON[[]Node] `db:"nodes"` // its device's
}

// NewDevice is a device with all that is added with it.
type NewDevice struct {
	Device
	Access  []Access
	Slots   []Slot
	Secrets map[string][]byte // sealed, by purpose
}

// Add stores devices with their slots and sealed secrets, all or nothing.
func (s Devices) Add(ctx context.Context, devices []NewDevice) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		for _, d := range devices {
			if err := addDevice(ctx, tx, d); err != nil {
				return err
			}
		}
		return nil
	})
}

func addDevice(ctx context.Context, tx *sqlx.Tx, d NewDevice) error {
	result, err := tx.NamedExecContext(ctx, `INSERT INTO device (name, family, site, address, settings, cluster,
		cluster_role, owner, tags, notes, nodes, added_at)
		VALUES (:name, :family, :site, :address, :settings, :cluster, :cluster_role, :owner, :tags, :notes, :nodes,
		:added_at)`, d.Device)
	if err != nil {
		return sqlite.Taken(err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return err
	}
	if err := putAccess(ctx, tx, id, d.Access); err != nil {
		return err
	}
	for _, slot := range d.Slots {
		slot.DeviceID = id
		if err := addSlot(ctx, tx, slot); err != nil {
			return err
		}
	}
	return sqlite.PutSecrets(ctx, tx, d.Secrets)
}

func addSlot(ctx context.Context, tx *sqlx.Tx, slot Slot) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO slot (device_id, name, address, port, protocol, server_name,
		identity, more, trust_groups, client_use)
		VALUES (:device_id, :name, :address, :port, :protocol, :server_name, :identity, :more,
		coalesce(nullif(:trust_groups, 'null'), '[]'), :client_use)`, slot)
	return sqlite.Taken(err)
}

// Path returns the fingerprints of the completed path, the leaf's first; none where nothing was served.
func (slot *Slot) Path() []string {
	if len(slot.Chain.V) == 0 {
		return nil
	}
	return append([]string{slot.Chain.V[0]}, slot.Above.V...)
}

// leaf returns the fingerprint of what was served, or nothing.
func (slot *Slot) leaf() string {
	if len(slot.Chain.V) == 0 {
		return ""
	}
	return slot.Chain.V[0]
}

// SlotEdit is what becomes of a slot, new secrets of it, and the purposes of those that it has no more.
type SlotEdit struct {
	Slot
	Secrets map[string][]byte
	Gone    []string
	Known   Revision // of its device
}

func changeSlot(ctx context.Context, tx *sqlx.Tx, e SlotEdit) error {
	if err := sqlite.Revise(ctx, tx, "device/"+e.Device, e.Known); err != nil {
		return err
	}
	if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE slot SET address = :address, port = :port,
		protocol = :protocol, server_name = :server_name, identity = :identity, more = :more,
		trust_groups = coalesce(nullif(:trust_groups, 'null'), '[]'), client_use = :client_use WHERE id = :id`,
		e.Slot)); err != nil {
		return err
	}
	if err := sqlite.RemoveSecrets(ctx, tx, e.Gone); err != nil {
		return err
	}
	return sqlite.PutSecrets(ctx, tx, e.Secrets)
}

// DeviceEdit is what becomes of a device, how it is reached, new secrets of it, and the purposes of those that
// it has no more.
type DeviceEdit struct {
	Device
	Access  []Access
	Secrets map[string][]byte
	Gone    []string
	Known   Revision
}

// Change stores what has become of a device of a known revision. Slots that are read at its
// address follow it.
func (s Devices) Change(ctx context.Context, e DeviceEdit) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return changeDevice(ctx, tx, e) })
}

func changeDevice(ctx context.Context, tx *sqlx.Tx, e DeviceEdit) error {
	d := e.Device
	if err := sqlite.Revise(ctx, tx, "device/"+d.Name, e.Known); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE slot SET address = ?, server_name = CASE server_name WHEN address THEN ?
		ELSE server_name END WHERE device_id = ? AND address = (SELECT address FROM device WHERE id = ?)`, d.Address,
		d.Address, d.ID, d.ID); err != nil {
		return err
	}
	if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE device SET family = :family, site = :site,
		address = :address,
		settings = :settings,
		cluster = :cluster, cluster_role = :cluster_role, owner = :owner, tags = :tags, notes = :notes, nodes = :nodes
		WHERE id = :id`, d)); err != nil {
		return err
	}
	if err := errors.Join(putAccess(ctx, tx, d.ID, e.Access), sqlite.RemoveSecrets(ctx, tx, e.Gone)); err != nil {
		return err
	}
	return sqlite.PutSecrets(ctx, tx, e.Secrets)
}

const deviceRevision = `coalesce((SELECT number FROM revision WHERE of = 'device/' || device.name), 0) AS revision`

const deviceRows = `SELECT device.*, ` + deviceRevision + ` FROM device `

// Get returns the one with this name, or ErrNotFound.
func (s Devices) Get(ctx context.Context, name string) (Device, error) {
	var d Device
	return d, sqlite.Row(s.Read.GetContext(ctx, &d, deviceRows+`WHERE name = ?`, name))
}

// Remove deletes a device with all that belongs to it.
func (s Devices) Remove(ctx context.Context, name string, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.RemoveSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		// One that is added by this name later is another one.
		if err := sqlite.Revise(ctx, tx, "device/"+name, Any); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose IN
			(SELECT 'replacement/r' || replacement.id || '/key'
			FROM replacement JOIN device ON device.id = replacement.device_id WHERE device.name = ?)`,
			name); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM device WHERE name = ?`, name))
	})
}

const slotRows = `SELECT slot.*, device.name AS device, device.site AS site, device.nodes AS nodes FROM slot
	JOIN device ON device.id = slot.device_id `

// SlotToRead is what a reading must know of a slot. It is small: a round goes through all.
type SlotToRead struct {
	ID         int64          `db:"id"`
	Device     string         `db:"device"`
	Name       string         `db:"name"`
	Site       string         `db:"site"`
	Address    string         `db:"address"`
	Port       int            `db:"port"`
	Protocol   string         `db:"protocol"`
	ServerName string         `db:"server_name"`
	Identity   string         `db:"identity"`
	More       JSON[[]Place]  `db:"more"`
	Nodes      JSON[[]Node]   `db:"nodes"`
	Chain      JSON[[]string] `db:"chain"`
	NotAfter   Moment         `db:"not_after"`
	DueFrom    Moment         `db:"due_from"`
	Installed  Moment         `db:"installed_at"` // when a replacement was sealed or reverted
	Misses     int            `db:"misses"`       // readings in a row that showed nothing
	LookAt     Moment         `db:"look_at"`      // from then on a closer look is wanted
}

// ToRead returns what a reading must know of this slot.
func (s Slot) ToRead() SlotToRead {
	return SlotToRead{ID: s.ID, Device: s.Device, Name: s.Name, Site: s.Site, Address: s.Address, Port: s.Port,
		Protocol: s.Protocol, ServerName: s.ServerName, Identity: s.Identity, More: s.More, Nodes: s.Nodes,
		Chain: s.Chain, NotAfter: s.NotAfter, DueFrom: s.DueFrom, Installed: s.InstalledAt, Misses: s.Misses,
		LookAt: s.LookAt}
}

const slotsToRead = `SELECT slot.id, device.name AS device, slot.name, device.site, slot.address, slot.port,
	slot.protocol, slot.server_name, slot.identity, slot.more, device.nodes, slot.chain,
	slot.not_after, slot.due_from, slot.installed_at, slot.misses, slot.look_at FROM slot
	JOIN device ON device.id = slot.device_id `
