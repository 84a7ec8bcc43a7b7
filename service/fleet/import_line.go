package fleet

import (
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/service/problem"
)

// importLine is a line of a file by column. An empty cell leaves a field as it is; a cell with the text cleared empties
// it.
type importLine struct {
	number int
	cells  map[string]string
}

// cleared is written into a cell to empty the field.
const cleared = "-"

// says returns the text of a cell, and reports whether it has one.
func (l importLine) says(name string) (string, bool) {
	text := l.cells[name]
	if text == cleared {
		return "", true
	}
	return text, text != ""
}

func (l importLine) get(name string) string {
	text, _ := l.says(name)
	return text
}

// field returns the text of a cell for a change, nil if it is empty.
func (l importLine) field(name string) *string {
	if text, said := l.says(name); said {
		return &text
	}
	return nil
}

// agrees returns what is wrong with a further line of a device: it may differ from the first in its slot
// alone, as an export writes it.
func (l importLine) agrees(first importLine, slots map[string]int) error {
	for _, name := range slices.Sorted(maps.Keys(l.cells)) {
		if !slices.Contains(slotColumns, name) && l.cells[name] != first.cells[name] {
			return problem.Reject("", fmt.Sprintf("line %d says another %s of this device", first.number, name),
				"make the lines of a device the same but for its slots, or remove one")
		}
	}
	if n := slots[l.slotName()]; n > 0 {
		return problem.Reject("", fmt.Sprintf("line %d already has this device and slot", n),
			"remove one of the two lines")
	}
	return nil
}

// saysTheSame reports whether each line of a device says what an export of it would say, or nothing. Lines that mean
// the same in other words are not recognized.
func saysTheSame(d contract.Device, group []importLine) bool {
	for _, line := range group {
		i := slices.IndexFunc(d.Slots, func(slot contract.DeviceSlot) bool { return slot.Name == line.slotName() })
		if i < 0 && line.namesSlot() {
			return false
		}
		var slot contract.DeviceSlot
		if i >= 0 {
			slot = d.Slots[i]
		}
		there := exported(d, slot)
		for name, value := range d.Settings {
			there["setting:"+name] = value // secret ones too: they may be cleared
		}
		for name, text := range line.cells {
			if text != "" && text != there[name] && (text != cleared || there[name] != "") {
				return false
			}
		}
	}
	return true
}

func (l importLine) slotName() string {
	if name := l.get("slot"); name != "" {
		return name
	}
	return "web"
}

// namesSlot reports whether a line says anything of a slot.
func (l importLine) namesSlot() bool {
	return slices.ContainsFunc(slotColumns, func(name string) bool { _, said := l.says(name); return said })
}

func (l importLine) port(name string) (int, error) {
	text := l.get(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0, problem.Reject("", fmt.Sprintf("%q is not a port", text), "give a number in the column "+name)
	}
	return n, nil
}

// slot returns the slot of a line as a new one.
func (l importLine) slot(device string) (contract.DeviceSlot, error) {
	out := contract.DeviceSlot{Name: l.slotName(), Address: l.get("slot_address"),
		Protocol: strings.ToLower(l.get("protocol")), ServerName: l.get("server_name")}
	if _, said := l.says("server_name"); !said && strings.Contains(device, ".") {
		out.ServerName = device
	}
	var err error
	if out.Port, err = l.port("port"); err != nil {
		return out, err
	}
	out.More, err = readPlaces(l.get("slot_more"))
	return out, err
}

// slotChange returns what a line changes of an existing slot.
func (l importLine) slotChange() (contract.SlotChange, error) {
	out := contract.SlotChange{Address: l.field("slot_address"), ServerName: l.field("server_name")}
	if protocol := strings.ToLower(l.get("protocol")); protocol != "" {
		out.Protocol = &protocol
	}
	port, err := l.port("port")
	if err != nil {
		return out, err
	}
	if port != 0 {
		out.Port = &port
	}
	if text, said := l.says("slot_more"); said {
		if out.More, err = readPlaces(text); out.More == nil {
			out.More = []contract.Place{}
		}
	}
	return out, err
}

// device returns a line as a new device.
func (l importLine) device() (contract.NewDevice, error) {
	d := contract.NewDevice{Name: l.get("name"), Address: l.get("address"), Site: l.get("site"),
		Family: l.get("family"), Owner: l.get("owner"), Notes: l.get("notes"),
		Tags: strings.Fields(l.get("tags")), Cluster: l.get("cluster"), ClusterRole: l.get("cluster_role"),
		Settings: map[string]string{}}
	var err error
	if d.Nodes, err = readNodes(l.get("nodes")); err != nil {
		return d, err
	}
	if d.Access, err = l.access(true); err != nil {
		return d, err
	}
	slot, err := l.slot(d.Name)
	d.Slots = []contract.DeviceSlot{slot}
	for name := range l.cells {
		if setting, ok := strings.CutPrefix(name, "setting:"); ok && l.get(name) != "" {
			d.Settings[setting] = l.get(name)
		}
	}
	return d, err
}

// change returns what a line changes of an existing device, without passwords.
func (l importLine) change() (contract.DeviceChange, error) {
	c := contract.DeviceChange{Site: l.field("site"), Family: l.field("family"), Address: l.field("address"),
		Owner: l.field("owner"), Notes: l.field("notes"),
		Cluster: l.field("cluster"), ClusterRole: l.field("cluster_role"), Settings: map[string]string{}}
	if text, said := l.says("tags"); said {
		c.Tags = append([]string{}, strings.Fields(text)...)
	}
	var err error
	if text, said := l.says("nodes"); said {
		if c.Nodes, err = readNodes(text); c.Nodes == nil {
			c.Nodes = []contract.Node{}
		}
	}
	for name := range l.cells {
		if setting, ok := strings.CutPrefix(name, "setting:"); ok {
			if text, said := l.says(name); said {
				c.Settings[setting] = text
			}
		}
	}
	if err == nil {
		c.Access, err = l.access(false)
	}
	return c, err
}

// passwords reports whether a line has any password.
func (l importLine) passwords() bool {
	return slices.ContainsFunc(procedure.SignedIn(), func(link string) bool { return l.get(link+":password") != "" })
}

// givePasswords adds the passwords of a line to a change.
func (l importLine) givePasswords(c *contract.DeviceChange) {
	if access, err := l.access(true); err == nil {
		c.Access = access
	}
}

// access returns how a line's device is reached.
func (l importLine) access(passwords bool) ([]contract.AccessChange, error) {
	var out []contract.AccessChange
	for _, link := range procedure.SignedIn() {
		change, given, err := readAccess(link, func(field string) string {
			if field == "password" && !passwords {
				return ""
			}
			return l.get(link + ":" + field)
		})
		if err != nil {
			return nil, err
		}
		if given {
			out = append(out, change)
		}
	}
	return out, nil
}

// readAccess parses the columns of a link, and reports whether any was filled.
func readAccess(link string, get func(field string) string) (contract.AccessChange, bool, error) {
	out, given := contract.AccessChange{Link: link}, false
	for field, to := range map[string]**string{"address": &out.Address, "user": &out.User,
		"credential": &out.Credential, "pin": &out.Pin} {
		if text := get(field); text != "" {
			*to, given = &text, true
		}
	}
	out.Password = get("password")
	given = given || out.Password != ""
	for _, each := range strings.Fields(get("options")) {
		name, value, ok := strings.Cut(each, "=")
		if !ok {
			return out, true, problem.Reject("", fmt.Sprintf("%q is not an option", each),
				"write options as NAME=VALUE, separated by blanks")
		}
		if out.Options == nil {
			out.Options = map[string]string{}
		}
		out.Options[name], given = value, true
	}
	if text := get("port"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			return out, true, problem.Reject("", fmt.Sprintf("%q is not a port", text),
				"give a number in the column "+link+":port")
		}
		out.Port, given = &n, given || n != procedure.UsualPort(link)
	}
	return out, given, nil
}

// readPlaces parses further addresses of a slot: ADDRESS:PORT, separated by blanks.
func readPlaces(text string) ([]contract.Place, error) {
	var out []contract.Place
	for _, each := range strings.Fields(text) {
		host, port, err := net.SplitHostPort(each)
		n, bad := strconv.Atoi(port)
		if err != nil || bad != nil {
			return nil, problem.Reject("", fmt.Sprintf("%q is not an address with a port", each),
				"write ADDRESS:PORT, separated by blanks")
		}
		out = append(out, contract.Place{Address: host, Port: n})
	}
	return out, nil
}

// readNodes parses nodes: NAME=ADDRESS, separated by blanks.
func readNodes(text string) ([]contract.Node, error) {
	var out []contract.Node
	for _, each := range strings.Fields(text) {
		name, address, ok := strings.Cut(each, "=")
		if !ok {
			return nil, problem.Reject("", fmt.Sprintf("%q is not a node", each), "write NAME=ADDRESS, separated "+
				"by blanks")
		}
		out = append(out, contract.Node{Name: name, Address: address})
	}
	return out, nil
}
