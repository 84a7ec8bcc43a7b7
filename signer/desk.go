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

	"freshseal/core/pki/request"
	"freshseal/core/terminal/visible"
)

// Errand is one request that is to be signed, with what its signer must know of it.
type Errand struct {
	Replacement string
	Device      string
	Slot        string
	Request     request.Request
	Days        int    // how long it is to live; 0: as the signer has it
	Notes       string // of the device, for whoever signs
}

// lifetime returns how long a certificate is to live, in words.
func (e Errand) lifetime() string {
	if e.Days == 0 {
		return "as issued"
	}
	return fmt.Sprintf("%d days", e.Days)
}

// Wish is what is wanted of a signer besides signatures.
type Wish struct {
	Profile string // the kind of certificate to pick
	Notes   string // the signer's own ways
	Order   string // the number of the purchase, and who approved it
}

// Parcel packs requests for a person who signs them: a zip with each request as
// PEM and DER, and lists of them: CSV for machines, HTML to print and text to
// read.
func Parcel(id string, packed time.Time, wish Wish, errands []Errand) ([]byte, error) {
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
	rows.Write([]string{"file", "der_file", "device", "slot", "common_name", "names", "key", "lifetime", "profile",
		"request_sha256", "replacement", "notes"})
	var letter strings.Builder
	fmt.Fprintf(&letter, "Requests to be signed: parcel %s, packed %s\n\n", id,
		packed.UTC().Format("2006-01-02 15:04 MST"))
	letter.WriteString("Please sign each request below for use by a server (extended key usage serverAuth)\n" +
		"with all the names it asks for, and send back the certificates together with the\n" +
		"intermediates. Any format and any file names will do.\n")
	if wish.Profile != "" {
		fmt.Fprintf(&letter, "\nProfile: %s\n", wish.Profile)
	}
	if wish.Order != "" {
		fmt.Fprintf(&letter, "\nOrder: %s\n", wish.Order)
	}
	if wish.Notes != "" {
		fmt.Fprintf(&letter, "\n%s\n", wish.Notes)
	}
	sheet := page{ID: id, Packed: packed.UTC().Format("2006-01-02 15:04 MST"), Wish: wish}
	for i, e := range errands {
		name := fmt.Sprintf("%03d-%s-%s", i+1, fileWord(e.Device), fileWord(e.Slot))
		file := name + ".csr.pem"
		if err := errors.Join(add(file, e.Request.PEM()), add("der/"+name+".csr", e.Request.Raw)); err != nil {
			return nil, err
		}
		r := e.Request
		sheet.Rows = append(sheet.Rows, row{i + 1, e.Device + "/" + e.Slot, file, r.Subject.String(),
			strings.Join(r.Names(), ", "), r.Key(), e.lifetime(), spaced(r.SHA256()), e.Notes})
		rows.Write([]string{file, "der/" + name + ".csr", visible.Cell(e.Device), visible.Cell(e.Slot),
			visible.Cell(r.Subject.CommonName), visible.Cell(strings.Join(r.Names(), " ")), r.Key(), e.lifetime(),
			visible.Cell(wish.Profile), r.SHA256(), e.Replacement, visible.Cell(e.Notes)})
		fmt.Fprintf(&letter, "\n%3d. %s, %s\n     file      %s\n     subject   %s\n     names     %s\n     key     "+
			"  %s\n     lifetime  %s\n     SHA-256   %s\n               of the request (DER), to compare by "+
			"telephone\n",
			i+1, e.Device, e.Slot, file, r.Subject, strings.Join(r.Names(), ", "), r.Key(), e.lifetime(),
			spaced(r.SHA256()))
		if e.Notes != "" {
			fmt.Fprintf(&letter, "     note      %s\n", e.Notes)
		}
	}
	rows.Flush()
	var printed bytes.Buffer
	if err := list.Execute(&printed, sheet); err != nil {
		return nil, err
	}
	if err := errors.Join(add("list.html", printed.Bytes()), rows.Error(), add("list.csv", table.Bytes()),
		add("list.txt", []byte(letter.String())), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// page is the list that prints.
type page struct {
	ID, Packed string
	Wish       Wish
	Rows       []row
}

type row struct {
	N                                                    int
	Slot, File, Subject, Names, Key, Life, SHA256, Notes string
}

var list = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Requests to be signed: parcel {{.ID}}</title>
<style>@page{size:A4 landscape;margin:1.5cm}@media screen{body{margin:1cm}}body{font:10pt/1.4 sans-serif}table{border-collapse:collapse;width:100%;table-layout:fixed}td,th{border:1px solid #999;padding:4px 6px;text-align:left;vertical-align:top;overflow-wrap:anywhere}code{font:9pt monospace}tr{break-inside:avoid}.no{width:4%}.short{width:8%}.sum{width:21%}</style>
<h1>Requests to be signed: parcel {{.ID}}</h1>
<p>Packed {{.Packed}}. Please sign each request for use by a server, with all the names it asks for, and send back the certificates with the intermediates.</p>
{{with .Wish.Profile}}<p>Profile: {{.}}</p>{{end}}
{{with .Wish.Order}}<p>Order: {{.}}</p>{{end}}
{{with .Wish.Notes}}<p style="white-space:pre-line">{{.}}</p>{{end}}
<table><tr><th class="no">No.</th><th>For</th><th>Subject and names</th><th class="short">Key</th><th class="short">Lifetime</th><th class="sum">SHA-256 of the request (DER), to compare by telephone</th><th class="short">Signed</th></tr>
{{range .Rows}}<tr><td>{{.N}}</td><td>{{.Slot}}<br><code>{{.File}}</code>{{with .Notes}}<br>{{.}}{{end}}</td><td>{{.Subject}}<br>{{.Names}}</td><td>{{.Key}}</td><td>{{.Life}}</td><td><code>{{.SHA256}}</code></td><td></td></tr>
{{end}}</table></html>
`))

var notFileWord = regexp.MustCompile(`[^A-Za-z0-9-]+`)

func fileWord(s string) string { return notFileWord.ReplaceAllString(s, "_") }

// spaced groups a fingerprint by eight, so that it can be read out.
func spaced(hex string) string {
	var groups []string
	for len(hex) > 8 {
		groups = append(groups, hex[:8])
		hex = hex[8:]
	}
	return strings.Join(append(groups, hex), " ")
}
