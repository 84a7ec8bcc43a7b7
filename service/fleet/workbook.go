package fleet

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// Limits of a workbook, checked before it is parsed: a part of some kilobytes unpacks to gigabytes, and an element of
// five bytes takes a hundred in memory.
const (
	mostParts      = 1000
	mostColumns    = 500
	mostSheet      = 96 << 20  // bytes of a sheet, which is read row by row
	mostStrings    = 32 << 20  // bytes of the shared strings, which are all in memory
	mostStringTags = 1_500_000 // in the shared strings: four for each string
	mostOther      = 8 << 20   // bytes of all other parts together
	mostOtherTags  = 200_000   // in them
)

// checkWorkbook reports that a workbook is too large to be parsed, or is none.
func checkWorkbook(content []byte) error {
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return err
	}
	if len(archive.File) > mostParts {
		return fmt.Errorf("it has more than %d parts", mostParts)
	}
	otherBytes, otherTags := 0, 0
	for _, part := range archive.File {
		name := strings.ToLower(path.Clean("/" + part.Name))
		size, tags := mostOther-otherBytes, mostOtherTags-otherTags
		sheet, shared := strings.HasPrefix(name, "/xl/worksheets/"), strings.HasSuffix(name, "/sharedstrings.xml")
		switch {
		case shared:
			size, tags = mostStrings, mostStringTags
		case sheet:
			size, tags = mostSheet, mostSheet
		}
		unpackedBytes, found, err := unpacked(part, size, tags)
		if err != nil {
			return fmt.Errorf("%s: %w", part.Name, err)
		}
		if !sheet && !shared {
			otherBytes, otherTags = otherBytes+unpackedBytes, otherTags+found
		}
	}
	return nil
}

// unpacked counts the bytes and tags of a part.
func unpacked(part *zip.File, size, tags int) (n, found int, err error) {
	r, err := part.Open()
	if err != nil {
		return 0, 0, err
	}
	defer r.Close()
	for buffer := make([]byte, 64<<10); ; {
		read, err := r.Read(buffer)
		n += read
		found += bytes.Count(buffer[:read], []byte("<"))
		switch {
		case n > size:
			return n, found, fmt.Errorf("it is larger than %d MB", size>>20)
		case found > tags:
			return n, found, fmt.Errorf("it has more than %d elements", tags)
		case errors.Is(err, io.EOF):
			return n, found, nil
		case err != nil:
			return n, found, err
		}
	}
}
