package trust_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/trust"
	"freshseal/core/testkit"
)

// Whatever the form, the same roots are in it.
func TestEachFormHoldsTheRoots(t *testing.T) {
	one, two := testkit.Root(t, "Quay Root"), testkit.Root(t, "Pier & Sons <Root>")
	roots := []*cert.Certificate{one.Certificate, two.Certificate}
	for _, form := range trust.Forms {
		given := roots
		if form == trust.DER {
			given = roots[:1]
		}
		f, err := trust.Export(form, "harbour", given, "anchor chain")
		if err != nil || f.Do == "" {
			t.Fatalf("%s: %v", form, err)
		}
		content := [][]byte{f.Content}
		switch form {
		case trust.Debian:
			if _, err := zip.NewReader(bytes.NewReader(f.Content), int64(len(f.Content))); err != nil {
				t.Error(err)
			}
		case trust.Policy:
			var p struct{ CACertificates [][]byte }
			if err := json.Unmarshal(f.Content, &p); err != nil {
				t.Error(err)
			}
			content = p.CACertificates
		case trust.Profile:
			var p struct {
				Data []string `xml:"dict>array>dict>data"`
			}
			if err := xml.Unmarshal(f.Content, &p); err != nil ||
				!strings.Contains(string(f.Content), "Pier &amp; Sons &lt;Root&gt;") {
				t.Errorf("%v\n%s", err, f.Content)
			}
			content = nil
			for _, d := range p.Data {
				content = append(content, []byte(d))
			}
		case trust.Store: // only Java's own mark tells a trust store; go-pkcs12 wrote it
			continue
		}
		var files []pile.File
		for _, c := range content {
			files = append(files, pile.File{Content: c})
		}
		sorted, err := pile.Sort(files, pile.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if n := len(pile.Certificates(sorted)); n != len(given) {
			t.Errorf("%s holds %d roots", form, n)
		}
	}
	if _, err := trust.Export(trust.DER, "harbour", roots, ""); err == nil {
		t.Error("two in one DER file")
	}
}
