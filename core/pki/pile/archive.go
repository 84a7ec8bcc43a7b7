package pile

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"strings"
)

// packed is a file in an archive. Nothing is ever written under its name.
type packed struct {
	name    string
	content []byte
	broken  string // why it could not be taken out
}

// unpack returns the files of an archive or a mail; nil says that it is neither.
func (s *sorter) unpack(content []byte, depth int) ([]packed, error) {
	open := s.opener(content)
	if open == nil {
		return nil, nil
	}
	if depth >= maxDepth {
		return []packed{{broken: fmt.Sprintf("archives within archives, more than %d deep; unpack it and give "+
			"the files", maxDepth)}}, nil
	}
	return open(content)
}

type opener func(content []byte) ([]packed, error)

func (s *sorter) opener(content []byte) opener {
	switch {
	case bytes.HasPrefix(content, []byte("PK\x03\x04")):
		return s.unzip
	case bytes.HasPrefix(content, []byte("\x1f\x8b")):
		return s.gunzip
	case len(content) > 262 && string(content[257:262]) == "ustar":
		return s.untar
	case isMail(content):
		return s.mail
	}
	return nil
}

// take reads what an archive unpacks to, as far as the pile has room for it.
func (s *sorter) take(r io.Reader) ([]byte, error) {
	content, err := io.ReadAll(io.LimitReader(r, int64(s.bytes)+1))
	if s.bytes -= len(content); s.bytes < 0 {
		return nil, ErrTooLarge
	}
	return content, err
}

// takeOut adds one file of an archive; only ErrTooLarge ends the whole.
func (s *sorter) takeOut(files []packed, name string, r io.Reader) ([]packed, error) {
	if len(files) >= MaxItems {
		return nil, ErrTooLarge
	}
	content, err := s.take(r)
	switch {
	case errors.Is(err, ErrTooLarge):
		return nil, err
	case errors.Is(err, io.ErrUnexpectedEOF) && len(marks(plainText(content))) > 0: // whole blocks may stand in it
		return append(files, packed{broken: shown(name) + ", in it, is cut off; have it sent again"},
			packed{name: name, content: content}), nil
	case err != nil:
		return append(files, packed{broken: fmt.Sprintf("%s, in it, is damaged: %v", shown(name), err)}), nil
	}
	return append(files, packed{name: name, content: content}), nil
}

func (s *sorter) unzip(content []byte) ([]packed, error) {
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // paths mean nothing here
		return []packed{{broken: "a zip archive that is damaged"}}, nil
	}
	files := []packed{}
	for _, f := range archive.File {
		if f.FileInfo().IsDir() {
			continue
		}
		if f.Flags&1 != 0 {
			files = append(files, packed{broken: shown(f.Name) + ", in it, is locked with a password; unpack it " +
				"and give the files"})
			continue
		}
		r, err := f.Open()
		if err != nil {
			files = append(files, packed{broken: fmt.Sprintf("%s, in it, cannot be unpacked: %v", shown(f.Name), err)})
			continue
		}
		files, err = s.takeOut(files, f.Name, r)
		r.Close()
		if err != nil {
			return nil, err
		}
	}
	return orEmpty(files), nil
}

func (s *sorter) gunzip(content []byte) ([]packed, error) {
	r, err := gzip.NewReader(bytes.NewReader(content))
	if err != nil {
		return []packed{{broken: "a gzip file that is damaged"}}, nil
	}
	name := r.Name
	if name == "" {
		name = "unpacked"
	}
	return s.takeOut(nil, name, r)
}

func (s *sorter) untar(content []byte) ([]packed, error) {
	archive := tar.NewReader(bytes.NewReader(content))
	files := []packed{}
	for {
		h, err := archive.Next()
		switch {
		case errors.Is(err, io.EOF):
			return orEmpty(files), nil
		case err != nil && !errors.Is(err, tar.ErrInsecurePath):
			return append(files, packed{broken: "a tar archive that is damaged"}), nil
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if files, err = s.takeOut(files, h.Name, archive); err != nil {
			return nil, err
		}
	}
}

func orEmpty(files []packed) []packed {
	if len(files) == 0 {
		return []packed{{broken: "an archive without any file"}}
	}
	return files
}

// isMail sees the head of a mail (RFC 5322): a line of a known field first, and
// what kind of content follows before the first empty line.
func isMail(content []byte) bool {
	head, _, ok := bytes.Cut(bytes.ReplaceAll(content[:min(len(content), 64<<10)], []byte("\r\n"), []byte("\n")),
		[]byte("\n\n"))
	if !ok {
		return false
	}
	lower := "\n" + strings.ToLower(string(head))
	first, _, _ := strings.Cut(lower[1:], ":")
	return !strings.ContainsAny(first, " \t\n") &&
		(strings.Contains(lower, "\nfrom:") || strings.Contains(lower, "\nsubject:") ||
			strings.Contains(lower, "\nreceived:")) &&
		(strings.Contains(lower, "\ncontent-type:") || strings.Contains(lower, "\nmime-version:"))
}

func (s *sorter) mail(content []byte) ([]packed, error) {
	m, err := mail.ReadMessage(bytes.NewReader(content))
	if err != nil {
		return []packed{{broken: "a mail that cannot be read"}}, nil
	}
	files, err := s.part([]packed{}, m.Header.Get, m.Body, 0)
	if err != nil {
		return nil, err
	}
	// A greeting beside the attachments is not worth a word.
	var kept []packed
	for _, f := range files {
		if len(files) == 1 || f.broken != "" || !strings.HasPrefix(f.name, "text ") ||
			len(marks(plainText(f.content))) > 0 {
			kept = append(kept, f)
		}
	}
	return orEmpty(kept), nil
}

// part takes one part of a mail (RFC 2046), or the parts in it.
func (s *sorter) part(files []packed, field func(string) string, body io.Reader, depth int) ([]packed, error) {
	kind, parameters, err := mime.ParseMediaType(field("Content-Type"))
	if err == nil && strings.HasPrefix(kind, "multipart/") && depth < maxDepth {
		parts := multipart.NewReader(body, parameters["boundary"])
		for {
			p, err := parts.NextRawPart()
			switch {
			case errors.Is(err, io.EOF):
				return files, nil
			case err != nil:
				return append(files, packed{broken: "a mail that is cut or damaged"}), nil
			}
			if files, err = s.part(files, p.Header.Get, p, depth+1); err != nil {
				return nil, err
			}
		}
	}
	switch strings.ToLower(strings.TrimSpace(field("Content-Transfer-Encoding"))) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	_, disposition, _ := mime.ParseMediaType(field("Content-Disposition"))
	name := disposition["filename"]
	if name == "" {
		name = parameters["name"]
	}
	if decoded, err := new(mime.WordDecoder).DecodeHeader(name); err == nil {
		name = decoded
	}
	if name == "" {
		name = "text of the mail"
	}
	return s.takeOut(files, name, body)
}
