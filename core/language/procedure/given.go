package procedure

import (
	"crypto"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"

	"freshseal/core/language/value"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pack"
	"freshseal/core/pki/request"
)

// Material is what the given values of a replacement are made of. Parts that are
// not there yet are nil or empty.
type Material struct {
	Procedure   Procedure
	Replacement string // id
	Work        string // its folder on the device
	Address     string // of the device
	Plan        request.Plan
	OldSHA256   string
	Slots       []string // that get the certificate
	Nodes       []string // addresses of the device's nodes
	Request     *request.Request
	Path        *chain.Path // the new chain, leaf to root
	Key         crypto.Signer
	Passphrase  string
	WebUser     string // who signs in to the device's web interface
	WebPassword string
}

// given is a value that Fresh Seal brings to every procedure. make is called
// when a step first names it; errUnknown says that it is yet to come.
type given struct {
	name   string
	kind   value.Kind
	secret bool    // holds a key or passphrase that Fresh Seal made: there only with key_made_by: service
	from   Section // the first section that has it
	about  string
	make   func(m *Material) (value.Value, error)
}

// KeyAgain is filled where the key in use is to be used again.
const KeyAgain = "same_key"

// WebPassword is the password of the device's web interface.
const WebPassword = "web_password"

// Item names the value of a step with each.
const Item = "item"

// KeyFile is where in the work folder a device that makes its own key keeps it.
const KeyFile = "key.pem"

// BeforeFolder is the part of the work folder that outlives the replacement's
// end, for a later revert.
const BeforeFolder = "before"

// givens is the one table of the values that are given.
var givens = []given{
	{"replacement", value.Text, false, Survey, "the replacement's id", func(m *Material) (value.Value, error) {
		return value.Value{Kind: value.Text, Text: m.Replacement, Known: m.Replacement != ""}, nil
	}},
	{"work", value.Path, false, Survey, "a folder on the device for this replacement alone; made when a step " +
		"names it, " +
		"cleared when the replacement ends", path_(func(m *Material) string {
		return m.Work
	})},
	{"before", value.Path, false, Survey, "its part that is kept after the end, for a later revert",
		path_(func(m *Material) string {
			return under(m.Work, BeforeFolder)
		})},
	{"address", value.Text, false, Survey, "the device's address", text(func(m *Material) string { return m.Address })},
	{"web_user", value.Text, false, Survey, "who signs in to the device's web interface",
		text(func(m *Material) string {
			return m.WebUser
		})},
	{WebPassword, value.Secret, false, Survey, "the password of who signs in there",
		func(m *Material) (value.Value, error) {
			if m.WebPassword == "" {
				return value.Value{}, errUnknown
			}
			return value.Value{Kind: value.Secret, Text: m.WebPassword, Secret: true, Known: true}, nil
		}},
	{"common_name", value.Text, false, Survey, "the planned common name", text(func(m *Material) string {
		return m.Plan.Subject.CommonName
	})},
	{"names", value.List, false, Survey, "the planned names", list(func(m *Material) []string { return m.Plan.Names })},
	{"dns_names", value.List, false, Survey, "those that are DNS names", list(func(m *Material) []string {
		return addresses(m.Plan.Names, false)
	})},
	{"ip_names", value.List, false, Survey, "those that are IP addresses", list(func(m *Material) []string {
		return addresses(m.Plan.Names, true)
	})},
	{"slot", value.Text, false, Survey, "the name of the slot that gets the certificate, or of the first of several",
		text(func(m *Material) string {
			if len(m.Slots) == 0 {
				return ""
			}
			return m.Slots[0]
		})},
	{"slots", value.List, false, Survey, "the names of the slots that get the certificate",
		list(func(m *Material) []string {
			return m.Slots
		})},
	{"nodes", value.List, false, Survey, "the addresses of the device's nodes", list(func(m *Material) []string {
		return m.Nodes
	})},
	{"organization", value.Text, false, Survey, "the planned organization, where there is one",
		text(func(m *Material) string {
			return m.Plan.Subject.Organization
		})},
	{"unit", value.Text, false, Survey, "the planned organizational unit, where there is one",
		text(func(m *Material) string {
			return m.Plan.Subject.Unit
		})},
	{"locality", value.Text, false, Survey, "the planned locality, where there is one", text(func(m *Material) string {
		return m.Plan.Subject.Locality
	})},
	{"state", value.Text, false, Survey, "the planned state or province, where there is one",
		text(func(m *Material) string {
			return m.Plan.Subject.State
		})},
	{"country", value.Text, false, Survey, "the planned country, two letters, where there is one",
		text(func(m *Material) string {
			return m.Plan.Subject.Country
		})},
	{"email", value.Text, false, Survey, "the planned mail address of the subject, where there is one",
		text(func(m *Material) string {
			return m.Plan.Subject.Email
		})},
	{"key", value.Text, false, Survey, "the planned kind of key, such as ECDSA P-256", text(func(m *Material) string {
		return m.Plan.Key.Text()
	})},
	{"key_options", value.Command, false, Survey, "the words after openssl genpkey for the planned key",
		func(m *Material) (value.Value, error) {
			return value.Value{Kind: value.Command, Words: m.Plan.OpenSSLKeyOptions(), Known: true}, nil
		}},
	{KeyAgain, value.Text, false, Survey, "yes where the key in use is to be used again",
		text(func(m *Material) string {
			return map[bool]string{true: "yes"}[m.Plan.SameKey]
		})},
	{"request_config", value.Content, false, Survey, "the plan as a configuration for openssl req",
		func(m *Material) (value.Value, error) {
			return value.ContentValue([]byte(m.Plan.OpenSSLConfig())), nil
		}},
	{"old_sha256", value.Text, false, Request, "SHA-256 of the leaf that was served before",
		text(func(m *Material) string {
			return m.OldSHA256
		})},
	{"request", value.Content, false, Backup, "the request", ofRequest(func(r request.Request) []byte {
		return r.PEM()
	})},
	{"request_sha256", value.Text, false, Backup, "SHA-256 of the request, DER, in hexadecimal",
		func(m *Material) (value.Value, error) {
			if m.Request == nil {
				return value.Value{}, errUnknown
			}
			return value.TextValue(m.Request.SHA256()), nil
		}},
	{"request_key", value.Content, false, Backup, "the request's public key, PEM",
		ofRequest(func(r request.Request) []byte {
			return r.PublicKeyPEM()
		})},
	{"new_sha256", value.Text, false, Backup, "SHA-256 of the new leaf", func(m *Material) (value.Value, error) {
		if m.Path == nil {
			return value.Value{}, errUnknown
		}
		return value.TextValue(m.Path.Certificates[0].SHA256), nil
	}},
	{"leaf", value.Content, false, Backup, "the new leaf, PEM", packed(pack.Leaf, pack.Options{})},
	{"leaf_first", value.Content, false, Backup, "the new leaf and its intermediates in order, PEM",
		packed("", pack.Options{})},
	{"intermediates", value.Content, false, Backup, "the intermediates in order, PEM",
		packed(pack.Intermediates, pack.Options{})},
	{"intermediates_or_root", value.Content, false, Backup, "the intermediates in order, or the root where there are " +
		"none, PEM", func(m *Material) (value.Value, error) {
		if m.Path != nil && len(m.Path.Intermediates()) == 0 {
			return m.pack(pack.Root, pack.Options{})
		}
		return m.pack(pack.Intermediates, pack.Options{})
	}},
	{"anchor", value.Content, false, Backup, "the root at the end of the chain, PEM",
		packed(pack.Root, pack.Options{})},
	{"leaf_der", value.Content, false, Backup, "the new leaf, DER",
		packed(pack.Leaf, pack.Options{Encoding: pack.DER})},
	{"pkcs7", value.Content, false, Backup, "the new leaf and its intermediates as PKCS #7, DER",
		packed(pack.LeafFirst, pack.Options{Encoding: pack.PKCS7})},
	{"pkcs7_pem", value.Content, false, Backup, "the same in armour",
		packed(pack.LeafFirst, pack.Options{Encoding: pack.PKCS7PEM})},
	{"new_key", value.Content, false, Backup, "the new private key: the file that the device made, or the key " +
		"that Fresh " +
		"Seal made", newKey},
	{"private_key", value.Content, true, Backup, "the key that Fresh Seal made, PKCS #8 in PEM",
		packed("", pack.Options{Place: pack.KeyAlone})},
	{"key_and_chain", value.Content, true, Backup, "that key, the new leaf and its intermediates, PEM",
		packed("", pack.Options{Place: pack.KeyBefore})},
	{"pkcs12", value.Content, true, Backup, "that key, the new leaf and its intermediates as PKCS #12",
		packed("", pack.Options{Encoding: pack.PKCS12, Place: pack.KeyBefore})},
	{"pkcs12_old", value.Content, true, Backup, "the same, for devices that know nothing newer than 3DES",
		packed("", pack.Options{Encoding: pack.PKCS12Old, Place: pack.KeyBefore})},
	{"store_passphrase", value.Content, true, Backup, "the passphrase of those stores, made for this replacement",
		func(m *Material) (value.Value, error) {
			if m.Key == nil {
				return value.Value{}, errUnknown
			}
			return value.SecretValue([]byte(m.Passphrase)), nil
		}},
}

// Given is a row of the table, for documents.
type Given struct {
	Name   string     `json:"name"`
	Kind   value.Kind `json:"kind"`
	Secret bool       `json:"secret"`
	From   Section    `json:"from"` // the first section that has it
	About  string     `json:"about"`
}

// AllGiven returns the table of the given values in its order.
func AllGiven() []Given {
	var out []Given
	for _, g := range givens {
		out = append(out, Given{g.name, g.kind, g.secret, g.from, g.about})
	}
	return out
}

func givenOf(name string) (given, bool) {
	i := slices.IndexFunc(givens, func(g given) bool { return g.name == name })
	if i < 0 {
		return given{}, false
	}
	return givens[i], true
}

func givenNames() []string {
	var names []string
	for _, g := range givens {
		names = append(names, g.name)
	}
	slices.Sort(names)
	return names
}

// errUnknown means that a value has not come yet.
var errUnknown = errors.New("is not known yet")

func text(of func(*Material) string) func(*Material) (value.Value, error) {
	return func(m *Material) (value.Value, error) { return value.TextValue(of(m)), nil }
}

func path_(of func(*Material) string) func(*Material) (value.Value, error) {
	return func(m *Material) (value.Value, error) {
		if of(m) == "" {
			return value.Value{}, errUnknown
		}
		return value.Value{Kind: value.Path, Text: of(m), Known: true}, nil
	}
}

func list(of func(*Material) []string) func(*Material) (value.Value, error) {
	return func(m *Material) (value.Value, error) { return value.ListValue(of(m)), nil }
}

func under(folder, name string) string {
	if folder == "" {
		return ""
	}
	return folder + "/" + name
}

func addresses(names []string, ip bool) []string {
	out := []string{}
	for _, name := range names {
		if (net.ParseIP(name) != nil) == ip {
			out = append(out, name)
		}
	}
	return out
}

func ofRequest(of func(request.Request) []byte) func(*Material) (value.Value, error) {
	return func(m *Material) (value.Value, error) {
		if m.Request == nil {
			return value.Value{}, errUnknown
		}
		return value.ContentValue(of(*m.Request)), nil
	}
}

// packed writes the new chain in a form; "" is the one that the family's traits
// name.
func packed(form pack.Form, d pack.Options) func(*Material) (value.Value, error) {
	return func(m *Material) (value.Value, error) {
		f := form
		if f == "" {
			f = m.Procedure.Traits.Form
		}
		return m.pack(f, d)
	}
}

func (m *Material) pack(form pack.Form, d pack.Options) (value.Value, error) {
	if m.Path == nil || d.HoldsKey() && m.Key == nil {
		return value.Value{}, errUnknown // the key was given away already and forgotten, or the chain is yet to come
	}
	d.Passphrase = m.Passphrase
	content, err := pack.Write(form, d, *m.Path, m.Key)
	switch {
	case errors.Is(err, pack.ErrNoRoot), errors.Is(err, pack.ErrNoIntermediate):
		return value.Value{Kind: value.Content}, fmt.Errorf("is not there: %w", err)
	case err != nil:
		return value.Value{}, err
	case d.HoldsKey():
		return value.SecretValue(content), nil
	}
	return value.ContentValue(content), nil
}

// newKey never leaves a device that made it.
func newKey(m *Material) (value.Value, error) {
	if m.Procedure.Traits.KeyGiven {
		return m.pack(m.Procedure.Traits.Form, pack.Options{Place: pack.KeyAlone})
	}
	if m.Work == "" {
		return value.Value{}, errUnknown
	}
	return value.Value{Kind: value.Content, OnBox: under(m.Work, KeyFile), Secret: true, Known: true}, nil
}

// Scope finds values by their names: settings, captures, packs and what is given.
// Given values and packs are made when they are first asked for, once.
type Scope struct {
	own      map[string]value.Value // settings and captures
	Material *Material
	Made     *Made
	Assume   bool    // a rehearsal: what is yet to come stands as what it is
	NotIn    bool    // to the device's web interface
	between  *string // the items of a list
}

// Made keeps the values that were made for a replacement, so that each is made
// once. The zero value is empty. It is safe for use by several goroutines.
type Made struct {
	lock   sync.Mutex
	values map[string]value.Value
}

func (m *Made) get(name string) (value.Value, bool) {
	m.lock.Lock()
	defer m.lock.Unlock()
	v, ok := m.values[name]
	return v, ok
}

func (m *Made) put(name string, v value.Value) {
	m.lock.Lock()
	defer m.lock.Unlock()
	if m.values == nil {
		m.values = map[string]value.Value{}
	}
	m.values[name] = v
}

// secrets returns the texts among them that must not be shown.
func (m *Made) secrets() (out []value.Value) {
	m.lock.Lock()
	defer m.lock.Unlock()
	for _, v := range m.values {
		if v.Secret {
			out = append(out, v)
		}
	}
	return out
}
