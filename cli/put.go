package cli

import (
	"fmt"
	"io"
	"os"
	"reflect"
	"strings"

	"freshseal/core/terminal/visible"

	"golang.org/x/term"
)

// Safe is text that can go to a terminal as it is; see put and lines.
type Safe string

// Put is how everything goes out that people read: what is put into the format is
// often written by foreigners (subjects, names, device output, answers of another
// service), so every character that acts on a terminal is made visible in it.
func Put(w io.Writer, format string, args ...any) {
	for i, arg := range args {
		args[i] = shown(arg)
	}
	fmt.Fprintf(w, format, args...)
}

// Putln puts one line.
func Putln(w io.Writer, parts ...any) {
	for i, part := range parts {
		parts[i] = shown(part)
	}
	fmt.Fprintln(w, parts...)
}

func shown(arg any) any {
	switch v := arg.(type) {
	case Safe:
		return string(v)
	case string:
		return visible.Line(v)
	case error:
		return visible.Line(v.Error())
	case fmt.Stringer:
		return visible.Line(v.String())
	case []string:
		out := make([]string, len(v))
		for i, text := range v {
			out[i] = visible.Line(text)
		}
		return out
	}
	if v := reflect.ValueOf(arg); v.Kind() == reflect.String {
		return visible.Line(v.String())
	}
	return arg
}

// Lines returns text of several lines, each but the first behind an indent.
func Lines(indent, text string) Safe {
	text = strings.TrimRight(visible.Text(text), "\n")
	return Safe(strings.ReplaceAll(text, "\n", "\n"+indent))
}

// OneLine returns text of several lines on one.
func OneLine(text string) string {
	return visible.Line(strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == '\n' }), " | "))
}

// ForTerminal returns where to write what is downloaded: as it is, but to a terminal.
func ForTerminal(w io.Writer) io.Writer {
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return visibly{w}
	}
	return w
}

// visibly makes what acts on a terminal visible in all that is written to it.
type visibly struct{ w io.Writer }

func (v visibly) Write(text []byte) (int, error) {
	_, err := io.WriteString(v.w, visible.Text(string(text)))
	return len(text), err
}

// Escaped writes the characters of JSON that act on a terminal as JSON escapes:
// encoding/json leaves those above ASCII as they are.
type Escaped struct{ io.Writer }

func (e Escaped) Write(text []byte) (int, error) {
	var b strings.Builder
	for _, r := range string(text) {
		switch {
		case r < 0x7f || !visible.Acts(r):
			b.WriteRune(r)
		case r > 0xffff:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	_, err := io.WriteString(e.Writer, b.String())
	return len(text), err
}
