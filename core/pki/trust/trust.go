// Package trust writes trusted roots for a group of clients in the very form
// in which that group takes them.
//
//	roots  →  Export(form)  →  a file, and what to do with it
package trust

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"freshseal/core/pki/cert"

	"github.com/digitorus/pkcs7"
	"software.sslmate.com/src/go-pkcs12"
)

// Form is how a group of clients takes its roots.
type Form string

// The forms.
const (
	PEM     Form = "pem"
	DER     Form = "der"            // one root
	PKCS7   Form = "pkcs7"          // DER
	Debian  Form = "debian"         // an archive for /usr/local/share/ca-certificates
	Policy  Form = "browser-policy" // a managed policy of Chromium and its kin
	Profile Form = "profile"        // a configuration profile of macOS and iOS
	Store   Form = "pkcs12"         // a trust store without keys, as Java takes it
)

// Forms are all forms.
var Forms = []Form{PEM, DER, PKCS7, Debian, Policy, Profile, Store}

// File is what Export makes.
type File struct {
	Name    string
	Media   string
	Content []byte
	Do      string // what to do with it
}

// Export writes roots in a form. A trust store needs a passphrase, which locks
// nothing secret and is asked for by whoever opens it.
func Export(form Form, name string, roots []*cert.Certificate, passphrase string) (File, error) {
	if len(roots) == 0 {
		return File{}, errors.New("there is no root to export")
	}
	file := name + "-roots"
	switch form {
	case PEM:
		var out bytes.Buffer
		for _, c := range roots {
			out.Write(c.PEM())
		}
		return File{file + ".pem", "application/x-pem-file", out.Bytes(), "name it where the client wants a file " +
			"of trusted authorities, such as curl --cacert"}, nil
	case DER:
		if len(roots) != 1 {
			return File{}, fmt.Errorf("DER holds one certificate, and these are %d; choose another form", len(roots))
		}
		return File{file + ".cer", "application/pkix-cert", roots[0].Raw, "on Windows: certutil -addstore Root " +
			"FILE, as an administrator"}, nil
	case PKCS7:
		var all []byte
		for _, c := range roots {
			all = append(all, c.Raw...)
		}
		der, err := pkcs7.DegenerateCertificate(all)
		return File{file + ".p7b", "application/x-pkcs7-certificates", der, "on Windows: certutil -addstore Root " +
			"FILE, or a group policy under Trusted Root Certification Authorities"}, err
	case Debian:
		content, err := folder(roots)
		return File{file + ".zip", "application/zip", content, "unpack it into /usr/local/share/ca-certificates " +
			"and run update-ca-certificates"}, err
	case Policy:
		content, err := policy(roots)
		return File{file + ".json", "application/json", content, "put it into /etc/chromium/policies/managed; the " +
			"browser takes it at its next start"}, err
	case Profile:
		content, err := profile(name, roots)
		return File{file + ".mobileconfig", "application/x-apple-aspen-config", content,
			"install it with the device management, or open it and allow it in the system settings"}, err
	case Store:
		if passphrase == "" {
			return File{}, errors.New("a trust store needs a passphrase")
		}
		var list []*x509.Certificate
		for _, c := range roots {
			list = append(list, c.X509())
		}
		content, err := pkcs12.Modern2023.EncodeTrustStore(list, passphrase)
		return File{file + ".p12", "application/x-pkcs12", content, "name it to the Java program as its trust " +
			"store, of the type PKCS12, with the passphrase"}, err
	}
	return File{}, fmt.Errorf("no form is called %q; the forms are %v", form, Forms)
}

var notWord = regexp.MustCompile(`[^A-Za-z0-9]+`)

func folder(roots []*cert.Certificate) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, c := range roots {
		w, err := z.Create(fmt.Sprintf("%s-%s.crt", strings.Trim(notWord.ReplaceAllString(c.ShortName(), "_"), "_"),
			c.SHA256[:8]))
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(c.PEM()); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

func policy(roots []*cert.Certificate) ([]byte, error) {
	list := []string{}
	for _, c := range roots {
		list = append(list, base64.StdEncoding.EncodeToString(c.Raw))
	}
	return json.MarshalIndent(map[string]any{"CACertificates": list}, "", "  ")
}

// profile writes a property list with a payload for each root.
func profile(name string, roots []*cert.Certificate) ([]byte, error) {
	var out bytes.Buffer
	text := func(s string) string {
		var b bytes.Buffer
		xml.EscapeText(&b, []byte(s)) // into memory, cannot fail
		return b.String()
	}
	entry := func(key, value string) { fmt.Fprintf(&out, "<key>%s</key><string>%s</string>\n", key, text(value)) }
	out.WriteString(xml.Header + "<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" " +
		"\"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist " +
		"version=\"1.0\"><dict>\n<key>PayloadContent</key><array>\n")
	for _, c := range roots {
		out.WriteString("<dict>\n")
		entry("PayloadType", "com.apple.security.root")
		entry("PayloadDisplayName", c.ShortName())
		entry("PayloadIdentifier", "freshseal.root."+c.SHA256[:16])
		entry("PayloadUUID", uuid(c.SHA256))
		fmt.Fprintf(&out,
			"<key>PayloadVersion</key><integer>1</integer>\n<key>PayloadContent</key><data>%s</data>\n</dict>\n",
			base64.StdEncoding.EncodeToString(c.Raw))
	}
	out.WriteString("</array>\n")
	sum := sha256.Sum256([]byte(name))
	entry("PayloadType", "Configuration")
	entry("PayloadDisplayName", "Trusted roots: "+name)
	entry("PayloadIdentifier", "freshseal.trust-group."+name)
	entry("PayloadUUID", uuid(hex.EncodeToString(sum[:])))
	out.WriteString("<key>PayloadVersion</key><integer>1</integer>\n</dict></plist>\n")
	return out.Bytes(), nil
}

// uuid makes the same one of the same digits each time.
func uuid(digits string) string {
	return strings.ToUpper(digits[:8] + "-" + digits[8:12] + "-" + digits[12:16] + "-" + digits[16:20] + "-" +
		digits[20:32])
}
