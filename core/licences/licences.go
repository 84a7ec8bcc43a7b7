// Package licences has the notices of what is built into the program. make writes them from what it builds of; a
// program that was built without it says so.
package licences

import (
	"bytes"
	"compress/gzip"
	"embed"
	"io"
)

//go:embed text
var text embed.FS

// Text returns all notices, ASCII and UTF-8, with lines of any length.
func Text() string {
	head, err := text.ReadFile("text/head.txt")
	if err != nil {
		return err.Error()
	}
	packed, err := text.ReadFile("text/all.txt.gz")
	if err != nil {
		return string(head) + "This program was built without their notices; make build adds them.\n"
	}
	unpacked, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return string(head) + err.Error() + "\n"
	}
	all, err := io.ReadAll(unpacked)
	if err != nil {
		return string(head) + err.Error() + "\n"
	}
	return string(head) + string(all)
}
