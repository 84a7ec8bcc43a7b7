package service

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/procedure"
	"freshseal/store"
)

// DeviceChange is what is to be different about a device; what is nil stays.
type DeviceChange struct {
	Site        *string           `json:"site,omitempty"`
	Family      *string           `json:"family,omitempty"`
	Address     *string           `json:"address,omitempty"`
	SSHPort     *int              `json:"ssh_port,omitempty"`
	SSHUser     *string           `json:"ssh_user,omitempty"`
	HostKey     *string           `json:"host_key,omitempty"`
	OldSSH      *bool             `json:"old_ssh,omitempty"`
	Credential  *string           `json:"credential,omitempty" description:"a shared one; empty: its own again"`
	Cluster     *string           `json:"cluster,omitempty"`
	ClusterRole *string           `json:"cluster_role,omitempty"`
	Owner       *string           `json:"owner,omitempty"`
	Tags        []string          `json:"tags,omitempty"`
	Notes       *string           `json:"notes,omitempty"`
	Settings    map[string]string `json:"settings,omitempty" description:"laid over those that are there; an empty value takes one away"`
	Password    *string           `json:"password,omitempty"`
}

// EditDevice changes a device, all or nothing.
func (s *Service) EditDevice(ctx context.Context, name string, c DeviceChange) (Device, error) {
	d, err := s.store.Device(ctx, name)
	if err != nil {
		return Device{}, notFound(err, "see: freshseal device list", "no device is called %s", name)
	}
	set(&d.Site, c.Site)
	set(&d.Family, c.Family)
	set(&d.Address, c.Address)
	set(&d.SSHPort, c.SSHPort)
	set(&d.SSHUser, c.SSHUser)
	set(&d.HostKey, c.HostKey)
	set(&d.OldSSH, c.OldSSH)
	set(&d.Credential, c.Credential)
	set(&d.Cluster, c.Cluster)
	if set(&d.ClusterRole, c.ClusterRole); d.Cluster == "" {
		d.ClusterRole = ""
	}
	set(&d.Owner, c.Owner)
	set(&d.Notes, c.Notes)
	if c.Tags != nil {
		d.Tags.V = slices.DeleteFunc(c.Tags, func(tag string) bool { return strings.TrimSpace(tag) == "" })
	}
	for key, value := range c.Settings {
		if d.Settings.V[key] = value; value == "" {
			delete(d.Settings.V, key)
		}
	}
	cannot := name + " cannot be changed"
	if c.Family != nil && d.Family == ownFamily {
		return Device{}, notOwn(cannot)
	}
	if err := checkAddress(cannot, d); err != nil {
		return Device{}, err
	}
	secrets := map[string][]byte{}
	if c.Password != nil {
		secrets = s.sealAccess("device/"+name, Access{Password: *c.Password})
	}
	if d.Family != "" {
		p, err := s.family(d.Family)
		if err != nil {
			return Device{}, err
		}
		if c.Family != nil { // settings that the new family does not know go with the old one
			maps.DeleteFunc(d.Settings.V, func(name, _ string) bool {
				_, known := p.Setting(name)
				return !known && c.Settings[name] == ""
			})
		}
		if err := checkSettings(cannot, p, d.Settings.V); err != nil {
			return Device{}, err
		}
		maps.Copy(secrets, s.sealSettings(name, p, d.Settings.V))
		if p.Uses(procedure.SSH) && (d.SSHUser == "" && d.Credential == "" || !pinForm.MatchString(d.HostKey)) {
			return Device{}, invalid(cannot, "its family is worked on over SSH, and it has no user or no host key", "give --ssh-user or --credential, and --host-key too")
		}
		if d.Credential != "" {
			if _, err := s.Credential(ctx, d.Credential); err != nil {
				return Device{}, err
			}
		}
	}
	defer s.forget() // it may be under other rules now
	if err := s.store.ChangeDevice(ctx, d, secrets); err != nil {
		return Device{}, err
	}
	return s.Device(ctx, name)
}

func set[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

// Imported is what became, or would become, of one line of an import.
type Imported struct {
	Line   int    `json:"line" required:"true"`
	Device string `json:"device" required:"true"`
	What   string `json:"what" required:"true" enum:"add,there,error"`
	Why    string `json:"why,omitempty"`
	Next   string `json:"next,omitempty"`
}

// Import is the account of an import.
type Import struct {
	Lines []Imported `json:"lines" required:"true"`
	Added int        `json:"added" required:"true"`
	Wrong int        `json:"wrong" required:"true"`
	Done  bool       `json:"done" required:"true" description:"false: nothing was changed"`
}

// ImportTerms say how a file is to be taken.
type ImportTerms struct {
	CSV     string            `json:"csv" required:"true" description:"with a header"`
	Columns map[string]string `json:"columns,omitempty" description:"our name of a column → its name in the header"`
	DryRun  bool              `json:"dry_run,omitempty" description:"only say what would be done"`
	Partial bool              `json:"partial,omitempty" description:"add the lines that are right although others are wrong"`
}

// importColumns are the columns of an import and an export. A column
// setting:NAME fills a setting of the procedure.
var importColumns = []string{"name", "address", "site", "family", "owner", "tags", "notes", "ssh_port", "ssh_user", "password", "credential", "host_key", "cluster", "cluster_role", "slot", "slot_address", "port", "server_name"}

const maxLines = 100_000

// ImportDevices adds the devices of a CSV file: all of them or, where one line
// is wrong, none, unless it may be partial. Devices that are there already are
// passed over.
func (s *Service) ImportDevices(ctx context.Context, t ImportTerms) (Import, error) {
	out := Import{Lines: []Imported{}}
	lines, err := readImport(t)
	if err != nil {
		return out, err
	}
	var rows []store.NewDevice
	seen := map[string]int{}
	joined := joinSlots(lines)
	for i, line := range lines {
		entry := Imported{Line: line.number, Device: line.device.Name, What: "add"}
		if joined[i] { // a further slot of a line above
			out.Lines = append(out.Lines, entry)
			continue
		}
		row, err := s.newDevice(ctx, line.device)
		_, there := s.store.Device(ctx, line.device.Name)
		var known *Error
		switch {
		case line.err != nil:
			err = line.err
		case err == nil && seen[line.device.Name] > 0:
			err = invalid("", fmt.Sprintf("line %d adds it already", seen[line.device.Name]), "leave one of the two out")
		case err == nil && there == nil:
			entry.What = "there"
		case err == nil && !errors.Is(there, store.ErrNotFound):
			return out, there
		case err == nil:
			rows = append(rows, row)
			out.Added++
		}
		if errors.As(err, &known) {
			entry.What, entry.Why, entry.Next = "error", known.Why, known.Next
			out.Wrong++
		} else if err != nil {
			return out, err
		}
		seen[line.device.Name] = line.number
		out.Lines = append(out.Lines, entry)
	}
	if t.DryRun || out.Wrong > 0 && !t.Partial {
		out.Added = 0
		return out, nil
	}
	out.Done = true
	return out, s.store.AddDevices(ctx, rows)
}

// joinSlots makes one device of lines that differ in their slot alone, as an export
// writes them, and says which lines went into one above.
func joinSlots(lines []importLine) []bool {
	joined := make([]bool, len(lines))
	first := map[string]int{}
	for i, line := range lines {
		at, there := first[line.device.Name]
		if !there {
			first[line.device.Name] = i
			continue
		}
		a, b := lines[at].device, line.device
		slot := b.Slots[0]
		a.Slots, b.Slots = nil, nil
		if line.err == nil && reflect.DeepEqual(a, b) && !slices.ContainsFunc(lines[at].device.Slots, func(s DeviceSlot) bool { return s.Name == slot.Name }) {
			lines[at].device.Slots = append(lines[at].device.Slots, slot)
			joined[i] = true
		}
	}
	return joined
}

type importLine struct {
	number int
	device NewDevice
	err    error
}

// readImport turns lines into devices. What is wrong with one line is kept
// beside it; what is wrong with the file ends it.
func readImport(t ImportTerms) ([]importLine, error) {
	cannot := "the file was not imported"
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix([]byte(t.CSV), []byte("\xef\xbb\xbf"))))
	r.FieldsPerRecord = -1
	if first, _, _ := strings.Cut(t.CSV, "\n"); strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';'
	}
	header, err := r.Read()
	if err != nil {
		return nil, invalid(cannot, "it has no header", "begin with a line such as name,address,site")
	}
	at := map[string]int{}
	for i, title := range header {
		name := strings.ToLower(strings.TrimSpace(title))
		for ours, theirs := range t.Columns {
			if strings.EqualFold(theirs, strings.TrimSpace(title)) {
				name = ours
			}
		}
		if !slices.Contains(importColumns, name) && !strings.HasPrefix(name, "setting:") {
			return nil, invalid(cannot, fmt.Sprintf("its column %q is not known", title), "name the columns "+strings.Join(importColumns, ", ")+" or setting:NAME, or map one with --column OURS=THEIRS")
		}
		at[name] = i
	}
	if _, ok := at["name"]; !ok {
		return nil, invalid(cannot, "it has no column name", "add it, or map one with --column name=THEIRS")
	}
	var out []importLine
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		number, _ := r.FieldPos(0)
		if err != nil {
			return nil, invalid(cannot, err.Error(), "correct that line")
		}
		if len(out) >= maxLines {
			return nil, invalid(cannot, fmt.Sprintf("it has more than %d lines", maxLines), "split it")
		}
		out = append(out, readImportLine(number, record, at))
	}
}

func readImportLine(number int, record []string, at map[string]int) importLine {
	get := func(name string) string {
		if i, ok := at[name]; ok && i < len(record) {
			return strings.TrimSpace(record[i])
		}
		return ""
	}
	out := importLine{number: number}
	port := func(name string, otherwise int) int {
		n, err := strconv.Atoi(get(name))
		if get(name) == "" {
			return otherwise
		}
		if err != nil {
			out.err = invalid("", fmt.Sprintf("%q is no port", get(name)), "give a number in the column "+name)
		}
		return n
	}
	d := NewDevice{Name: get("name"), Address: get("address"), Site: get("site"), Family: get("family"), Owner: get("owner"), Notes: get("notes"),
		Tags: strings.Fields(get("tags")), Credential: get("credential"), Cluster: get("cluster"), ClusterRole: get("cluster_role"), SSHPort: port("ssh_port", 22), Settings: map[string]string{},
		Access: Access{SSHUser: get("ssh_user"), Password: get("password"), HostKey: get("host_key")}}
	slot := DeviceSlot{Name: get("slot"), Address: get("slot_address"), Port: port("port", 443), ServerName: get("server_name")}
	if slot.Name == "" {
		slot.Name = "web"
	}
	if slot.ServerName == "" && strings.Contains(d.Name, ".") {
		slot.ServerName = d.Name
	}
	d.Slots = []DeviceSlot{slot}
	for name := range at {
		if setting, ok := strings.CutPrefix(name, "setting:"); ok && get(name) != "" {
			d.Settings[setting] = get(name)
		}
	}
	out.device = d
	return out
}

// ExportDevices writes all devices as the CSV that ImportDevices reads: a line
// for each slot, without secrets.
func (s *Service) ExportDevices(ctx context.Context) ([]byte, error) {
	devices, err := s.allDevices(ctx)
	if err != nil {
		return nil, err
	}
	var settings []string
	devices = slices.DeleteFunc(devices, func(d Device) bool { return d.Family == ownFamily }) // every service lists itself
	for _, d := range devices {
		for name := range d.Settings {
			if !slices.Contains(settings, name) {
				settings = append(settings, name)
			}
		}
	}
	slices.Sort(settings)
	columns := slices.DeleteFunc(slices.Clone(importColumns), func(c string) bool { return c == "password" })
	header := slices.Clone(columns)
	for _, name := range settings {
		header = append(header, "setting:"+name)
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.Write(header)
	for _, d := range devices {
		for _, slot := range d.Slots {
			record := []string{d.Name, d.Address, d.Site, d.Family, d.Owner, strings.Join(d.Tags, " "), d.Notes, strconv.Itoa(d.SSHPort), d.SSHUser, d.Credential, d.HostKey, d.Cluster, d.ClusterRole, slot.Name, elsewhere(slot.Address, d.Address), strconv.Itoa(slot.Port), slot.ServerName}
			for _, name := range settings {
				record = append(record, strings.ReplaceAll(d.Settings[name], sealedSetting, ""))
			}
			w.Write(record)
		}
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// elsewhere is an address where it is another than the usual one.
func elsewhere(address, usual string) string {
	if address == usual {
		return ""
	}
	return address
}
