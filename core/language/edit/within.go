package edit

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// section returns the part of an INI file below [name], up to the next section.
func (d *document) section(name string) (from, until int, err error) {
	heads := []string{}
	from = -1
	for i, line := range d.lines {
		head, ok := header(plain(line))
		switch {
		case !ok:
		case from >= 0:
			return from, i, nil
		case head == name:
			from = i + 1
		default:
			heads = append(heads, "["+head+"]")
		}
	}
	if from < 0 {
		said := "it has no sections"
		if len(heads) > 0 {
			said = "its sections are " + strings.Join(heads[:min(len(heads), mostNear)], ", ")
		}
		return 0, 0, errors.New("no section is called so; " + said)
	}
	return from, len(d.lines), nil
}

// header reads the name of a section of an INI file.
func header(line string) (string, bool) {
	line = strings.TrimSpace(line)
	if !strings.HasPrefix(line, "[") {
		return "", false
	}
	name, rest, ok := strings.Cut(line[1:], "]")
	rest = strings.TrimSpace(rest)
	return strings.TrimSpace(name), ok && (rest == "" || rest[0] == '#' || rest[0] == ';')
}

// option sets NAME=VALUE within the one line that matches, or adds it at the end of its words.
func (d *document) option(r Rule, from, until int) error {
	found := d.find(r.Of, from, until)
	if len(found) != 1 {
		where := d.near(r.Of.String(), from, until)
		if len(found) > 0 {
			where = " (lines " + numbers(found) + ")"
		}
		return fmt.Errorf("%d lines match %s instead of 1%s", len(found), r.Of, where)
	}
	line := plain(d.lines[found[0]])
	value, err := regexp.Compile(`(^|[\s,(])(` + regexp.QuoteMeta(r.Option) + `\s*=\s*)("[^"]*"|'[^']*'|[^\s,;)]*)`)
	if err != nil {
		return errors.New("the option's name is not UTF-8")
	}
	switch at := value.FindAllStringSubmatchIndex(line, -1); len(at) {
	case 1:
		line = line[:at[0][6]] + r.To + line[at[0][7]:]
	case 0:
		body := strings.TrimRight(withoutTail(line), " \t")
		line = body + " " + r.Option + "=" + r.To + line[len(body):]
	default:
		return fmt.Errorf("line %d sets the option %d times", found[0]+1, len(at))
	}
	d.lines[found[0]] = d.keepEnd(found[0], line)
	return nil
}

// withoutTail returns a line without the semicolon or the comment at its end.
func withoutTail(line string) string {
	return strings.TrimSuffix(line, strings.TrimLeft(tail(line), " "))
}
