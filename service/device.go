package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"freshseal/core/due"
	"freshseal/core/procedure"
	"freshseal/core/request"
	"freshseal/device/ssh"
	"freshseal/store"
)

// Device is a box as the API shows it. Its secrets are never part of it.
type Device struct {
	Name        string            `json:"name" required:"true"`
	Family      string            `json:"family" required:"true"`
	Site        string            `json:"site" required:"true"`
	Address     string            `json:"address" required:"true"`
	SSHPort     int               `json:"ssh_port" required:"true"`
	SSHUser     string            `json:"ssh_user" required:"true"`
	HostKey     string            `json:"host_key" required:"true"`
	OldSSH      bool              `json:"old_ssh" required:"true"`
	Settings    map[string]string `json:"settings" required:"true"`
	Credential  string            `json:"credential" required:"true" description:"the shared one that it is signed in to with; empty: it has its own"`
	Cluster     string            `json:"cluster" required:"true" description:"devices that serve one name together"`
	ClusterRole string            `json:"cluster_role" required:"true" enum:",active,standby,member"`
	Owner       string            `json:"owner" required:"true"`
	Tags        []string          `json:"tags" required:"true"`
	Notes       string            `json:"notes" required:"true"`
	Slots       []DeviceSlot      `json:"slots" required:"true"`
	AddedAt     time.Time         `json:"added_at" required:"true"`
	Condition   due.Condition     `json:"condition" required:"true" enum:"dark,lapsed,stray,factory,flawed,overdue,due,fresh" description:"the worst of its slots"`
	ExpiresAt   *time.Time        `json:"expires_at" description:"the soonest of its slots"`
}

// DeviceSlot is a slot as it is configured.
type DeviceSlot struct {
	Name       string `json:"name" required:"true"`
	Address    string `json:"address,omitempty" description:"where it differs from the device's"`
	Port       int    `json:"port" required:"true"`
	ServerName string `json:"server_name,omitempty"`
}

// NewDevice is what is given to add a device.
type NewDevice struct {
	Name        string            `json:"name" required:"true"`
	Family      string            `json:"family,omitempty" description:"a procedure; leave it out for a device that is only read"`
	Site        string            `json:"site,omitempty"`
	Address     string            `json:"address" required:"true"`
	SSHPort     int               `json:"ssh_port,omitempty"`
	OldSSH      bool              `json:"old_ssh,omitempty" description:"it knows no SSH algorithms but broken ones"`
	Settings    map[string]string `json:"settings,omitempty"`
	Credential  string            `json:"credential,omitempty" description:"a shared one, instead of a user and secret of its own"`
	Cluster     string            `json:"cluster,omitempty"`
	ClusterRole string            `json:"cluster_role,omitempty" enum:"active,standby,member"`
	Owner       string            `json:"owner,omitempty"`
	Tags        []string          `json:"tags,omitempty"`
	Notes       string            `json:"notes,omitempty"`
	Slots       []DeviceSlot      `json:"slots" required:"true"`
	Access
}

var deviceName = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,126}[a-z0-9])?$`)
var slotName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,30}$`)

const nameRule = "use small letters, digits, dots and hyphens"

// AddDevice takes a device into the fleet. Its host key must be given: who adds
// it has looked at it (see AskHostKey).
func (s *Service) AddDevice(ctx context.Context, n NewDevice) (Device, error) {
	row, err := s.newDevice(ctx, n)
	if err != nil {
		return Device{}, err
	}
	return s.addDevice(ctx, n.Name, row)
}

func (s *Service) addDevice(ctx context.Context, name string, row store.NewDevice) (Device, error) {
	err := s.store.AddDevices(ctx, []store.NewDevice{row})
	if errors.Is(err, store.ErrTaken) {
		return Device{}, &Error{Conflict, fmt.Sprintf("the device %s, or one of its slots, is there already", name), "", "choose another name, or remove it first"}
	}
	if err != nil {
		return Device{}, err
	}
	s.options.Log.Info("device added", "device", name, "family", row.Family)
	return s.Device(ctx, name)
}

// newDevice checks what is given and makes of it what is kept, secrets sealed.
func (s *Service) newDevice(ctx context.Context, n NewDevice) (store.NewDevice, error) {
	d := store.Device{Name: n.Name, Family: n.Family, Site: n.Site, Address: n.Address, SSHPort: n.SSHPort, SSHUser: n.SSHUser,
		HostKey: n.HostKey, OldSSH: n.OldSSH, Credential: n.Credential, Cluster: n.Cluster, ClusterRole: n.ClusterRole, Owner: n.Owner, Notes: n.Notes, AddedAt: s.moment()}
	d.Settings.V, d.Tags.V = n.Settings, n.Tags
	if d.Settings.V == nil {
		d.Settings.V = map[string]string{}
	}
	if d.Tags.V == nil {
		d.Tags.V = []string{}
	}
	if d.SSHPort == 0 {
		d.SSHPort = 22
	}
	out := store.NewDevice{Device: d}
	if err := checkDevice(n, d); err != nil {
		return out, err
	}
	var err error
	if out.Slots, err = checkSlots(n); err != nil || n.Family == "" {
		return out, err
	}
	out.Secrets, err = s.checkFamily(ctx, n, d)
	return out, err
}

func checkDevice(n NewDevice, d store.Device) error {
	cannot := "the device cannot be added"
	switch {
	case !deviceName.MatchString(n.Name):
		return invalid(cannot, fmt.Sprintf("%q is no device name", n.Name), nameRule)
	case len(n.Slots) == 0:
		return invalid(cannot, "it has no slot", "give at least one, such as --slot web=443")
	}
	return checkAddress(cannot, d)
}

var clusterRoles = []string{"active", "standby", "member"}

func checkAddress(cannot string, d store.Device) error {
	switch {
	case d.Cluster != "" && (len(d.Cluster) > 64 || strings.ContainsFunc(d.Cluster, unicode.IsControl)):
		return invalid(cannot, fmt.Sprintf("%q is no name of a cluster", d.Cluster), "give up to 64 printable characters")
	case d.ClusterRole != "" && (d.Cluster == "" || !slices.Contains(clusterRoles, d.ClusterRole)):
		return invalid(cannot, fmt.Sprintf("the role %q in the cluster %q is none", d.ClusterRole, d.Cluster), fmt.Sprintf("name the cluster, and one of %v", clusterRoles))
	case !request.IsName(strings.ToLower(d.Address)):
		return invalid(cannot, fmt.Sprintf("%q is neither an IP address nor a host name", d.Address), "give the address alone, without a port")
	case d.SSHPort < 1 || d.SSHPort > 65535:
		return invalid(cannot, fmt.Sprintf("%d is no port", d.SSHPort), "give a port from 1 to 65535")
	}
	return nil
}

func checkSlots(n NewDevice) ([]store.Slot, error) {
	var out []store.Slot
	for _, slot := range n.Slots {
		row := store.Slot{Name: slot.Name, Address: slot.Address, Port: slot.Port, Protocol: "tls", ServerName: request.PlainName(slot.ServerName)}
		if row.Address == "" {
			row.Address = n.Address
		}
		switch {
		case !slotName.MatchString(slot.Name):
			return nil, invalid("the device cannot be added", fmt.Sprintf("%q is no slot name", slot.Name), nameRule)
		case slot.Port < 1 || slot.Port > 65535:
			return nil, invalid("the device cannot be added", fmt.Sprintf("%d is no port", slot.Port), "give a port from 1 to 65535")
		case !request.IsName(strings.ToLower(row.Address)), row.ServerName != "" && !request.IsName(row.ServerName):
			return nil, invalid("the device cannot be added", fmt.Sprintf("the slot %s has an address or server name that is none", slot.Name), "give an IP address or a DNS name")
		}
		out = append(out, row)
	}
	return out, nil
}

// checkFamily sees that a device that is to be worked on can be, and seals its secrets.
func (s *Service) checkFamily(ctx context.Context, n NewDevice, d store.Device) (map[string][]byte, error) {
	cannot := "the device cannot be added"
	if n.Family == ownFamily {
		return nil, notOwn(cannot)
	}
	p, err := s.family(n.Family)
	if err != nil {
		return nil, err
	}
	if err := checkSettings(cannot, p, n.Settings); err != nil {
		return nil, err
	}
	secrets := s.sealSettings(n.Name, p, d.Settings.V)
	if !p.Uses(procedure.SSH) {
		return secrets, nil // nothing signs in to it
	}
	if n.Credential == "" {
		maps.Copy(secrets, s.sealAccess("device/"+n.Name, n.Access))
		return secrets, n.check(cannot)
	}
	if n.SSHUser+n.Password+n.Key != "" {
		return nil, invalid(cannot, "it has a shared credential and one of its own", "give either --credential, or --ssh-user with a password or key")
	}
	if _, err := s.Credential(ctx, n.Credential); err != nil {
		return nil, err
	}
	return secrets, checkHostKey(cannot, n.HostKey)
}

// Revision is the part of a device that people change: what a reading changes
// makes nobody's change stale.
func (d Device) Revision() any {
	d.Condition, d.ExpiresAt = "", nil
	return d
}

// Device shows one device.
func (s *Service) Device(ctx context.Context, name string) (Device, error) {
	d, err := s.store.Device(ctx, name)
	if err != nil {
		return Device{}, notFound(err, "see: freshseal device list", "no device is called %s", name)
	}
	return s.show(ctx, d)
}

func (s *Service) show(ctx context.Context, d store.Device) (Device, error) {
	slots, err := s.store.SlotsOf(ctx, d.Name)
	return s.showWith(d, slots), err
}

func (s *Service) showWith(d store.Device, slots []store.Slot) Device {
	out := Device{Name: d.Name, Family: d.Family, Site: d.Site, Address: d.Address, SSHPort: d.SSHPort, SSHUser: d.SSHUser,
		HostKey: d.HostKey, OldSSH: d.OldSSH, Settings: d.Settings.V, Credential: d.Credential, Cluster: d.Cluster, ClusterRole: d.ClusterRole, Condition: due.Fresh, Owner: d.Owner, Tags: d.Tags.V, Notes: d.Notes, AddedAt: d.AddedAt.Time, Slots: []DeviceSlot{}}
	for _, slot := range slots {
		out.Slots = append(out.Slots, DeviceSlot{slot.Name, slot.Address, slot.Port, slot.ServerName})
		seen := s.summary(slot)
		if seen.Condition.Rank() < out.Condition.Rank() {
			out.Condition = seen.Condition
		}
		if seen.ExpiresAt != nil && (out.ExpiresAt == nil || seen.ExpiresAt.Before(*out.ExpiresAt)) {
			out.ExpiresAt = seen.ExpiresAt
		}
	}
	return out
}

// RemoveDevice forgets a device, its history and its secrets. It is refused
// while a replacement of it is under way.
func (s *Service) RemoveDevice(ctx context.Context, name string) error {
	slots, err := s.store.SlotsOf(ctx, name)
	if err != nil {
		return err
	}
	for _, slot := range slots {
		newest, err := s.store.Replacements(ctx, slot.ID, 1)
		if err != nil {
			return err
		}
		if len(newest) > 0 && !newest[0].State.Over() {
			return &Error{Conflict, fmt.Sprintf("%s cannot be removed", name), fmt.Sprintf("its replacement %s is under way", idText(newest[0].ID)), "cancel it first: freshseal replacement cancel " + idText(newest[0].ID)}
		}
	}
	d, err := s.store.Device(ctx, name)
	if err != nil {
		return notFound(err, "see: freshseal device list", "no device is called %s", name)
	}
	secrets := purposes("device/" + name)
	for setting := range d.Settings.V {
		secrets = append(secrets, settingPurpose(name, setting))
	}
	err = s.store.RemoveDevice(ctx, name, secrets...)
	return notFound(err, "see: freshseal device list", "no device is called %s", name)
}

// AskHostKey connects to an SSH server, the way into its site, just far enough
// to learn its host key.
func (s *Service) AskHostKey(ctx context.Context, site, address string, port int) (string, error) {
	pin, err := ssh.AskHostKey(ctx, s.way(site), net.JoinHostPort(address, strconv.Itoa(port)))
	if err != nil {
		return "", &Error{Outside, "no host key could be had", err.Error(), "see that the device is on, and that its address and SSH port are right"}
	}
	return pin, nil
}

// target opens the sealed secrets of a device for a link.
func (s *Service) target(ctx context.Context, d store.Device) (ssh.Target, error) {
	t := ssh.Target{Address: net.JoinHostPort(d.Address, strconv.Itoa(d.SSHPort)), User: d.SSHUser, HostKey: d.HostKey, OldSSH: d.OldSSH}
	if d.Credential == "" {
		return t, s.openAccess(ctx, "device/"+d.Name, &t)
	}
	shared, err := s.store.Credential(ctx, d.Credential)
	if err != nil {
		return t, noCredential(err, d.Credential)
	}
	t.User = shared.SSHUser
	return t, s.openAccess(ctx, "credential/"+d.Credential, &t)
}

// checkSettings sees that settings fit their family.
func checkSettings(cannot string, p procedure.Source, settings map[string]string) error {
	if _, err := procedure.NewScope(procedure.Material{Procedure: p.Procedure}, settings, nil); err != nil {
		return invalid(cannot, err.Error(), "see: freshseal procedure show "+p.Name)
	}
	return nil
}

// sealedSetting stands in a device's settings for one that is a secret.
const sealedSetting = "••••••"

func settingPurpose(device, setting string) string { return "device/" + device + "/setting/" + setting }

// sealSettings takes the secrets out of a device's settings and seals them.
func (s *Service) sealSettings(device string, p procedure.Source, settings map[string]string) map[string][]byte {
	out := map[string][]byte{}
	for name, text := range settings {
		if setting, ok := p.Setting(name); !ok || setting.Kind != procedure.Secret || text == sealedSetting || text == "" {
			continue
		}
		purpose := settingPurpose(device, name)
		out[purpose] = s.box.Seal(purpose, []byte(text))
		settings[name] = sealedSetting
	}
	return out
}

// openSettings are a device's settings with their secrets.
func (s *Service) openSettings(ctx context.Context, d store.Device) (map[string]string, error) {
	out := maps.Clone(d.Settings.V)
	for name, text := range out {
		if text != sealedSetting {
			continue
		}
		purpose := settingPurpose(d.Name, name)
		sealed, err := s.store.Secret(ctx, purpose)
		if err != nil {
			return nil, fmt.Errorf("the secret setting %s of %s: %w", name, d.Name, err)
		}
		secret, err := s.box.Open(purpose, sealed)
		if err != nil {
			return nil, err
		}
		out[name] = string(secret)
	}
	return out, nil
}
