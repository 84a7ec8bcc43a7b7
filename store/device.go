package store

import (
	"context"
	"database/sql"
	"errors"
	"net"
	"strconv"
	"time"

	"freshseal/core/due"
	"freshseal/core/finding"
	"freshseal/core/judge"

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
	ID         int64          `db:"id"`
	DeviceID   int64          `db:"device_id"`
	Name       string         `db:"name"`
	Address    string         `db:"address"`
	Port       int            `db:"port"`
	Protocol   string         `db:"protocol"`
	ServerName string         `db:"server_name"`
	Identity   string         `db:"identity"`   // outer identity, where it is read by EAP
	Audiences  JSON[[]string] `db:"audiences"`  // whose clients use it; none: the fleet
	ClientUse  bool           `db:"client_use"` // the device also connects with its certificate as a TLS client
	More       JSON[[]Place]  `db:"more"`       // further addresses that serve the same
	Installed  string         `db:"installed"`
	Signer     string         `db:"signer"` // who signed that

	InstalledAt Moment `db:"installed_at"` // when that was sealed, or reverted
	NextAt      Moment `db:"next_at"`      // when it is read next
	Misses      int    `db:"misses"`       // readings in a row that showed nothing

	Closer JSON[*judge.Closer] `db:"closer"`  // what the last closer look showed
	LookAt Moment              `db:"look_at"` // when the next one is taken; zero: not known yet

	ReadAt     Moment                  `db:"read_at"`
	Chain      JSON[[]string]          `db:"chain"`
	Version    string                  `db:"version"`
	Suite      string                  `db:"suite"`
	Remarks    JSON[[]finding.Finding] `db:"remarks"` // what the handshake showed
	Failure    JSON[*finding.Failure]  `db:"failure"`
	Findings   JSON[[]finding.Finding] `db:"findings"`
	Subject    string                  `db:"subject"`
	SelfSigned bool                    `db:"self_signed"`
	NotBefore  Moment                  `db:"not_before"`
	NotAfter   Moment                  `db:"not_after"`
	Others     JSON[[]judge.Other]     `db:"others"` // what further addresses and nodes serve
	Path       JSON[[]string]          `db:"path"`   // fingerprints of the leaf's completed path
	Sought     string                  `db:"sought"` // the words of the leaf by which the slot is found

	Standing    due.Condition `db:"standing"`
	OverdueFrom Moment        `db:"overdue_from"`
	DueFrom     Moment        `db:"due_from"`

	Rank    int    `db:"rank"`     // of its condition, as of TurnsAt
	TurnsAt Moment `db:"turns_at"` // when that changes by time alone; zero: never

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

// AddDevices keeps devices with their slots and sealed secrets, all or nothing.
func (s *Store) AddDevices(ctx context.Context, devices []NewDevice) error {
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
	result, err := tx.NamedExecContext(ctx, `INSERT INTO device (name, family, site, address, settings, cluster, cluster_role, owner, tags, notes, nodes, added_at)
		VALUES (:name, :family, :site, :address, :settings, :cluster, :cluster_role, :owner, :tags, :notes, :nodes, :added_at)`, d.Device)
	if err != nil {
		return taken(err)
	}
	id, err := result.LastInsertId()
	if err != nil {
		return err
	}
	if err := putAccess(ctx, tx, id, d.Access); err != nil {
		return err
	}
	if err := revise(ctx, tx, "device/"+d.Name, Any); err != nil {
		return err
	}
	for _, slot := range d.Slots {
		slot.DeviceID = id
		if err := addSlot(ctx, tx, slot); err != nil {
			return err
		}
	}
	return putSecrets(ctx, tx, d.Secrets)
}

func addSlot(ctx context.Context, tx *sqlx.Tx, slot Slot) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO slot (device_id, name, address, port, protocol, server_name, identity, more, audiences, client_use)
		VALUES (:device_id, :name, :address, :port, :protocol, :server_name, :identity, :more, coalesce(nullif(:audiences, 'null'), '[]'), :client_use)`, slot)
	return taken(err)
}

// AddSlot adds a slot to a device, with its sealed secrets.
func (s *Store) AddSlot(ctx context.Context, device string, slot Slot, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "device/"+device, Any); err != nil {
			return err
		}
		if err := addSlot(ctx, tx, slot); err != nil {
			return err
		}
		return putSecrets(ctx, tx, secrets)
	})
}

// SlotEdit is what becomes of a slot, new secrets of it, and the purposes of those that it has no more.
type SlotEdit struct {
	Slot
	Secrets map[string][]byte
	Gone    []string
	Known   Revision // of its device
}

// ChangeSlot keeps where and how a slot of a device of a known revision is read. What its
// last reading said is kept; it is read anew after.
func (s *Store) ChangeSlot(ctx context.Context, e SlotEdit) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return changeSlot(ctx, tx, e) })
}

func changeSlot(ctx context.Context, tx *sqlx.Tx, e SlotEdit) error {
	if err := revise(ctx, tx, "device/"+e.Device, e.Known); err != nil {
		return err
	}
	if err := changed(tx.NamedExecContext(ctx, `UPDATE slot SET address = :address, port = :port, protocol = :protocol, server_name = :server_name, identity = :identity, more = :more, audiences = coalesce(nullif(:audiences, 'null'), '[]'), client_use = :client_use WHERE id = :id`, e.Slot)); err != nil {
		return err
	}
	if err := removeSecrets(ctx, tx, e.Gone); err != nil {
		return err
	}
	return putSecrets(ctx, tx, e.Secrets)
}

// RemoveSlot deletes a slot with its history and its secrets.
func (s *Store) RemoveSlot(ctx context.Context, slot Slot, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := revise(ctx, tx, "device/"+slot.Device, Any); err != nil {
			return err
		}
		if err := removeSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose IN (SELECT 'replacement/r' || id || '/key' FROM replacement WHERE slot_id = ?)`, slot.ID); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM slot WHERE id = ?`, slot.ID))
	})
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

// ChangeDevice keeps what has become of a device of a known revision. Slots that are read at its
// address follow it.
func (s *Store) ChangeDevice(ctx context.Context, e DeviceEdit) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return changeDevice(ctx, tx, e) })
}

func changeDevice(ctx context.Context, tx *sqlx.Tx, e DeviceEdit) error {
	d := e.Device
	if err := revise(ctx, tx, "device/"+d.Name, e.Known); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE slot SET address = ?, server_name = CASE server_name WHEN address THEN ? ELSE server_name END WHERE device_id = ? AND address = (SELECT address FROM device WHERE id = ?)`, d.Address, d.Address, d.ID, d.ID); err != nil {
		return err
	}
	if err := changed(tx.NamedExecContext(ctx, `UPDATE device SET family = :family, site = :site, address = :address, settings = :settings,
		cluster = :cluster, cluster_role = :cluster_role, owner = :owner, tags = :tags, notes = :notes, nodes = :nodes WHERE id = :id`, d)); err != nil {
		return err
	}
	if err := errors.Join(putAccess(ctx, tx, d.ID, e.Access), removeSecrets(ctx, tx, e.Gone)); err != nil {
		return err
	}
	return putSecrets(ctx, tx, e.Secrets)
}

const deviceRevision = `coalesce((SELECT number FROM revision WHERE of = 'device/' || device.name), 0) AS revision`

const deviceRows = `SELECT device.*, ` + deviceRevision + ` FROM device `

// Device returns the one with this name, or ErrNotFound.
func (s *Store) Device(ctx context.Context, name string) (Device, error) {
	var d Device
	return d, one(s.read.GetContext(ctx, &d, deviceRows+`WHERE name = ?`, name))
}

// RemoveDevice deletes a device with all that belongs to it.
func (s *Store) RemoveDevice(ctx context.Context, name string, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := removeSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM secret WHERE purpose IN (SELECT 'replacement/r' || replacement.id || '/key'
			FROM replacement JOIN device ON device.id = replacement.device_id WHERE device.name = ?)`, name); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM device WHERE name = ?`, name))
	})
}

const slotRows = `SELECT slot.*, device.name AS device, device.site AS site, device.nodes AS nodes FROM slot JOIN device ON device.id = slot.device_id `

// Slots returns all slots of the fleet, by device and name.
func (s *Store) Slots(ctx context.Context) ([]Slot, error) {
	var out []Slot
	return out, s.read.SelectContext(ctx, &out, slotRows+`ORDER BY device.name, slot.name`)
}

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

// ToRead is what a reading must know of this slot.
func (s Slot) ToRead() SlotToRead {
	return SlotToRead{ID: s.ID, Device: s.Device, Name: s.Name, Site: s.Site, Address: s.Address, Port: s.Port, Protocol: s.Protocol, ServerName: s.ServerName, Identity: s.Identity, More: s.More, Nodes: s.Nodes, Chain: s.Chain, NotAfter: s.NotAfter, DueFrom: s.DueFrom, Installed: s.InstalledAt, Misses: s.Misses, LookAt: s.LookAt}
}

const slotsToRead = `SELECT slot.id, device.name AS device, slot.name, device.site, slot.address, slot.port, slot.protocol, slot.server_name, slot.identity, slot.more, device.nodes, slot.chain,
	slot.not_after, slot.due_from, slot.installed_at, slot.misses, slot.look_at FROM slot JOIN device ON device.id = slot.device_id `

// SlotsToRead are the next slots after one, by their numbers: all, or those of a site.
func (s *Store) SlotsToRead(ctx context.Context, site *string, id int64, most int) ([]SlotToRead, error) {
	var out []SlotToRead
	if site != nil {
		return out, s.read.SelectContext(ctx, &out, slotsToRead+`WHERE device.site = ? AND slot.id > ? ORDER BY slot.id LIMIT ?`, *site, id, most)
	}
	return out, s.read.SelectContext(ctx, &out, slotsToRead+`WHERE slot.id > ? ORDER BY slot.id LIMIT ?`, id, most)
}

// SlotsByID finds slots by their numbers; those that are gone are left out.
func (s *Store) SlotsByID(ctx context.Context, ids []int64) ([]Slot, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	query, args, err := sqlx.In(slotRows+`WHERE slot.id IN (?)`, ids)
	if err != nil {
		return nil, err
	}
	var out []Slot
	return out, s.read.SelectContext(ctx, &out, query, args...)
}

// SlotsAfter are the next slots after one, by their numbers.
func (s *Store) SlotsAfter(ctx context.Context, id int64, most int) ([]Slot, error) {
	var out []Slot
	return out, s.read.SelectContext(ctx, &out, slotRows+`WHERE slot.id > ? ORDER BY slot.id LIMIT ?`, id, most)
}

// CountSlotsAt says how many slots there are at a site.
func (s *Store) CountSlotsAt(ctx context.Context, site string) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM slot JOIN device ON device.id = slot.device_id WHERE device.site = ?`, site)
}

// CountAllSlots says how many slots there are.
func (s *Store) CountAllSlots(ctx context.Context) (int, error) {
	var n int
	return n, s.read.GetContext(ctx, &n, `SELECT count(*) FROM slot`)
}

// SlotsOf returns the slots of one device.
func (s *Store) SlotsOf(ctx context.Context, device string) ([]Slot, error) {
	var out []Slot
	return out, s.read.SelectContext(ctx, &out, slotRows+`WHERE device.name = ? ORDER BY slot.name`, device)
}

// Slot returns one slot, or ErrNotFound.
func (s *Store) Slot(ctx context.Context, device, name string) (Slot, error) {
	var slot Slot
	return slot, one(s.read.GetContext(ctx, &slot, slotRows+`WHERE device.name = ? AND slot.name = ?`, device, name))
}

// Peers returns the slots of this name on the other members of a device's cluster.
func (s *Store) Peers(ctx context.Context, slot Slot, cluster string) ([]Slot, error) {
	var out []Slot
	return out, s.read.SelectContext(ctx, &out, slotRows+`WHERE device.cluster = ? AND device.cluster != '' AND device.id != ? AND slot.name = ? ORDER BY device.name`, cluster, slot.DeviceID, slot.Name)
}

// SetInstalled records the leaf that a sealed or reverted replacement left at a moment. The slot
// is read again soon.
func (s *Store) SetInstalled(ctx context.Context, slotID int64, sha256, signer string, at Moment) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		return changed(tx.ExecContext(ctx, `UPDATE slot SET installed = ?, signer = ?, installed_at = ?, next_at = min(next_at, ?) WHERE id = ?`, sha256, signer, at, At(at.Add(5*time.Minute)), slotID))
	})
}

// one turns the absence of a row into ErrNotFound.
func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// changed turns a change of no row into ErrNotFound.
func changed(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err == nil && n == 0 {
		return ErrNotFound
	}
	return nil
}
