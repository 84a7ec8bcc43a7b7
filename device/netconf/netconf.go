// Package netconf is the link to a device's configuration by NETCONF (RFC 6241) over SSH
// (RFC 6242): one session, one call at a time.
//
//	Open  →  Session: Call (the inside of an rpc → its rpc-reply)
package netconf

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"freshseal/device/links"
)

// Limits of a session.
const (
	MaxReply = 1 << 20 // bytes of one message
	maxChunk = 1 << 20
)

const (
	base    = "urn:ietf:params:xml:ns:netconf:base:1.0"
	chunked = "urn:ietf:params:netconf:base:1.1" // of capabilities (RFC 6241, 8.1)
	plain   = "urn:ietf:params:netconf:base:1.0"
	ending  = "]]>]]>" // of a message without chunks (RFC 6242, 4.3)
)

// Error is what a device answered to a call instead of doing it (RFC 6241, 4.3).
type Error struct {
	Tag     string `xml:"error-tag"`
	Level   string `xml:"error-severity"`
	Message string `xml:"error-message"`
}

func (e Error) Error() string {
	return strings.TrimSpace(fmt.Sprintf("the device answers %s: %s", e.Tag,
		strings.Join(strings.Fields(e.Message), " ")))
}

// Session is an open session.
type Session struct {
	conn   io.ReadWriteCloser
	in     *bufio.Reader
	chunks bool
	last   int

	Capabilities []string
}

// Open exchanges the hellos over an SSH channel of the subsystem netconf.
func Open(ctx context.Context, conn io.ReadWriteCloser) (*Session, error) {
	s := &Session{conn: conn, in: bufio.NewReader(conn)}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	hello := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?><hello xmlns="%s"><capabilities><capability>%s</capability><capability>%s</capability></capabilities></hello>`, base, plain, chunked)
	if err := s.send(hello); err != nil {
		return nil, lost(ctx, err)
	}
	text, err := s.receive()
	if err != nil {
		return nil, lost(ctx, err)
	}
	var said struct {
		Capabilities []string `xml:"capabilities>capability"`
	}
	if err := xml.Unmarshal(text, &said); err != nil {
		return nil, fmt.Errorf("the device's hello is not XML: %w", err)
	}
	for _, each := range said.Capabilities {
		each = strings.TrimSpace(each)
		s.Capabilities = append(s.Capabilities, each)
		s.chunks = s.chunks || each == chunked
	}
	return s, nil
}

// firstReply is how long the first reply of a session may take.
const firstReply = 5 * time.Second

// Check asks a new session for nothing (RFC 6241, 6.4.2: an empty filter) and waits for the reply. Some servers lose
// the first call of a session with chunks where it arrives together with the hello; what is lost then changed
// nothing. It returns links.ErrLost where the session is of no use; it can be opened again.
func (s *Session) Check(ctx context.Context) error {
	if !s.chunks {
		return nil
	}
	limited, cancel := context.WithTimeout(ctx, firstReply)
	defer cancel()
	_, err := s.Call(limited, `<get><filter type="subtree"></filter></get>`)
	if errors.As(err, new(Error)) { // a refusal is a reply as well
		return nil
	}
	return err
}

// Bounds of what a device may send before it replies to a call, notifications that nobody asked for among them. Each
// message counts as some bytes more than it has.
const (
	mostBesides  = 4 * MaxReply
	leastMessage = 1 << 10
)

// Call makes a call: content is the inside of the rpc element. It returns the whole
// rpc-reply. An Error says that the device refused it; links.ErrLost that nobody knows.
func (s *Session) Call(ctx context.Context, content string) ([]byte, error) {
	stop := context.AfterFunc(ctx, func() { s.conn.Close() })
	defer stop()
	s.last++
	id := strconv.Itoa(s.last)
	if err := s.send(fmt.Sprintf(`<rpc xmlns="%s" message-id="%s">%s</rpc>`, base, id, content)); err != nil {
		return nil, lost(ctx, err)
	}
	for read := 0; ; {
		text, err := s.receive()
		if err != nil {
			return nil, lost(ctx, err)
		}
		if read += len(text) + leastMessage; read > mostBesides {
			return nil, fmt.Errorf("%w: no reply is among the messages that it sends", links.ErrFlood)
		}
		var reply struct {
			XMLName xml.Name
			ID      string  `xml:"message-id,attr"`
			Errors  []Error `xml:"rpc-error"`
		}
		if err := xml.Unmarshal(text, &reply); err != nil {
			return text, fmt.Errorf("the device's reply is not XML: %w", err)
		}
		if reply.XMLName.Local != "rpc-reply" {
			continue // a notification
		}
		if reply.ID != id {
			return text, fmt.Errorf("%w: the reply is to another call", links.ErrLost)
		}
		for _, each := range reply.Errors {
			if each.Level != "warning" {
				return text, each
			}
		}
		return text, nil
	}
}

// Close ends the session politely, as far as that can be done.
func (s *Session) Close(ctx context.Context) {
	s.Call(ctx, "<close-session/>")
	s.conn.Close()
}

func lost(ctx context.Context, err error) error {
	switch {
	case errors.Is(err, links.ErrFlood):
		return err
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%w: no reply came in time", links.ErrLost)
	}
	return fmt.Errorf("%w: %v", links.ErrLost, err)
}

func (s *Session) send(text string) error {
	if !s.chunks {
		_, err := io.WriteString(s.conn, text+ending)
		return err
	}
	_, err := fmt.Fprintf(s.conn, "\n#%d\n%s\n##\n", len(text), text)
	return err
}

// receive reads one message.
func (s *Session) receive() ([]byte, error) {
	if s.chunks {
		return s.receiveChunks()
	}
	var out bytes.Buffer
	for {
		part, err := s.in.ReadSlice('>')
		out.Write(part)
		if text, ok := bytes.CutSuffix(out.Bytes(), []byte(ending)); ok {
			return bytes.TrimSpace(text), nil
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
		if out.Len() > MaxReply {
			return nil, fmt.Errorf("%w: a message has more than %d bytes", links.ErrFlood, MaxReply)
		}
	}
}

// receiveChunks reads a message in chunks (RFC 6242, 4.2): LF # size LF data …, LF # # LF.
func (s *Session) receiveChunks() ([]byte, error) {
	var out bytes.Buffer
	for {
		line, err := s.line()
		if err != nil {
			return nil, err
		}
		if line == "" { // the LF in front
			if line, err = s.line(); err != nil {
				return nil, err
			}
		}
		if line == "##" {
			return out.Bytes(), nil
		}
		size, err := strconv.Atoi(strings.TrimPrefix(line, "#"))
		if err != nil || !strings.HasPrefix(line, "#") || size < 1 {
			return nil, fmt.Errorf("the device does not keep to the framing: %q", line)
		}
		if size > maxChunk || out.Len()+size > MaxReply {
			return nil, fmt.Errorf("%w: a message has more than %d bytes", links.ErrFlood, MaxReply)
		}
		if _, err := io.CopyN(&out, s.in, int64(size)); err != nil {
			return nil, err
		}
	}
}

// line reads a line of the framing, which is short.
func (s *Session) line() (string, error) {
	var out []byte
	for len(out) < 24 {
		c, err := s.in.ReadByte()
		if err != nil {
			return "", err
		}
		if c == '\n' {
			return string(out), nil
		}
		out = append(out, c)
	}
	return "", fmt.Errorf("the device does not keep to the framing: %q", out)
}
