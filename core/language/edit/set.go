package edit

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

func reversed(list []int) []int {
	out := make([]int, 0, len(list))
	for i := len(list) - 1; i >= 0; i-- {
		out = append(out, list[i])
	}
	return out
}

func (d *document) remove(i int) {
	d.lines = append(d.lines[:i], d.lines[i+1:]...)
}

// set changes the value of a directive where it stands. One that is commented
// out is taken into use where no other line sets it.
func (d *document) set(r Rule, from, until int) error {
	directive, err := regexp.Compile(`^([ \t]*)(#[ \t]*|//[ \t]*|;[ \t]*)?(` + regexp.QuoteMeta(r.Set) +
		`)([ \t]*=[ \t]*|[ \t]+)(.*)$`)
	if err != nil {
		return errors.New("the directive's name is not UTF-8")
	}
	var live, commented []int
	for i := from; i < until; i++ {
		if m := directive.FindStringSubmatch(plain(d.lines[i])); m != nil {
			if m[2] == "" {
				live = append(live, i)
			} else {
				commented = append(commented, i)
			}
		}
	}
	at := -1
	switch {
	case len(live) == 1:
		at = live[0]
	case len(live) > 1:
		return fmt.Errorf("%d lines set it (lines %s); say in which block with in:, or use replace with times:",
			len(live), numbers(live))
	case len(commented) > 0:
		at = commented[0]
	case r.As != "":
		return d.insert(r, r.As, from, until)
	default:
		return fmt.Errorf("no line sets it%s; say with as: how the whole line is written", d.near(r.Set, from, until))
	}
	m := directive.FindStringSubmatch(plain(d.lines[at]))
	d.lines[at] = d.keepEnd(at, m[1]+m[3]+m[4]+r.To+tail(m[5]))
	return nil
}

// tail returns what follows a directive's value and stays: a semicolon, a comment.
func tail(rest string) string {
	quote := byte(0)
	for i := 0; i < len(rest); i++ {
		c := rest[i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == ';':
			return rest[i:]
		case c == '#' && i > 0 && (rest[i-1] == ' ' || rest[i-1] == '\t'):
			return " " + rest[i:]
		}
	}
	return ""
}

func (d *document) keepEnd(i int, text string) string {
	if strings.HasSuffix(d.lines[i], "\r") {
		return text + "\r"
	}
	return text
}

func (d *document) replace(r Rule, from, until int) error {
	times := max(r.Times, 1)
	var found []int
	written := r.written()
	done := 0
	for i := from; i < until; i++ {
		line := plain(d.lines[i])
		switch {
		case written.MatchString(strings.TrimSpace(line)):
			done++
		case r.Replace.MatchString(line):
			found = append(found, i)
		}
	}
	if len(found) == 0 && done == times {
		return nil // replaced already
	}
	if len(found)+done != times && len(found) != times {
		if len(found) == 0 {
			return fmt.Errorf("0 lines match instead of %d%s; correct the pattern", times,
				d.near(r.Replace.String(), from, until))
		}
		return fmt.Errorf("%d lines match instead of %d (lines %s); make the pattern narrower, or say times:",
			len(found), times, numbers(found))
	}
	for _, i := range found {
		r := r
		r.By = r.filled(plain(d.lines[i]))
		indent := d.lines[i][:len(d.lines[i])-len(strings.TrimLeft(d.lines[i], " \t"))]
		if strings.TrimLeft(r.By, " \t") != r.By {
			indent = ""
		}
		d.lines[i] = d.keepEnd(i, indent+r.By)
	}
	return nil
}

// insert puts a new line in its place, indented like its neighbours.
func (d *document) insert(r Rule, text string, from, until int) error {
	at := until
	place := func(pattern *regexp.Regexp, offset int) error {
		found := d.find(pattern, from, until)
		if len(found) != 1 {
			return fmt.Errorf("%d lines match %s, where the new line goes; write a pattern that only one matches",
				len(found), pattern)
		}
		at = found[0] + offset
		return nil
	}
	var err error
	switch {
	case r.After != nil:
		err = place(r.After, 1)
	case r.Before != nil:
		err = place(r.Before, 0)
	}
	if err != nil {
		return err
	}
	if r.In != nil || r.After != nil || r.Before != nil {
		text = d.indentAt(at, from, until) + strings.TrimLeft(text, " \t")
	}
	if at == len(d.lines) && !d.last && at > 0 { // the old last line gets its end; the new one has none, as before
		d.lines[at-1] = d.line(d.lines[at-1])
		d.lines = append(d.lines, text)
		return nil
	}
	d.lines = append(d.lines[:at], append([]string{d.line(text)}, d.lines[at:]...)...)
	return nil
}

// indentAt returns the indentation of the nearest line that has any text.
func (d *document) indentAt(at, from, until int) string {
	for _, i := range []int{at - 1, at, at + 1} {
		if i >= from && i < until && strings.TrimSpace(d.lines[i]) != "" {
			return d.lines[i][:len(d.lines[i])-len(strings.TrimLeft(d.lines[i], " \t"))]
		}
	}
	if from > 0 && from <= len(d.lines) {
		opening := d.lines[from-1]
		return opening[:len(opening)-len(strings.TrimLeft(opening, " \t"))] + "    "
	}
	return ""
}

// group is a group of a pattern in what stands instead.
var group = regexp.MustCompile(`\$\{(\d)\}`)

// written matches lines that Replace has written already.
func (r Rule) written() *regexp.Regexp {
	var b strings.Builder
	b.WriteString("^")
	by, last := strings.TrimSpace(r.By), 0
	for _, at := range group.FindAllStringIndex(by, -1) {
		b.WriteString(regexp.QuoteMeta(by[last:at[0]]) + ".*")
		last = at[1]
	}
	b.WriteString(regexp.QuoteMeta(by[last:]) + "$")
	return regexp.MustCompile(b.String())
}

// filled returns what stands instead of a line, with the groups that the pattern found in it.
func (r Rule) filled(line string) string {
	found := r.Replace.FindStringSubmatch(line)
	return group.ReplaceAllStringFunc(r.By, func(mark string) string {
		if n := int(mark[2] - '0'); n < len(found) {
			return found[n]
		}
		return ""
	})
}
