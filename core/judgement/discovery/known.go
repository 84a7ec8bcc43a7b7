package discovery

import (
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"freshseal/core/glob"
	"freshseal/core/pki/cert"

	"github.com/goccy/go-yaml"
)

//go:embed known-defaults.yaml
var builtin []byte

// Default is a rule by which certificates are recognized that devices are delivered with. All
// that it says must fit; * stands for any text.
type Default struct {
	About   string `yaml:"about"`   // whose default it is
	Subject string `yaml:"subject"` // a pattern
	Issuer  string `yaml:"issuer"`  // a pattern
	SHA256  string `yaml:"sha256"`  // of the certificate: the same on every such device, and so is its key
}

// Defaults are rules, the first that fits counts.
type Defaults []Default

// maxDefaults bounds a file of rules.
const maxDefaults = 10_000

// Builtin are the rules that come with the program.
var Builtin = func() Defaults {
	out, err := ReadDefaults(builtin)
	if err != nil {
		panic(err) // a test reads it
	}
	return out
}()

// ReadDefaults reads a file of rules:
//
//	defaults:
//	  - {about: the Corvane appliance, subject: "*O=Corvane*", issuer: "*Corvane Device CA*"}
func ReadDefaults(text []byte) (Defaults, error) {
	var file struct {
		Defaults Defaults `yaml:"defaults"`
	}
	if err := yaml.UnmarshalWithOptions(text, &file, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("it is not a list of defaults: %s",
			strings.TrimSpace(yaml.FormatError(err, false, false)))
	}
	if len(file.Defaults) > maxDefaults {
		return nil, fmt.Errorf("it has more than %d rules", maxDefaults)
	}
	for i, d := range file.Defaults {
		sum, err := hex.DecodeString(d.SHA256)
		switch {
		case d.About == "":
			return nil, fmt.Errorf("rule %d says nothing about whose default it is; add about", i+1)
		case strings.Trim(d.Subject+d.Issuer, "*") == "" && d.SHA256 == "":
			return nil, fmt.Errorf("rule %d fits every certificate; give a subject, an issuer or a sha256", i+1)
		case d.SHA256 != "" && (err != nil || len(sum) != 32):
			return nil, fmt.Errorf("rule %d: a sha256 has 64 hexadecimal digits", i+1)
		}
		file.Defaults[i].SHA256 = strings.ToLower(d.SHA256)
	}
	return file.Defaults, nil
}

// Of returns the rule that fits a certificate.
func (all Defaults) Of(c *cert.Certificate) (Default, bool) {
	for _, d := range all {
		if d.fits(c) {
			return d, true
		}
	}
	return Default{}, false
}

func (d Default) fits(c *cert.Certificate) bool {
	return (d.SHA256 == "" || d.SHA256 == c.SHA256) && (d.Subject == "" || glob.Match(d.Subject, c.Subject())) &&
		(d.Issuer == "" || glob.Match(d.Issuer, c.Issuer()))
}

// Shared reports whether every device of the kind has the same key, which anybody can read out of one.
func (d Default) Shared() bool { return d.SHA256 != "" }

var errNoPattern = errors.New("give a subject, an issuer or a banner, and more than *")

// Mark is by what a family is recognized on the wire. All that it says must fit.
type Mark struct {
	Subject string `json:"subject,omitempty"`
	Issuer  string `json:"issuer,omitempty"`
	Banner  string `json:"banner,omitempty"`
}

// Check checks that a mark does not fit everything.
func (m Mark) Check() error {
	if strings.Trim(m.Subject+m.Issuer+m.Banner, "*") == "" {
		return errNoPattern
	}
	return nil
}

// weight is how much a mark says: the longer its patterns, the more.
func (m Mark) weight() int { return len(m.Subject) + len(m.Issuer) + len(m.Banner) }

func (m Mark) fits(s Seen) bool {
	return (m.Subject == "" || glob.Match(m.Subject, s.Subject)) &&
		(m.Issuer == "" || glob.Match(m.Issuer, s.Issuer)) &&
		(m.Banner == "" || s.Banner != "" && glob.Match(m.Banner, s.Banner))
}
