package ssh

import (
	"embed"
	"strings"

	"freshseal/core/language/procedure"
)

// texts are the scripts that are sent to devices, one file each in the folder shell.
//
//go:embed shell/*.sh
var texts embed.FS

// The scripts by what they do; each file says what it takes and how it ends.
var (
	writeScript   = text("write")
	placeScript   = text("place")
	joinScript    = text("join")
	keepScript    = text("keep")
	restoreScript = text("restore")
	readScript    = text("read")
	emptyScript   = text("empty")
	probeScript   = text("probe")
	runScript     = text("run")
	stateScript   = text("state")
	endScript     = text("end")
	talkScript    = text("talk")
	raiseScript   = text("raise")
)

// text returns a script as it is sent: without comments and indentation, since some devices bound the length of a
// command.
func text(name string) string {
	content, err := texts.ReadFile("shell/" + name + ".sh")
	if err != nil {
		panic(err) // a name of this file
	}
	var lines []string
	for line := range strings.Lines(string(content)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

// script is a command that runs a POSIX shell script with arguments, $1 and on,
// whatever the user's own shell is.
func script(text string, args ...string) string {
	words := []string{"sh", "-c", quoted(text), "fs"}
	for _, arg := range args {
		words = append(words, procedure.Quote(arg))
	}
	return strings.Join(words, " ")
}

func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
