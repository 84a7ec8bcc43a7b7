package fleet

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"freshseal/core/next"
	"freshseal/core/visible"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/service/reach"
	"freshseal/store"
)

// Imported is the outcome of one line of an import.
type Imported struct {
	Line    int           `json:"line" required:"true"`
	Device  string        `json:"device" required:"true"`
	What    string        `json:"what" required:"true" enum:"add,there,error"`
	Why     string        `json:"why,omitempty"`
	Next    string        `json:"next,omitempty"`
	Actions []next.Action `json:"actions,omitempty"`
}

// Import is the result of an import.
type Import struct {
	Lines []Imported `json:"lines" required:"true"`
	Added int        `json:"added" required:"true"`
	Wrong int        `json:"wrong" required:"true"`
	Done  bool       `json:"done" required:"true" description:"false: nothing was changed"`
}

// ImportTerms are the options of an import.
type ImportTerms struct {
	CSV     string            `json:"csv" required:"true" description:"with a header"`
	Columns map[string]string `json:"columns,omitempty" description:"our name of a column → its name in the header"`
	DryRun  bool              `json:"dry_run,omitempty" description:"only say what would be done"`
	Partial bool              `json:"partial,omitempty" description:"add the lines that are right although others are wrong"`
}

// importColumns are the columns of an import and an export. Beside them a column
// setting:NAME fills a setting of the procedure, and LINK:FIELD a field of how the
// device is reached over a link, such as ssh:user.
var importColumns = []string{"name", "address", "site", "family", "owner", "tags", "notes", "cluster", "cluster_role", "nodes", "slot", "slot_address", "port", "protocol", "server_name", "slot_more"}

// accessColumns are the fields of a link in a file; the password is never written.
var accessColumns = []string{"address", "port", "user", "credential", "pin", "options", "password"}

// accessColumn splits a column such as ssh:user.
func accessColumn(name string) (link, field string, ok bool) {
	link, field, ok = strings.Cut(name, ":")
	return link, field, ok && slices.Contains(reach.Links(), link) && slices.Contains(accessColumns, field)
}

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
		var known *problem.Error
		switch {
		case line.err != nil:
			err = line.err
		case err == nil && seen[line.device.Name] > 0:
			err = problem.Reject("", fmt.Sprintf("line %d already adds it", seen[line.device.Name]), "remove one of the two lines")
		case err == nil && there == nil:
			entry.What = "there"
		case err == nil && !errors.Is(there, store.ErrNotFound):
			return out, there
		case err == nil:
			rows = append(rows, row)
			out.Added++
		}
		if errors.As(err, &known) {
			entry.What, entry.Why, entry.Next, entry.Actions = "error", known.Why, known.Next, known.Actions
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
	deed.Say(ctx, "%d devices", out.Added)
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
		return nil, problem.Reject(cannot, "it has no header", "begin with a line such as name,address,site")
	}
	at := map[string]int{}
	for i, title := range header {
		name := strings.ToLower(strings.TrimSpace(title))
		for ours, theirs := range t.Columns {
			if strings.EqualFold(theirs, strings.TrimSpace(title)) {
				name = ours
			}
		}
		_, _, ofAccess := accessColumn(name)
		if !slices.Contains(importColumns, name) && !strings.HasPrefix(name, "setting:") && !ofAccess {
			return nil, problem.Reject(cannot, fmt.Sprintf("its column %q is unknown", title), "name the columns "+strings.Join(importColumns, ", ")+", setting:NAME or LINK:FIELD such as ssh:user, or map a column of the file")
		}
		at[name] = i
	}
	if _, ok := at["name"]; !ok {
		return nil, problem.Reject(cannot, "it has no column name", "add it, or map a column of the file to it")
	}
	var out []importLine
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		number, _ := r.FieldPos(0)
		if err != nil {
			return nil, problem.Reject(cannot, err.Error(), "correct that line")
		}
		if len(out) >= maxLines {
			return nil, problem.Reject(cannot, fmt.Sprintf("it has more than %d lines", maxLines), "split it")
		}
		out = append(out, readImportLine(number, record, at))
	}
}

func readImportLine(number int, record []string, at map[string]int) importLine {
	get := func(name string) string {
		if i, ok := at[name]; ok && i < len(record) {
			return visible.Unguard(strings.TrimSpace(record[i]))
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
			out.err = problem.Reject("", fmt.Sprintf("%q is not a port", get(name)), "give a number in the column "+name)
		}
		return n
	}
	d := NewDevice{Name: get("name"), Address: get("address"), Site: get("site"), Family: get("family"), Owner: get("owner"), Notes: get("notes"),
		Tags: strings.Fields(get("tags")), Cluster: get("cluster"), ClusterRole: get("cluster_role"), Settings: map[string]string{}}
	slot := DeviceSlot{Name: get("slot"), Address: get("slot_address"), Port: port("port", 0), Protocol: strings.ToLower(get("protocol")), ServerName: get("server_name")}
	var err error
	if slot.More, err = readPlaces(get("slot_more")); err != nil {
		out.err = err
	}
	if d.Nodes, err = readNodes(get("nodes")); err != nil {
		out.err = err
	}
	for _, link := range reach.Links() {
		if change, given, err := readAccess(link, func(field string) string { return get(link + ":" + field) }); err != nil {
			out.err = err
		} else if given {
			d.Access = append(d.Access, change)
		}
	}
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

// readAccess reads the columns of a link, and says whether any was filled.
func readAccess(link string, get func(field string) string) (reach.AccessChange, bool, error) {
	out, given := reach.AccessChange{Link: link}, false
	for field, to := range map[string]**string{"address": &out.Address, "user": &out.User, "credential": &out.Credential, "pin": &out.Pin} {
		if text := get(field); text != "" {
			*to, given = &text, true
		}
	}
	out.Password = get("password")
	given = given || out.Password != ""
	for _, each := range strings.Fields(get("options")) {
		name, value, ok := strings.Cut(each, "=")
		if !ok {
			return out, true, problem.Reject("", fmt.Sprintf("%q is not an option", each), "write options as NAME=VALUE, separated by blanks")
		}
		if out.Options == nil {
			out.Options = map[string]string{}
		}
		out.Options[name], given = value, true
	}
	if text := get("port"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			return out, true, problem.Reject("", fmt.Sprintf("%q is not a port", text), "give a number in the column "+link+":port")
		}
		out.Port, given = &n, given || n != reach.UsualPort(link)
	}
	return out, given, nil
}

// readPlaces reads further addresses of a slot: ADDRESS:PORT, separated by blanks.
func readPlaces(text string) ([]store.Place, error) {
	var out []store.Place
	for _, each := range strings.Fields(text) {
		host, port, err := net.SplitHostPort(each)
		n, bad := strconv.Atoi(port)
		if err != nil || bad != nil {
			return nil, problem.Reject("", fmt.Sprintf("%q is not an address with a port", each), "write ADDRESS:PORT, separated by blanks")
		}
		out = append(out, store.Place{Address: host, Port: n})
	}
	return out, nil
}

// readNodes reads nodes: NAME=ADDRESS, separated by blanks.
func readNodes(text string) ([]store.Node, error) {
	var out []store.Node
	for _, each := range strings.Fields(text) {
		name, address, ok := strings.Cut(each, "=")
		if !ok {
			return nil, problem.Reject("", fmt.Sprintf("%q is not a node", each), "write NAME=ADDRESS, separated by blanks")
		}
		out = append(out, store.Node{Name: name, Address: address})
	}
	return out, nil
}
