package signer

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"regexp"
	"strings"
	"time"

	"freshseal/core/request"
)

// Errand is one request that goes out to a person, with what that person must
// know of it.
type Errand struct {
	Replacement string
	Device      string
	Slot        string
	Request     request.Request
}

// Parcel packs requests for a person who signs them: a zip with each request as
// PEM and DER, and lists of them: CSV for machines, HTML to print and text to
// read. notes are what is known of the signer's own ways.
func Parcel(id string, packed time.Time, notes string, errands []Errand) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	add := func(name string, content []byte) error {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: packed})
		if err != nil {
			return err
		}
		_, err = w.Write(content)
		return err
	}
	var table bytes.Buffer
	rows := csv.NewWriter(&table)
	rows.Write([]string{"file", "der_file", "device", "slot", "common_name", "names", "key", "request_sha256", "replacement"})
	var letter strings.Builder
	fmt.Fprintf(&letter, "Requests to be signed: parcel %s, packed %s\n\n", id, packed.UTC().Format("2006-01-02 15:04 MST"))
	letter.WriteString("Please sign each request below for use by a server (extended key usage serverAuth)\n" +
		"with all the names it asks for, and send back the certificates together with the\n" +
		"intermediates. Any format and any file names will do.\n")
	if notes != "" {
		fmt.Fprintf(&letter, "\n%s\n", notes)
	}
	sheet := page{ID: id, Packed: packed.UTC().Format("2006-01-02 15:04 MST"), Notes: notes}
	for i, e := range errands {
		name := fmt.Sprintf("%03d-%s-%s", i+1, fileWord(e.Device), fileWord(e.Slot))
		file := name + ".csr.pem"
		if err := errors.Join(add(file, e.Request.PEM()), add("der/"+name+".csr", e.Request.Raw)); err != nil {
			return nil, err
		}
		r := e.Request
		sheet.Rows = append(sheet.Rows, row{i + 1, e.Device + "/" + e.Slot, file, r.Subject.String(), strings.Join(r.Names(), ", "), r.Key(), spaced(r.SHA256())})
		rows.Write([]string{file, "der/" + name + ".csr", cell(e.Device), cell(e.Slot), cell(r.Subject.CommonName), cell(strings.Join(r.Names(), " ")), r.Key(), r.SHA256(), e.Replacement})
		fmt.Fprintf(&letter, "\n%3d. %s, %s\n     file      %s\n     subject   %s\n     names     %s\n     key       %s\n     SHA-256   %s\n               of the request (DER), to compare by telephone\n",
			i+1, e.Device, e.Slot, file, r.Subject, strings.Join(r.Names(), ", "), r.Key(), spaced(r.SHA256()))
	}
	rows.Flush()
	var printed bytes.Buffer
	if err := list.Execute(&printed, sheet); err != nil {
		return nil, err
	}
	if err := errors.Join(add("list.html", printed.Bytes()), rows.Error(), add("list.csv", table.Bytes()), add("list.txt", []byte(letter.String())), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// page is the list that prints.
type page struct {
	ID, Packed, Notes string
	Rows              []row
}

type row struct {
	N                                       int
	Slot, File, Subject, Names, Key, SHA256 string
}

var list = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Requests to be signed: parcel {{.ID}}</title>
<style>body{font:11pt/1.4 sans-serif;margin:2cm}table{border-collapse:collapse;width:100%}td,th{border:1px solid #999;padding:4px 6px;text-align:left;vertical-align:top}code{font:9pt monospace;overflow-wrap:anywhere}tr{break-inside:avoid}.done{width:2cm}</style>
<h1>Requests to be signed: parcel {{.ID}}</h1>
<p>Packed {{.Packed}}. Please sign each request for use by a server, with all the names it asks for, and send back the certificates with the intermediates.</p>
{{with .Notes}}<p style="white-space:pre-line">{{.}}</p>{{end}}
<table><tr><th>No.</th><th>For</th><th>Subject and names</th><th>Key</th><th>SHA-256 of the request (DER), to compare by telephone</th><th class="done">Signed</th></tr>
{{range .Rows}}<tr><td>{{.N}}</td><td>{{.Slot}}<br><code>{{.File}}</code></td><td>{{.Subject}}<br>{{.Names}}</td><td>{{.Key}}</td><td><code>{{.SHA256}}</code></td><td></td></tr>
{{end}}</table></html>
`))

var notFileWord = regexp.MustCompile(`[^A-Za-z0-9-]+`)

func fileWord(s string) string { return notFileWord.ReplaceAllString(s, "_") }

// cell keeps spreadsheets from taking a value for a formula.
func cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// spaced groups a fingerprint by eight, so that it can be read out.
func spaced(hex string) string {
	var groups []string
	for len(hex) > 8 {
		groups = append(groups, hex[:8])
		hex = hex[8:]
	}
	return strings.Join(append(groups, hex), " ")
}
