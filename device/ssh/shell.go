package ssh

import (
	"embed"
	"strings"

	"freshseal/core/language/value"
)

// texts are the scripts that are sent to devices, one file each in the folder shell.
//
//go:embed shell/*.sh
var texts embed.FS

// The scripts by what they do; each file says what it takes and how it ends.
var (
	writeScript   = Script("write")
	placeScript   = Script("place")
	joinScript    = Script("join")
	keepScript    = Script("keep")
	restoreScript = Script("restore")
	readScript    = Script("read")
	emptyScript   = Script("empty")
	probeScript   = Script("probe")
	runScript     = Script("run")
	stateScript   = Script("state")
	endScript     = Script("end")
	talkScript    = Script("talk")
	raiseScript   = Script("raise")
)

// Script returns a script of the folder shell as it is sent: on one line, without comments and indentation. Some
// devices bound the length of a command, and csh, which some give their users, takes no line end within quotes.
func Script(name string) string {
	content, err := texts.ReadFile("shell/" + name + ".sh")
	if err != nil {
		panic(err) // a name of this file
	}
	var out strings.Builder
	for line := range strings.Lines(string(content)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			out.WriteString(line)
			out.WriteString(behind(line))
		}
	}
	return strings.TrimRight(out.String(), "; ")
}

// behind returns what separates a line of a script from the next one: nothing but a blank where a command goes on.
func behind(line string) string {
	for _, open := range []string{"then", "else", "do", "{", "(", "||", "&&", " in", ";;", "&", "sh -c '"} {
		if strings.HasSuffix(line, open) {
			return " "
		}
	}
	if strings.HasSuffix(line, ")") && !strings.Contains(line, "(") { // a pattern of case
		return " "
	}
	return "; "
}

// script returns a command that runs a POSIX shell script with arguments, $1 and on,
// whatever the user's own shell is.
func script(text string, args ...string) string {
	words := []string{"sh", "-c", quoted(text), "fs"}
	for _, arg := range args {
		words = append(words, value.Quote(arg))
	}
	return strings.Join(words, " ")
}

func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
