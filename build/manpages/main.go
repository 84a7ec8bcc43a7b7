// Command manpages writes a manual page of each command of the program into a folder, compressed as Debian wants them,
// and completions for three shells below it, where Debian looks for them.
//
//	manpages ROOT    ROOT/usr/share/man/man1/freshseal-replace.1.gz, …
package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"freshseal/cli"
	"freshseal/cmd/freshseal/host"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: manpages ROOT")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manpages:", err)
		os.Exit(1)
	}
}

func write(root string) error {
	commands := cli.Root(host.Commands)
	if err := pages(commands, filepath.Join(root, "usr/share/man/man1")); err != nil {
		return err
	}
	for name, of := range map[string]func(*bytes.Buffer) error{
		"bash-completion/completions/freshseal": func(b *bytes.Buffer) error {
			return commands.GenBashCompletionV2(b, true)
		},
		"zsh/vendor-completions/_freshseal": func(b *bytes.Buffer) error { return commands.GenZshCompletion(b) },
		"fish/vendor_completions.d/freshseal.fish": func(b *bytes.Buffer) error {
			return commands.GenFishCompletion(b, true)
		},
	} {
		var text bytes.Buffer
		if err := of(&text); err != nil {
			return err
		}
		if err := put(filepath.Join(root, "usr/share", name), text.Bytes()); err != nil {
			return err
		}
	}
	return nil
}

// pages writes the page of a command and of those below it. The same sources give the same bytes: the date is the
// SOURCE_DATE_EPOCH of the build, or none.
func pages(c *cobra.Command, folder string) error {
	c.InitDefaultHelpFlag()
	c.DisableAutoGenTag = true
	date := time.Unix(0, 0).UTC()
	if epoch, err := strconv.ParseInt(os.Getenv("SOURCE_DATE_EPOCH"), 10, 64); err == nil {
		date = time.Unix(epoch, 0).UTC()
	}
	header := &doc.GenManHeader{Section: "1", Source: "Fresh Seal", Manual: "Fresh Seal", Date: &date}
	var text, packed bytes.Buffer
	if err := doc.GenMan(c, header, &text); err != nil {
		return err
	}
	z, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return err
	}
	_, err = z.Write(text.Bytes())
	if err := errors.Join(err, z.Close()); err != nil {
		return err
	}
	if err := put(filepath.Join(folder, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1.gz"),
		packed.Bytes()); err != nil {
		return err
	}
	for _, below := range c.Commands() {
		if below.IsAvailableCommand() && !below.IsAdditionalHelpTopicCommand() {
			if err := pages(below, folder); err != nil {
				return err
			}
		}
	}
	return nil
}

func put(name string, content []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, content, 0o644)
}
