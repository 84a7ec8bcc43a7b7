package signer

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
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

// Parcel packs requests for a person who signs them: a zip with each request
// as PEM and two lists of them, CSV for machines and text to read and print.
func Parcel(id string, packed time.Time, errands []Errand) ([]byte, error) {
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
	rows.Write([]string{"file", "device", "slot", "common_name", "names", "key", "request_sha256", "replacement"})
	var letter strings.Builder
	fmt.Fprintf(&letter, "Requests to be signed: parcel %s, packed %s\n\n", id, packed.UTC().Format("2006-01-02 15:04 MST"))
	letter.WriteString("Please sign each request below for use by a server (extended key usage serverAuth)\n" +
		"with all the names it asks for, and send back the certificates together with the\n" +
		"intermediates. Any format and any file names will do.\n")
	for i, e := range errands {
		file := fmt.Sprintf("%03d-%s-%s.csr.pem", i+1, fileWord(e.Device), fileWord(e.Slot))
		if err := add(file, e.Request.PEM()); err != nil {
			return nil, err
		}
		r := e.Request
		rows.Write([]string{file, cell(e.Device), cell(e.Slot), cell(r.Subject.CommonName), cell(strings.Join(r.Names(), " ")), r.Key(), r.SHA256(), e.Replacement})
		fmt.Fprintf(&letter, "\n%3d. %s, %s\n     file      %s\n     subject   %s\n     names     %s\n     key       %s\n     SHA-256   %s\n               of the request (DER), to compare by telephone\n",
			i+1, e.Device, e.Slot, file, r.Subject, strings.Join(r.Names(), ", "), r.Key(), spaced(r.SHA256()))
	}
	rows.Flush()
	if err := errors.Join(rows.Error(), add("list.csv", table.Bytes()), add("list.txt", []byte(letter.String())), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

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
