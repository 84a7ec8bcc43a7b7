// Package sheet writes tables as files: for spreadsheets, and for paper.
package sheet

import (
	"bytes"
	_ "embed" // the page
	"encoding/csv"
	"fmt"
	"html/template"
	"strings"

	"freshseal/core/next"
	"freshseal/core/terminal/visible"
	"freshseal/service/problem"

	"github.com/xuri/excelize/v2"
)

// File is a file for a spreadsheet.
type File struct {
	Media   string
	Name    string
	Content []byte
}

// Table is what is written, the header first.
type Table struct {
	Name  string // of the file, without an ending
	Title string
	Of    string // who made it, and when
	Rows  [][]string
}

// Write writes a table as csv (also where as is empty), xlsx, or as html to be printed. What a spreadsheet would take
// for a formula is text in all of them.
func Write(as string, t Table) (File, error) {
	switch as {
	case "", "csv":
		content, err := asCSV(t.Rows)
		return File{"text/csv; charset=utf-8", t.Name + ".csv", content}, err
	case "xlsx":
		content, err := asWorkbook(t)
		return File{"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", t.Name + ".xlsx", content}, err
	case "html":
		content, err := asPage(t)
		return File{"text/html; charset=utf-8", t.Name + ".html", content}, err
	}
	return File{}, problem.Reject("the file was not made", fmt.Sprintf("%q is not a form of it", as),
		"give csv, xlsx or html", next.Give.On("form"))
}

func asCSV(rows [][]string) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for i, row := range rows {
		guarded := row
		if i > 0 {
			guarded = make([]string, len(row))
			for n, cell := range row {
				guarded[n] = visible.Guard(visible.Kept(cell))
			}
		}
		w.Write(guarded)
	}
	w.Flush()
	return out.Bytes(), w.Error()
}

// asWorkbook writes every cell as text, with a header that stays in sight.
func asWorkbook(t Table) ([]byte, error) {
	rows, name := t.Rows, t.Name[:min(len(t.Name), 31)] // longer ones are no names of sheets
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
		if err := w.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
			ActivePane: "bottomLeft"}); err != nil {
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

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{"shown": visible.Line,
	"words": func(name string) string {
		return strings.ReplaceAll(name, "_", " ")
	}}).Parse(pageText))

// asPage writes a page without anything from elsewhere.
func asPage(t Table) ([]byte, error) {
	var out bytes.Buffer
	head, rows := []string{}, t.Rows
	if len(rows) > 0 {
		head, rows = rows[0], rows[1:]
	}
	err := page.Execute(&out, struct {
		Table
		Head []string
		Body [][]string
	}{t, head, rows})
	return out.Bytes(), err
}
