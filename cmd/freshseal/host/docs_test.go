package host

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshseal/cli"
)

var (
	shownCommand = regexp.MustCompile("(?m)^ {4}(?:\\$ )?(?:sudo )?freshseal (.*(?:\\\\\n.*)*)$|`freshseal ([^`\n]+)`")
	quoted       = regexp.MustCompile(`"[^"]*"|'[^']*'`)
)

// Every command that a document shows exists, with every flag that it shows.
func TestTheDocumentsShowCommandsThatExist(t *testing.T) {
	files, err := filepath.Glob("../../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, file := range append(files, "../../../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, found := range shownCommand.FindAllStringSubmatch(string(text), -1) {
			line := strings.ReplaceAll(found[1]+found[2], "\\\n", " ")
			line = quoted.ReplaceAllString(line, "QUOTED")
			if before, _, piped := strings.Cut(line, " > "); piped {
				line = before
			}
			line, _, _ = strings.Cut(line, " | ")
			line, _, _ = strings.Cut(line, " # ")
			words := strings.Fields(line)
			if len(words) == 0 {
				continue
			}
			// such as list|show
			if rest := strings.Split(words[len(words)-1], "|"); len(rest) > 1 &&
				!strings.ContainsAny(words[len(words)-1], "-[") {
				words[len(words)-1] = rest[0]
			}
			c, args, err := cli.Root(Commands).Find(words)
			if err != nil || !c.Runnable() && !strings.HasPrefix(line, "help") {
				t.Errorf("%s shows %q: %v", filepath.Base(file), line, err)
				continue
			}
			seen++
			for _, word := range args {
				flag, isFlag := strings.CutPrefix(strings.Trim(word, "[],.…"), "--")
				if name, _, _ := strings.Cut(flag, "="); isFlag && name != "" && c.Flags().Lookup(name) == nil &&
					c.InheritedFlags().Lookup(name) == nil {
					t.Errorf("%s shows %q: %s has no flag --%s", filepath.Base(file), line, c.CommandPath(), name)
				}
			}
		}
	}
	if seen < 100 {
		t.Errorf("only %d commands were found", seen)
	}
}
