package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/terminal/visible"
	"freshseal/service/problem"

	"github.com/xuri/excelize/v2"
)

// deviceColumns and slotColumns are the columns of an import and an export. Beside them a column
// setting:NAME fills a setting of the procedure, and LINK:FIELD a field of how the
// device is reached over a link, such as ssh:user.
var (
	deviceColumns = []string{"name", "address", "site", "family", "owner", "tags", "notes", "cluster", "cluster_role",
		"nodes"}
	slotColumns   = []string{"slot", "slot_address", "port", "protocol", "server_name", "slot_more"}
	importColumns = slices.Concat(deviceColumns, slotColumns)
)

// accessColumns are the fields of a link in a file; the password is never written.
var accessColumns = []string{"address", "port", "user", "credential", "pin", "options", "password"}

// accessColumn splits a column such as ssh:user.
func accessColumn(name string) (link, field string, ok bool) {
	link, field, ok = strings.Cut(name, ":")
	return link, field, ok && slices.Contains(procedure.SignedIn(), link) && slices.Contains(accessColumns, field)
}

// Limits of a file. A workbook is unpacked in memory.
const (
	maxLines    = 100_000
	maxUnzipped = 128 << 20
)

const cannotImport = "the file was not imported"

// importLine is a line of a file: what its columns say. An empty cell says nothing; cleared stands
// in one that is to be empty.
type importLine struct {
	number int
	cells  map[string]string
}

// cleared is what is written into a cell to empty the field.
const cleared = "-"

// says is what a cell says, and whether it says anything.
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

// field is what a cell says, for a change; nil: nothing.
func (l importLine) field(name string) *string {
	if text, said := l.says(name); said {
		return &text
	}
	return nil
}

// readImport reads the lines of a file. What is wrong with all of it is an error.
func readImport(t contract.ImportTerms) ([]importLine, error) {
	var rows [][]string
	var numbers []int
	var err error
	switch {
	case len(t.XLSX) > 0 && t.CSV != "":
		return nil, problem.Reject(cannotImport, "it was given twice", "give either csv or xlsx")
	case len(t.XLSX) > 0: // its cells are text, and nothing was put before a formula
		rows, numbers, err = readWorkbook(t.XLSX, t.Sheet)
	default:
		rows, numbers, err = readCSV(t.CSV)
	}
	if err != nil {
		return nil, err
	}
	at, err := columnsOf(rows[0], t.Columns)
	if err != nil {
		return nil, err
	}
	var out []importLine
	for i, record := range rows[1:] {
		line := importLine{numbers[i+1], map[string]string{}}
		filled := false
		for name, column := range at {
			if column < len(record) {
				line.cells[name] = strings.TrimSpace(record[column])
				if len(t.XLSX) == 0 {
					line.cells[name] = visible.Unguard(line.cells[name])
				}
				filled = filled || line.cells[name] != ""
			}
		}
		if filled {
			out = append(out, line)
		}
	}
	return out, nil
}

func readCSV(text string) (rows [][]string, numbers []int, err error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix([]byte(text), []byte("\xef\xbb\xbf"))))
	r.FieldsPerRecord = -1
	if first, _, _ := strings.Cut(text, "\n"); strings.Count(first, ";") > strings.Count(first, ",") {
		r.Comma = ';'
	}
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		number, _ := r.FieldPos(0)
		if err != nil {
			return nil, nil, problem.Reject(cannotImport, err.Error(), "correct that line")
		}
		rows, numbers = append(rows, record), append(numbers, number)
		if err := tooManyLines(len(rows)); err != nil {
			return nil, nil, err
		}
	}
	if len(rows) == 0 {
		return nil, nil, problem.Reject(cannotImport, "it has no header", "begin with a line such as name,address,site")
	}
	return rows, numbers, nil
}

func tooManyLines(rows int) error {
	if rows > maxLines+1 {
		return problem.Reject(cannotImport, fmt.Sprintf("it has more than %d lines", maxLines), "split it")
	}
	return nil
}

// readWorkbook reads a sheet of a workbook (Office Open XML). Cells with a formula have the value that
// the spreadsheet computed last.
func readWorkbook(content []byte, sheet string) (rows [][]string, numbers []int, err error) {
	broken := func(err error) error {
		return problem.Reject(cannotImport, "the workbook cannot be read: "+visible.Line(err.Error()),
			"save it as an Excel workbook (.xlsx) without a password, or as CSV")
	}
	f, err := excelize.OpenReader(bytes.NewReader(content),
		excelize.Options{RawCellValue: true, UnzipSizeLimit: maxUnzipped, UnzipXMLSizeLimit: maxUnzipped})
	if err != nil {
		return nil, nil, broken(err)
	}
	defer f.Close()
	sheets := f.GetSheetList()
	if sheet == "" && len(sheets) > 0 {
		sheet = sheets[0]
	}
	if !slices.Contains(sheets, sheet) {
		return nil, nil, problem.Reject(cannotImport, fmt.Sprintf("the workbook has no sheet %q", sheet),
			"give one of "+visible.Line(strings.Join(sheets, ", ")))
	}
	lines, err := f.Rows(sheet)
	if err != nil {
		return nil, nil, broken(err)
	}
	defer lines.Close()
	for number := 1; lines.Next(); number++ {
		record, err := lines.Columns()
		if err != nil {
			return nil, nil, broken(err)
		}
		if len(rows) == 0 && len(record) == 0 {
			continue // blank lines above the header
		}
		rows, numbers = append(rows, record), append(numbers, number)
		if err := tooManyLines(len(rows)); err != nil {
			return nil, nil, err
		}
	}
	if err := lines.Error(); err != nil {
		return nil, nil, broken(err)
	}
	if len(rows) == 0 {
		return nil, nil, problem.Reject(cannotImport, "it has no header", "begin with a line such as name, "+
			"address, site")
	}
	return rows, numbers, nil
}

// columnsOf says where each column stands, by our name.
func columnsOf(header []string, mapped map[string]string) (map[string]int, error) {
	at := map[string]int{}
	for i, title := range header {
		title = strings.TrimSpace(title)
		if title == "" {
			continue
		}
		name := strings.ToLower(title)
		for ours, theirs := range mapped {
			if strings.EqualFold(theirs, title) {
				name = ours
			}
		}
		_, _, ofAccess := accessColumn(name)
		if !slices.Contains(importColumns, name) && !strings.HasPrefix(name, "setting:") && !ofAccess {
			return nil, problem.Reject(cannotImport, fmt.Sprintf("its column %q is unknown", title),
				"name the columns "+strings.Join(importColumns, ", ")+", setting:NAME or LINK:FIELD such as "+
					"ssh:user, or map a column of the file")
		}
		if _, twice := at[name]; twice {
			return nil, problem.Reject(cannotImport, fmt.Sprintf("two columns are %s", name), "remove one of them")
		}
		at[name] = i
	}
	if _, ok := at["name"]; !ok {
		return nil, problem.Reject(cannotImport, "it has no column name", "add it, or map a column of the file to it")
	}
	return at, nil
}

// groupLines puts the lines of a device together, in the order of the first of each.
func groupLines(lines []importLine) [][]importLine {
	at := map[string]int{}
	var out [][]importLine
	for _, line := range lines {
		name := line.get("name")
		i, known := at[name]
		if !known {
			i = len(out)
			at[name] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], line)
	}
	return out
}

// agrees says what is wrong with a further line of a device: it may differ from the first in its slot
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

func (l importLine) slotName() string {
	if name := l.get("slot"); name != "" {
		return name
	}
	return "web"
}

// namesSlot says whether a line says anything of a slot.
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

// slot is the slot of a line as a new one.
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

// slotChange is what a line says of a slot that is there.
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

// device is a line as a new device.
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

// change is what a line says of a device that is there, passwords aside.
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

// passwords says whether a line gives any.
func (l importLine) passwords() bool {
	return slices.ContainsFunc(procedure.SignedIn(), func(link string) bool { return l.get(link+":password") != "" })
}

// givePasswords adds the passwords of a line to a change.
func (l importLine) givePasswords(c *contract.DeviceChange) {
	if access, err := l.access(true); err == nil {
		c.Access = access
	}
}

// access is what a line says of how its device is reached.
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

// readAccess reads the columns of a link, and says whether any was filled.
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

// readPlaces reads further addresses of a slot: ADDRESS:PORT, separated by blanks.
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

// readNodes reads nodes: NAME=ADDRESS, separated by blanks.
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
