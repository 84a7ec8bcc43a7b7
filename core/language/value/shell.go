package value

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Placeholder is a value's place in a text: {{name}}, blanks allowed inside.
var Placeholder = regexp.MustCompile(`\{\{ *([a-z][a-z0-9_]*) *\}\}`)

// Named returns the values that a text names, in its order.
func Named(text string) []string {
	var out []string
	for _, m := range Placeholder.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}

// shellFault tells where in a command a value cannot be made safe.
type shellFault struct {
	Fragment string // the text at fault, for finding its line and column
	What     string
	Instead  string
}

// CheckCommand parses a command as a POSIX shell does and finds the values in its
// syntax tree. A value may stand in arguments, assignments of lower-case
// variables, for and case words, and redirections to files. Everywhere else it is
// refused, and so is any value beside a program that reads its arguments or input
// as commands. Values in commands are plain words besides (see notBare), so that
// what is missed here still cannot become more than a word.
func CheckCommand(text string, kind func(name string) Kind, filled func(name string) bool) *shellFault {
	marked, marks := markValues(text)
	if rest := strings.Index(Placeholder.ReplaceAllString(text, ""), "{{"); rest >= 0 {
		return &shellFault{"{{", "{{ does not begin a value", "write {{name}} with small letters, digits and _"}
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX),
		syntax.KeepComments(true)).Parse(strings.NewReader(marked), "")
	if err != nil {
		said := err.Error()
		for mark, m := range marks {
			said = strings.ReplaceAll(said, mark, m.fragment)
		}
		return &shellFault{text, "a POSIX shell cannot read this: " + said, "correct the command; long ones read " +
			"better as a script on the device"}
	}
	w := shellWalk{marks: marks, kind: kind, filled: filled}
	syntax.Walk(file, w.visit)
	if w.fault != nil {
		return w.fault
	}
	values := false
	for mark, m := range marks {
		values = values || kind(m.name) != Command
		if m.seen != 1 {
			what, instead := whereLost(marked, mark)
			return &shellFault{m.fragment, what, instead}
		}
	}
	if values && w.runs != "" {
		return &shellFault{w.runs, fmt.Sprintf("%s reads words as commands or runs them, and this command "+
			"contains values", w.runs), "make a step of its own without values, or put the program into a setting " +
			"of the kind command"}
	}
	if values && w.unnamed {
		return &shellFault{text, "the program's name is the result of an expansion, and this command contains values",
			"write the program's name"}
	}
	return nil
}

type mark struct {
	name, fragment string
	seen           int
}

// markValues exchanges each value for a word that stands nowhere else.
func markValues(text string) (string, map[string]*mark) {
	marks := map[string]*mark{}
	salt := "FsValue"
	for strings.Contains(text, salt) {
		salt += "x"
	}
	n := 0
	marked := Placeholder.ReplaceAllStringFunc(text, func(fragment string) string {
		n++
		word := fmt.Sprintf("%s%dq", salt, n)
		marks[word] = &mark{name: Placeholder.FindStringSubmatch(fragment)[1], fragment: fragment}
		return word
	})
	return marked, marks
}

// shellWalk looks for marks in the places where they are allowed.
type shellWalk struct {
	marks   map[string]*mark
	kind    func(name string) Kind
	filled  func(name string) bool // a command that is never empty
	stack   []syntax.Node
	runs    string // a program that runs or interprets its words
	unnamed bool   // a program's name is an expansion
	fault   *shellFault
}

func (w *shellWalk) visit(n syntax.Node) bool {
	if n == nil {
		w.stack = w.stack[:len(w.stack)-1]
		return true
	}
	w.stack = append(w.stack, n)
	switch n := n.(type) {
	case *syntax.CallExpr:
		w.call(n)
	case *syntax.Lit:
		w.literal(n)
	case *syntax.CmdSubst:
		if n.Backquotes && w.fault == nil {
			w.fault = &shellFault{"`", "backquotes change quoting inside them", "write $( … )"}
		}
	}
	return true
}

// call looks at a command's own words.
func (w *shellWalk) call(c *syntax.CallExpr) {
	program := false // a word that is no value came before
	for i, word := range c.Args {
		static, isStatic := staticText(word)
		if name := path.Base(static); isStatic && interprets(name, !program) && w.runs == "" {
			w.runs = name
		}
		m := w.only(word)
		switch {
		case m == nil && (i == 0 || !program):
			program = true
			w.unnamed = w.unnamed || !isStatic && !w.holdsMark(word)
			if w.holdsMark(word) && w.fault == nil {
				w.fault = &shellFault{w.firstMark(word), "a value is part of the program's name",
					"write the program's name, or use a setting of the kind command"}
			}
		case m != nil && w.kind(m.name) == Command:
			program = program || w.filled(m.name)
		case m != nil && !program && w.fault == nil:
			w.fault = &shellFault{m.fragment, "a value stands where the shell reads the program's name",
				"write the program's name before it, or use a setting of the kind command"}
		}
	}
}

// only returns the value that a word consists of, or nil.
func (w *shellWalk) only(word *syntax.Word) *mark { return w.marks[word.Lit()] }

func (w *shellWalk) holdsMark(word *syntax.Word) bool { return w.firstMark(word) != "" }

func (w *shellWalk) firstMark(word *syntax.Word) string {
	found := ""
	syntax.Walk(word, func(n syntax.Node) bool {
		if lit, ok := n.(*syntax.Lit); ok && found == "" {
			for mark, m := range w.marks {
				if strings.Contains(lit.Value, mark) {
					found = m.fragment
				}
			}
		}
		return true
	})
	return found
}

// literal counts the marks that stand in a good place.
func (w *shellWalk) literal(lit *syntax.Lit) {
	for mark, m := range w.marks {
		at := strings.Index(lit.Value, mark)
		if at < 0 || w.fault != nil {
			continue
		}
		if what, instead := w.badPlace(lit, at); what != "" {
			w.fault = &shellFault{m.fragment, what, instead}
			return
		}
		m.seen++
	}
}

// badPlace returns why a value cannot stand in a literal. The stack ends with the
// literal; its word and what holds that stand before it.
func (w *shellWalk) badPlace(lit *syntax.Lit, at int) (what, instead string) {
	if at > 0 && lit.Value[at-1] == '\\' {
		return "a value behind a backslash", "leave the backslash out"
	}
	above := func(n int) syntax.Node { return w.stack[max(0, len(w.stack)-1-n)] }
	word, ok := above(1).(*syntax.Word)
	switch above(1).(type) {
	case *syntax.DblQuoted, *syntax.SglQuoted:
		return "a value inside quotes", "leave the quotes out: a value is one word by itself"
	}
	if _, isParameter := above(1).(*syntax.ParamExp); isParameter {
		if at == 0 {
			return "a value behind a dollar sign", "leave the dollar sign out"
		}
		return "a value behind a variable's name, which it would become part of", "write ${name} around the variable"
	}
	if !ok {
		return "a value where the shell expects a name", "write the name"
	}
	for _, holder := range w.stack {
		if _, isArithmetic := holder.(*syntax.ArithmExp); isArithmetic {
			return "a value inside arithmetic", "leave arithmetic out of procedures"
		}
	}
	for i, part := range word.Parts {
		if part == syntax.WordPart(lit) && i > 0 && at == 0 {
			if p, ok := word.Parts[i-1].(*syntax.ParamExp); ok && p.Short {
				return "a value behind a variable's name, which it would become part of",
					"write ${name} around the variable"
			}
		}
	}
	return badHolder(above(2))
}

// badHolder returns why a value cannot stand in what holds its word.
func badHolder(holder syntax.Node) (what, instead string) {
	switch holder := holder.(type) {
	case *syntax.CallExpr, *syntax.WordIter, *syntax.CaseClause:
		return "", ""
	case *syntax.Assign:
		if holder.Name != nil && strings.ToLower(holder.Name.Value) != holder.Name.Value {
			return "a value assigned to " + holder.Name.Value + ", which programs may read as a setting",
				"use a variable in lower case"
		}
		return "", ""
	case *syntax.Redirect:
		switch holder.Op {
		case syntax.RdrOut, syntax.AppOut, syntax.RdrIn, syntax.RdrClob:
			return "", ""
		case syntax.Hdoc, syntax.DashHdoc:
			return "a value inside a here-document", "give the text to the command with stdin:"
		}
		return "a value as a file descriptor", "write the number"
	}
	return "a value in a place that the shell evaluates", "name it as an argument of a command"
}

// whereLost returns why a mark was found in no good place of the tree.
func whereLost(marked, word string) (what, instead string) {
	before := marked[:strings.Index(marked, word)]
	line := before[strings.LastIndex(before, "\n")+1:]
	switch {
	case strings.HasSuffix(before, "$"), strings.HasSuffix(before, "${"):
		return "a value behind a dollar sign", "leave the dollar sign out"
	case strings.Contains(before, "(("):
		return "a value inside arithmetic", "leave arithmetic out of procedures"
	case strings.Contains(before, "<<"):
		return "a value inside a here-document", "give the text to the command with stdin:"
	case strings.Contains(line, "#"):
		return "a value inside a comment", "use a comment of the file (# at the beginning of a YAML line)"
	case strings.Count(before, "'")%2 == 1, strings.Count(before, `"`)%2 == 1:
		return "a value inside quotes", "leave the quotes out: a value is one word by itself"
	}
	return "a value in a place that the shell evaluates", "name it as an argument of a command"
}

// staticText returns a word without its quotes; false where it holds an expansion.
func staticText(word *syntax.Word) (string, bool) {
	var b strings.Builder
	var add func(parts []syntax.WordPart) bool
	add = func(parts []syntax.WordPart) bool {
		for _, part := range parts {
			switch p := part.(type) {
			case *syntax.Lit:
				b.WriteString(strings.ReplaceAll(p.Value, `\`, ""))
			case *syntax.SglQuoted:
				b.WriteString(p.Value)
			case *syntax.DblQuoted:
				if !add(p.Parts) {
					return false
				}
			default:
				return false
			}
		}
		return true
	}
	ok := add(word.Parts)
	return b.String(), ok
}

// interpreters are programs that read their words or their input as commands,
// wherever in a command they are named: many programs run others.
var interpreters = strings.Fields(`sh bash dash ash ksh mksh zsh fish csh tcsh rbash busybox toybox eval
	awk gawk mawk nawk sed gsed perl python ruby lua luajit php node nodejs deno tclsh wish expect guile groovy jshell erl swipl gnuplot`)

// runners are programs and shell commands that run the program which a word of
// theirs names, read words as assignments, or take commands in files. They count
// where the shell runs them; elsewhere their names are words like others (boxctl set).
var runners = strings.Fields(`source . exec command builtin trap alias unalias set export readonly declare typeset local unset enable let getopts read mapfile [[ coproc
	bc dc m4 jq env nohup nice ionice chrt taskset timeout setsid stdbuf script time sudo su doas runuser pkexec chroot unshare nsenter setpriv capsh systemd-run start-stop-daemon run-parts
	xargs parallel find watch flock strace ltrace gdb valgrind at batch crontab make gmake ninja
	ssh sshpass rsh plink scp sftp rsync mosh socat nc ncat netcat telnet screen tmux
	ed ex vi vim nvim emacs nano less more man git tar cpio zip sqlite3 mysql mariadb psql ld.so ldconfig insmod modprobe`)

var versioned = regexp.MustCompile(`[0-9.]+$`)

// interprets reports whether a word beside a value is dangerous; program says that the
// shell runs it.
func interprets(name string, program bool) bool {
	plain := versioned.ReplaceAllString(name, "")
	for _, list := range [][]string{interpreters, runners} {
		if slices.Contains(list, name) || plain != "" && slices.Contains(list, plain) {
			return true
		}
		if !program {
			return false
		}
	}
	return false
}

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
	numberOrReserved = regexp.MustCompile(
		`^([0-9]+|if|then|else|elif|fi|do|done|case|esac|while|until|for|in|time|function|select)$`)
)
