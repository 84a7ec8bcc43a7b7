// Package sheet writes tables as files for spreadsheets.
package sheet

import (
	"bytes"
	"encoding/csv"
	"fmt"

	"freshseal/core/next"
	"freshseal/core/visible"
	"freshseal/service/problem"

	"github.com/xuri/excelize/v2"
)

// File is a file for a spreadsheet.
type File struct {
	Media   string
	Name    string
	Content []byte
}

// Write writes rows, the header first, as csv (also where as is empty) or xlsx. What a spreadsheet would take for a
// formula is text in both.
func Write(as, name string, rows [][]string) (File, error) {
	switch as {
	case "", "csv":
		content, err := asCSV(rows)
		return File{"text/csv; charset=utf-8", name + ".csv", content}, err
	case "xlsx":
		content, err := asWorkbook(name, rows)
		return File{"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", name + ".xlsx", content}, err
	}
	return File{}, problem.Reject("the file was not made", fmt.Sprintf("%q is not a form of it", as), "give csv or xlsx", next.Give.On("form"))
}

func asCSV(rows [][]string) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for i, row := range rows {
		guarded := row
		if i > 0 {
			guarded = make([]string, len(row))
			for n, cell := range row {
				guarded[n] = visible.Guard(cell)
			}
		}
		w.Write(guarded)
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// asWorkbook writes every cell as text, with a header that stays in sight.
func asWorkbook(name string, rows [][]string) ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	if err := f.SetSheetName("Sheet1", name); err != nil {
		return nil, err
	}
	w, err := f.NewStreamWriter(name)
	if err != nil {
		return nil, err
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	if len(rows) > 0 {
		if err := w.SetColWidth(1, len(rows[0]), 22); err != nil {
			return nil, err
		}
		if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
			return nil, err
		}
	}
	for i, row := range rows {
		cells := make([]any, len(row))
		for n, cell := range row {
			cells[n] = excelize.Cell{Value: visible.Text(cell)}
			if i == 0 {
				cells[n] = excelize.Cell{Value: cell, StyleID: bold}
			}
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+1), cells); err != nil {
			return nil, err
		}
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	out, err := f.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
