// Package edit changes text files by rules, as an administrator would by hand:
//
//	set a directive           ssl_certificate /etc/gate/chain.pem;
//	replace lines             that match a pattern, found a stated number of times
//	make sure of a line       after or before another one, in a block, or at the end
//	remove lines              that match a pattern
//
//	an option within a line   key=/etc/gate/key.pem in the line that matches a pattern
//
// A rule can be confined to a block or to a section of an INI file. Every rule can be applied twice: the second time
// changes nothing. What no rule touches stays as it is, byte by byte: encoding, line ends, blanks, a missing
// line end at the end of the file.
package edit

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/aymanbagabas/go-udiff"
)

// MaxSize is the largest file that is edited, in bytes.
const MaxSize = 1 << 20

// Rule is one change. Exactly one of Set, Option, Replace, Line and Remove is filled.
type Rule struct {
	Set     string         // a directive's name
	Option  string         // an option's name, NAME=VALUE within a line that matches Of
	Of      *regexp.Regexp // that line
	To      string         // its value, as it stands in the file
	As      string         // the whole line, where no line sets the directive yet
	Replace *regexp.Regexp // lines that match as a whole or in part
	By      string         // what stands instead, the whole line; ${1} is the first group of the pattern
	Times   int            // how often Replace must be found; 0: once
	Line    string         // a line that must be there
	Remove  *regexp.Regexp // lines to remove
	After   *regexp.Regexp // where Line, or a Set that is new, goes
	Before  *regexp.Regexp
	In      *regexp.Regexp // the line that opens the block to which the rule is confined
	Section string         // the section of an INI file to which the rule is confined
}

// Text describes the rule in one line.
func (r Rule) Text() string {
	where := ""
	for _, w := range []struct {
		word    string
		pattern *regexp.Regexp
	}{{"after", r.After}, {"before", r.Before}, {"in the block", r.In}} {
		if w.pattern != nil {
			where += fmt.Sprintf(", %s %s", w.word, w.pattern)
		}
	}
	if r.Section != "" {
		where += ", in the section [" + r.Section + "]"
	}
	switch {
	case r.Set != "":
		return fmt.Sprintf("set %s to %s%s", r.Set, r.To, where)
	case r.Option != "":
		return fmt.Sprintf("set the option %s to %s in the line %s%s", r.Option, r.To, r.Of, where)
	case r.Replace != nil:
		return fmt.Sprintf("replace %s by %s%s", r.Replace, r.By, where)
	case r.Remove != nil:
		return fmt.Sprintf("remove the lines that match %s%s", r.Remove, where)
	}
	return fmt.Sprintf("make sure of the line %s%s", r.Line, where)
}

// Apply changes a file by rules, one after the other. An error says which rule
// does not fit and what to write.
func Apply(file []byte, rules []Rule) ([]byte, error) {
	if len(file) > MaxSize {
		return nil, fmt.Errorf("the file has %d bytes, more than %d", len(file), MaxSize)
	}
	if bytes.IndexByte(file, 0) >= 0 {
		return nil, errors.New("the file is not a text in an encoding that keeps ASCII, such as UTF-8 or Latin-1")
	}
	d := parse(file)
	for _, rule := range rules {
		if err := d.apply(rule); err != nil {
			return nil, fmt.Errorf("%s: %w", rule.Text(), err)
		}
	}
	return d.bytes(), nil
}

// Diff shows what differs between two texts, with three lines around it.
func Diff(name string, before, after []byte) string {
	return udiff.Unified(name, name+" (new)", string(before), string(after))
}

// document is a text as lines without their ends.
type document struct {
	lines []string
	end   string // \n or \r\n, as in the first line
	last  bool   // the last line has its end
}

func parse(file []byte) *document {
	d := &document{end: "\n", last: true}
	if len(file) == 0 {
		return d
	}
	text := string(file)
	if i := strings.IndexByte(text, '\n'); i > 0 && text[i-1] == '\r' {
		d.end = "\r\n"
	}
	d.last = strings.HasSuffix(text, "\n")
	d.lines = strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	return d // a carriage return stays part of its line, so that mixed ends survive
}

func (d *document) bytes() []byte {
	text := strings.Join(d.lines, "\n")
	if d.last && len(d.lines) > 0 {
		text += "\n"
	}
	return []byte(text)
}

// line makes a line of this document: with its kind of line end.
func (d *document) line(text string) string {
	if d.end == "\r\n" {
		return text + "\r"
	}
	return text
}

func plain(line string) string { return strings.TrimSuffix(line, "\r") }

// span returns the part of the document that a rule works on, lines from to until.
func (d *document) span(in *regexp.Regexp) (from, until int, err error) {
	if in == nil {
		return 0, len(d.lines), nil
	}
	open := d.find(in, 0, len(d.lines))
	switch {
	case len(open) == 0:
		return 0, 0, errors.New("no line opens this block")
	case len(open) > 1:
		return 0, 0, fmt.Errorf("%d lines open such a block (lines %s); write a pattern that only one matches",
			len(open), numbers(open))
	}
	start := open[0]
	first := strings.TrimSpace(plain(d.lines[start]))
	if m := tag.FindStringSubmatch(first); m != nil {
		depth := 0
		for i := start; i < len(d.lines); i++ {
			line := strings.ToLower(strings.TrimSpace(plain(d.lines[i])))
			if strings.HasPrefix(line, "<"+strings.ToLower(m[1])) {
				depth++
			}
			if strings.HasPrefix(line, "</"+strings.ToLower(m[1])) {
				if depth--; depth == 0 {
					return start + 1, i, nil
				}
			}
		}
		return 0, 0, fmt.Errorf("the block of line %d is never closed", start+1)
	}
	depth, opened := 0, false
	for i := start; i < len(d.lines); i++ {
		code := withoutComment(plain(d.lines[i]))
		if i > start && !opened && !strings.HasPrefix(strings.TrimSpace(code), "{") {
			break
		}
		for _, c := range code {
			switch c {
			case '{':
				depth++
				opened = true
			case '}':
				depth--
			}
		}
		if opened && depth <= 0 {
			if i == start {
				return 0, 0, fmt.Errorf("the block of line %d stands on one line; replace the line instead", start+1)
			}
			return start + 1, i, nil
		}
	}
	return 0, 0, fmt.Errorf("line %d opens no block with { … } or <…>", start+1)
}

var tag = regexp.MustCompile(`^<([A-Za-z][A-Za-z0-9]*)\b`)

// withoutComment leaves out what follows a # outside quotes, and what
// is in quotes.
func withoutComment(line string) string {
	var b strings.Builder
	quote := rune(0)
	for i, c := range line {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '#' && (i == 0 || strings.ContainsRune(" \t;{}", rune(line[i-1]))):
			return b.String()
		default:
			b.WriteRune(c)
		}
	}
	return b.String()
}

func (d *document) find(pattern *regexp.Regexp, from, until int) []int {
	var out []int
	for i := from; i < until; i++ {
		if pattern.MatchString(plain(d.lines[i])) {
			out = append(out, i)
		}
	}
	return out
}

func numbers(lines []int) string {
	var out []string
	for _, n := range lines[:min(len(lines), 5)] {
		out = append(out, fmt.Sprint(n+1))
	}
	return strings.Join(out, ", ")
}

func (d *document) apply(r Rule) error {
	from, until, err := d.span(r.In)
	if r.Section != "" {
		from, until, err = d.section(r.Section)
	}
	if err != nil {
		return err
	}
	switch {
	case r.Set != "":
		return d.set(r, from, until)
	case r.Option != "":
		return d.option(r, from, until)
	case r.Replace != nil:
		return d.replace(r, from, until)
	case r.Remove != nil:
		for _, i := range reversed(d.find(r.Remove, from, until)) {
			d.remove(i)
		}
		return nil
	}
	for i := from; i < until; i++ {
		if strings.TrimSpace(plain(d.lines[i])) == strings.TrimSpace(r.Line) {
			return nil // it is there
		}
	}
	return d.insert(r, r.Line, from, until)
}
