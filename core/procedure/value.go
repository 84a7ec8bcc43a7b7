package procedure

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Kind says what a value is, and so where it may stand.
type Kind string

// The kinds of value. Settings have one of the first four.
const (
	Text    Kind = "text"    // one line
	Path    Kind = "path"    // an absolute path on the device
	Words   Kind = "words"   // a command or options: each word is quoted by itself
	Number  Kind = "number"  // a whole number
	Content Kind = "content" // the bytes of a file
)

var settingKinds = []Kind{Text, Path, Words, Number}

// Value is something that a step can name.
type Value struct {
	Kind   Kind
	Text   string
	Words  []string
	Secret bool // never shown, never part of a command
	Known  bool // false while it is yet to come, as in a rehearsal
	About  string
}

// Scope holds the values by their names.
type Scope map[string]Value

// With returns a copy of the scope with one value more.
func (s Scope) With(name string, v Value) Scope {
	out := make(Scope, len(s)+1)
	for k, each := range s {
		out[k] = each
	}
	out[name] = v
	return out
}

// TextValue makes a known value of one line.
func TextValue(text string) Value { return Value{Kind: Text, Text: text, Known: true} }

// WordsValue makes a known value of several words.
func WordsValue(words []string) Value { return Value{Kind: Words, Words: words, Known: true} }

// SecretValue makes a known value of a file's bytes that nobody may see.
func SecretValue(content []byte) Value {
	return Value{Kind: Content, Text: string(content), Known: true, Secret: true}
}

// ContentValue makes a known value of a file's bytes.
func ContentValue(content []byte) Value {
	return Value{Kind: Content, Text: string(content), Known: true}
}

// Given are the values that Fresh Seal brings to every procedure, with what
// they are; the scope of a replacement fills them as it goes on.
var Given = Scope{
	"replacement":      {Kind: Text, About: "id"},
	"key_options":      {Kind: Words, About: "the words after openssl genpkey for the planned key"},
	"address":          {Kind: Text, About: "the device's address"},
	"common_name":      {Kind: Text, About: "the planned common name"},
	"names":            {Kind: Text, About: "the planned names, with commas between them"},
	"organization":     {Kind: Text, About: "the planned organization, where there is one"},
	"unit":             {Kind: Text, About: "the planned organizational unit, where there is one"},
	"locality":         {Kind: Text, About: "the planned locality, where there is one"},
	"state":            {Kind: Text, About: "the planned state or province, where there is one"},
	"country":          {Kind: Text, About: "the planned country, two letters, where there is one"},
	KeyAgain:           {Kind: Text, About: "yes where the key in use is to be used again; named by when"},
	"key":              {Kind: Text, About: "the planned kind of key in words, such as ECDSA P-256"},
	"old_sha256":       {Kind: Text, About: "SHA-256 of the leaf that was served before"},
	"new_sha256":       {Kind: Text, About: "SHA-256 of the new leaf"},
	"request_config":   {Kind: Content, About: "the plan as a configuration for openssl req"},
	"request":          {Kind: Content, About: "the request that the device made"},
	"request_key":      {Kind: Content, About: "the request's public key, PEM"},
	"leaf":             {Kind: Content, About: "the new leaf, PEM"},
	"leaf_first":       {Kind: Content, About: "the new leaf and its intermediates in order, PEM"},
	"intermediates":    {Kind: Content, About: "the intermediates in order, PEM"},
	"leaf_der":         {Kind: Content, About: "the new leaf, DER"},
	"pkcs7":            {Kind: Content, About: "the new leaf and its intermediates as PKCS #7, DER"},
	"pkcs7_pem":        {Kind: Content, About: "the same in armour"},
	"private_key":      {Kind: Content, Secret: true, About: "the key that Fresh Seal made, PKCS #8 in PEM"},
	"key_and_chain":    {Kind: Content, Secret: true, About: "that key, the new leaf and its intermediates, PEM"},
	"pkcs12":           {Kind: Content, Secret: true, About: "that key, the new leaf and its intermediates as PKCS #12"},
	"pkcs12_old":       {Kind: Content, Secret: true, About: "the same, for boxes that know nothing newer than 3DES"},
	"store_passphrase": {Kind: Content, Secret: true, About: "the passphrase of those stores, made for this replacement"},
	"anchor":           {Kind: Content, About: "the root at the end of the chain, PEM"},
}

// availableFrom says which section is the first that can use a given value.
var availableFrom = map[string]Section{
	"new_sha256": Backup, "private_key": Backup, "key_and_chain": Backup, "pkcs12": Backup, "pkcs12_old": Backup, "store_passphrase": Backup, "leaf_der": Backup, "pkcs7": Backup, "pkcs7_pem": Backup, "request_key": Backup, "leaf": Backup, "leaf_first": Backup, "intermediates": Backup, "anchor": Backup,
}

// Fill makes the scope of a device: every setting with its default or with
// what the device says instead. Errors name the setting and what to write.
func (p Procedure) Fill(own map[string]string) (Scope, error) {
	scope := Scope{}
	for name := range own {
		if _, ok := p.Setting(name); !ok {
			return nil, fmt.Errorf("the procedure %s has no setting %q; it has %s", p.Name, name, strings.Join(p.settingNames(), ", "))
		}
	}
	for _, s := range p.Settings {
		text, ok := own[s.Name]
		if !ok {
			text = s.Default
		}
		v, err := s.Kind.read(text)
		if err != nil {
			return nil, fmt.Errorf("setting %s: %w", s.Name, err)
		}
		v.About = s.About
		scope[s.Name] = v
	}
	return scope, nil
}

func (p Procedure) settingNames() []string {
	names := make([]string, len(p.Settings))
	for i, s := range p.Settings {
		names[i] = s.Name
	}
	return names
}

// read makes a value of the text of a setting. An empty text is an empty
// value of any kind.
func (k Kind) read(text string) (Value, error) {
	v := Value{Kind: k, Text: text, Known: true}
	if text == "" {
		return v, nil
	}
	if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return v, fmt.Errorf("%q holds a control character; write it on one line", text)
	}
	switch k {
	case Path:
		return v, checkPath(text)
	case Words:
		var err error
		v.Words, err = splitWords(text)
		return v, err
	case Number:
		if _, err := strconv.Atoi(text); err != nil {
			return v, fmt.Errorf("%q is not a whole number", text)
		}
	case Text:
	default:
		return v, fmt.Errorf("a setting cannot be of the kind %q; the kinds are %v", k, settingKinds)
	}
	return v, nil
}

// checkPath takes absolute paths without detours.
func checkPath(p string) error {
	switch {
	case !path.IsAbs(p):
		return fmt.Errorf("the path %q does not begin with a slash; write it from the root", p)
	case path.Clean(p) != p:
		return fmt.Errorf("the path %q has a detour; write %q", p, path.Clean(p))
	case strings.ContainsFunc(p, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fmt.Errorf("the path %q holds a control character", p)
	}
	return nil
}

// splitWords splits at blanks; quotes hold blanks together. Nothing else is
// special: there are no variables, pipes or substitutions.
func splitWords(text string) ([]string, error) {
	var words []string
	var word strings.Builder
	inWord, quote := false, rune(0)
	for _, r := range text {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote, inWord = r, true
		case quote == 0 && r == ' ':
			if inWord {
				words = append(words, word.String())
				word.Reset()
			}
			inWord = false
		default:
			word.WriteRune(r)
			inWord = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("%q has a quote %c without its end", text, quote)
	}
	if inWord {
		words = append(words, word.String())
	}
	return words, nil
}

// filled says that a condition on this value holds.
func (v Value) filled() bool { return v.Text != "" || len(v.Words) > 0 }

// nearest finds the known word that a mistyped one may have meant.
func nearest(typed string, known []string) string {
	best, bestDistance := "", 3
	for _, k := range slices.Sorted(slices.Values(known)) {
		if d := distance(typed, k); d < bestDistance {
			best, bestDistance = k, d
		}
	}
	return best
}

// distance counts the letters to change, add or take away (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		last := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := last
			if a[i-1] != b[j-1] {
				cost++
			}
			last, row[j] = row[j], min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
