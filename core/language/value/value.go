// Package value has the values of the procedure language: their kinds, what each may hold, and where one may stand in
// a command. What goes into a command is one plain word, whatever shell or program reads it again; CheckCommand finds
// each value in the syntax tree of the command and refuses every place but arguments and the like.
package value

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"
)

// Kind says what a value is, and so where it may stand.
type Kind string

// The kinds of value. All but content can be settings.
const (
	Text    Kind = "text"    // one line
	Path    Kind = "path"    // an absolute path on the device
	Command Kind = "command" // a program and its options, as words
	Number  Kind = "number"  // a whole number
	Choice  Kind = "choice"  // one of the words that the setting lists
	Secret  Kind = "secret"  // one line that is sealed and never shown
	List    Kind = "list"    // several words
	Content Kind = "content" // the bytes of a file

	OtherDevice Kind = "device" // the name of a device of the fleet that helps
	// of a setting: one line with values in it, by which what each replacement makes has a name of its own
	Pattern Kind = "pattern"
)

var SettingKinds = []Kind{Text, Path, Command, Number, Choice, Secret, List, OtherDevice, Pattern}

// patternValues are the values that may stand in a setting of the kind pattern. A retry has the same ones.
var patternValues = []string{"replacement", "slot", "common_name"}

// Value is something that a step can name.
type Value struct {
	Kind   Kind
	Text   string
	Words  []string // of command and list
	OnBox  string   // content that never leaves the device: the path of its file there
	Secret bool     // never shown, never part of a command
	Keep   bool     `json:",omitempty"` // captured as a file that outlives the replacement; see Capture
	Known  bool     // false while it is yet to come, as in a rehearsal
	About  string
}

// TextValue makes a known value of one line.
func TextValue(text string) Value { return Value{Kind: Text, Text: text, Known: true} }

// ListValue makes a known value of several words.
func ListValue(words []string) Value { return Value{Kind: List, Words: words, Known: true} }

// SecretValue makes a known value of a file's bytes that nobody may see.
func SecretValue(content []byte) Value {
	return Value{Kind: Content, Text: string(content), Known: true, Secret: true}
}

// ContentValue makes a known value of a file's bytes.
func ContentValue(content []byte) Value {
	return Value{Kind: Content, Text: string(content), Known: true}
}

// Filled reports whether a condition on this value holds.
func (v Value) Filled() bool { return v.Text != "" || len(v.Words) > 0 || v.OnBox != "" || !v.Known }

// Plain returns the value as one text, for users and files.
func (v Value) Plain() string {
	switch v.Kind {
	case Command:
		return strings.Join(v.Words, " ")
	case List:
		return strings.Join(v.Words, ", ")
	}
	return v.Text
}

// CheckPattern checks that a pattern gives every replacement a name of its own.
func CheckPattern(text string) error {
	for _, name := range Named(text) {
		if !slices.Contains(patternValues, name) {
			return fmt.Errorf("{{%s}} cannot stand in it; {{%s}} can", name, strings.Join(patternValues, "}}, {{"))
		}
	}
	if !slices.Contains(Named(text), "replacement") {
		return errors.New("{{replacement}} does not stand in it, so the next replacement would use the same name")
	}
	if strings.ContainsAny(Placeholder.ReplaceAllString(text, ""), "{}") {
		return errors.New("it has a brace that belongs to no value; write {{replacement}}")
	}
	return nil
}

func IsControl(r rune) bool { return r < ' ' || r == 0x7f }

// CheckPath takes absolute paths without detours.
func CheckPath(p string) error {
	switch {
	case !path.IsAbs(p):
		return fmt.Errorf("the path %q does not begin with a slash; write it from the root", p)
	case path.Clean(p) != p:
		return fmt.Errorf("the path %q has a detour; write %q", p, path.Clean(p))
	case strings.ContainsFunc(p, IsControl):
		return fmt.Errorf("the path %q contains a control character", p)
	}
	return nil
}

// NotBare returns why a text cannot stand in a command, or "". What remains is a
// word of letters, digits and . _ : / @ % + = , - that does not begin with a
// dash: no shell, interpreter or option parser takes it for more, however often
// it is read.
func NotBare(text string) string {
	switch {
	case text == "":
		return "is empty"
	case text[0] == '-':
		return "begins with a dash, which a command takes for an option"
	case slices.Contains(strings.Split(text, "/"), ".."):
		return "leads out of its folder"
	}
	for _, r := range text {
		if !strings.ContainsRune("._:/@%+=,-", r) && (r > 'z' || !isAlphanumeric(byte(r))) {
			return fmt.Sprintf("contains %q", r)
		}
	}
	return ""
}

func isAlphanumeric(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// Nearest finds the known word that a mistyped one may have meant.
func Nearest(typed string, known []string) string {
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

// keptValue is how a value is kept: JSON holds no bytes that are not UTF-8.
type keptValue struct {
	plainValue
	Raw []byte `json:",omitempty"` // instead of Text
}

type plainValue Value

// MarshalJSON stores every byte of the value.
func (v Value) MarshalJSON() ([]byte, error) {
	kept := keptValue{plainValue: plainValue(v)}
	if !utf8.ValidString(v.Text) {
		kept.Text, kept.Raw = "", []byte(v.Text)
	}
	return json.Marshal(kept)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (v *Value) UnmarshalJSON(text []byte) error {
	var kept keptValue
	if err := json.Unmarshal(text, &kept); err != nil {
		return err
	}
	if *v = Value(kept.plainValue); kept.Raw != nil {
		v.Text = string(kept.Raw)
	}
	return nil
}
