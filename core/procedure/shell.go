package procedure

import (
	"regexp"
	"strings"
)

// placeholder is a value's place in a text: {{name}}, blanks allowed inside.
var placeholder = regexp.MustCompile(`\{\{ *([a-z][a-z0-9_]*) *\}\}`)

// shellFault tells where in a command a value cannot be made safe.
type shellFault struct {
	fragment string // the text at fault, for finding its line and column
	what     string
	instead  string
}

// checkShell walks through a command as a POSIX shell reads it and refuses
// every place where single quotes around a value would not make it one word:
// inside quotes, comments, here-documents, backquotes and arithmetic, or behind
// a dollar sign or a backslash. What remains is safe by quoting alone.
func checkShell(text string) *shellFault {
	w := shellWalk{text: text}
	for w.at = 0; w.at < len(text); w.at++ {
		if fault := w.step(); fault != nil {
			return fault
		}
	}
	switch {
	case w.quote != 0:
		return &shellFault{string(w.quote), "a quote without its end", "close the quote"}
	case strings.Contains(placeholder.ReplaceAllString(text, ""), "{{"):
		return &shellFault{"{{", "{{ that does not begin a value", "write {{name}} with small letters, digits and _"}
	}
	return nil
}

type shellWalk struct {
	text    string
	at      int
	quote   byte // ' or " while inside one
	comment bool
}

func (w *shellWalk) step() *shellFault {
	rest := w.text[w.at:]
	if loc := placeholder.FindStringIndex(rest); loc != nil && loc[0] == 0 {
		fragment := rest[:loc[1]]
		if what, instead := w.unsafe(); what != "" {
			return &shellFault{fragment, what, instead}
		}
		w.at += loc[1] - 1
		return nil
	}
	c := w.text[w.at]
	switch {
	case w.comment:
		w.comment = c != '\n'
	case w.quote == '\'':
		if c == '\'' {
			w.quote = 0
		}
	case c == '\\':
		if w.at+1 < len(w.text) && w.text[w.at+1] == '{' {
			return &shellFault{`\{`, "a backslash before a value would take away its quoting", "leave the backslash out"}
		}
		w.at++
	case w.quote == '"':
		if c == '"' {
			w.quote = 0
		}
		if c == '`' || strings.HasPrefix(rest, "$(") {
			return &shellFault{rest[:1], "a substitution inside double quotes", "put it into a step of its own with capture, and name the captured value"}
		}
	case c == '\'' || c == '"':
		w.quote = c
	case c == '`':
		return &shellFault{"`", "backquotes change quoting inside them", "write $( … )"}
	case c == '#' && (w.at == 0 || strings.ContainsRune(" \t\n;&|(", rune(w.text[w.at-1]))):
		w.comment = true
	case strings.HasPrefix(rest, "$'"):
		return &shellFault{"$'", "this kind of quote is not POSIX", "write '…' without the dollar sign"}
	case strings.HasPrefix(rest, "<<"):
		return &shellFault{"<<", "here-documents change quoting inside them", "put the text into a file with the verb put"}
	case strings.HasPrefix(rest, "$(("), strings.HasPrefix(rest, "(("):
		return &shellFault{rest[:2], "arithmetic evaluates what stands in it", "leave arithmetic out of procedures"}
	case isWordStart(w.text, w.at) && evaluates(rest):
		return &shellFault{strings.Fields(rest)[0], "this reads a value a second time as a command", "write the command itself"}
	}
	return nil
}

// unsafe says why a value cannot stand where the walk is.
func (w *shellWalk) unsafe() (what, instead string) {
	switch {
	case w.quote != 0:
		return "a value inside quotes", "leave the quotes out: values are quoted by themselves"
	case w.comment:
		return "a value inside a comment", "use a comment of the file (# at the beginning of a YAML line)"
	case w.at > 0 && w.text[w.at-1] == '$':
		return "a value behind a dollar sign", "leave the dollar sign out"
	}
	return "", ""
}

func isWordStart(text string, at int) bool {
	return at == 0 || strings.ContainsRune(" \t\n;&|(", rune(text[at-1]))
}

// evaluates finds the commands that read a value as a command once more.
var evaluating = regexp.MustCompile(`^(eval|source|(/[a-z/]*)?(sh|bash|dash|ksh|zsh) +-[a-z]*c)[ \t]`)

func evaluates(rest string) bool { return evaluating.MatchString(rest) }

// Quote makes one word of a POSIX shell out of any text without NUL: single
// quotes around it, and each single quote inside closed, escaped and opened
// again (POSIX.1-2017, Shell Command Language, 2.2.2).
//
// Words that no shell could misread stay bare, so that people can read what is
// done; a number is not among them (2>file) nor is a reserved word (if).
func Quote(text string) string {
	if plainWord.MatchString(text) && !numberOrReserved.MatchString(text) {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

var (
	plainWord        = regexp.MustCompile(`^[A-Za-z0-9_./:,@%+-]+$`)
	numberOrReserved = regexp.MustCompile(`^([0-9]+|if|then|else|elif|fi|do|done|case|esac|while|until|for|in|time|function|select)$`)
)
