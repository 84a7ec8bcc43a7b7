package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
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

// Limits of a file; see workbook.go for more of a workbook.
const (
	maxLines    = 100_000
	maxUnzipped = 128 << 20
)

const cannotImport = "the file was not imported"

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
	if err := checkWorkbook(content); err != nil {
		return nil, nil, broken(err)
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
		if len(record) > mostColumns {
			return nil, nil, broken(fmt.Errorf("row %d has more than %d columns", number, mostColumns))
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

// columnsOf returns where each column stands, by our name.
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
