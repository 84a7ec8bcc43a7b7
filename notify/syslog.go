package notify

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"freshseal/core/auditfile"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/notice"
	"freshseal/core/terminal/visible"
)

// enterprise is the number in structured data: that of examples (RFC 5612).
const enterprise = "32473"

const facility = 16 // local0

// severity of an item (RFC 5424, 6.2.1).
func severity(i notice.Item) int {
	switch {
	case i.Kind == notice.Over, i.Kind == notice.Trial, i.Kind == notice.Head:
		return 6 // informational
	case i.Condition == string(due.Expired), i.Condition == string(due.Unreachable),
		i.Condition == string(due.Unexpected):
		return 3 // error
	}
	return 4 // warning
}

// syslogLine returns an item as RFC 5424, 6, has it.
func syslogLine(host string, m notice.Message, i notice.Item) string {
	data := ""
	for _, each := range [][2]string{{"id", i.ID}, {"message", m.ID}, {"rule", i.Rule}, {"slot", i.Slot},
		{"what", i.What}, {"site", i.Site}, {"owner", i.Owner}, {"stage", i.Stage}, {"condition", i.Condition}} {
		if each[0] != "what" || each[1] != "" {
			data += fmt.Sprintf(` %s="%s"`, each[0], quoted(each[1]))
		}
	}
	if i.ExpiresAt != nil {
		data += fmt.Sprintf(` expires="%s"`, i.ExpiresAt.Format(time.RFC3339))
	}
	return fmt.Sprintf("<%d>1 %s %s freshseal %d %s [notice@%s%s] \xef\xbb\xbf%s", facility*8+severity(i),
		m.At.UTC().Format("2006-01-02T15:04:05.000Z"), host, os.Getpid(), i.Kind, enterprise, data,
		visible.Line(i.Headline()+"; "+i.Why))
}

// quoted escapes a parameter's value (RFC 5424, 6.3.3).
func quoted(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(visible.Line(text))
}

// hostName returns a name for the header: printable ASCII without blanks.
func hostName(name string) string {
	out := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, name)
	if out == "" {
		return "-"
	}
	return out[:min(len(out), 255)]
}

// auditFacility is log audit (RFC 5424, 6.2.1).
const auditFacility = 13

// entryLine returns an entry of the audit log as RFC 5424, 6, has it. Its number shows a gap, and its hash a change.
func entryLine(host string, e auditfile.Entry) string {
	data := ""
	for _, each := range [][2]string{{"number", strconv.FormatInt(e.ID, 10)}, {"who", e.Who}, {"what", e.What},
		{"about", e.About}, {"through", e.Through}, {"address", e.Address}, {"hash", e.Hash}} {
		if each[1] != "" {
			data += fmt.Sprintf(` %s="%s"`, each[0], quoted(each[1]))
		}
	}
	return fmt.Sprintf("<%d>1 %s %s freshseal %d audit [audit@%s%s] \xef\xbb\xbf%s", auditFacility*8+5, // notice
		e.At.UTC().Format("2006-01-02T15:04:05.000Z"), host, os.Getpid(), enterprise, data,
		visible.Line(e.Who+": "+e.What+" "+e.About))
}

// Entries sends entries of the audit log to a syslog server. It returns nil once the server has closed the connection
// behind the last of them: it has read them all then. Else some may have come, and some not. Who sits on the line can
// forge that end (TCP has no proof of it); the gap in the numbers shows it.
func (s Sender) Entries(ctx context.Context, c Channel, entries []auditfile.Entry) error {
	lines := make([]string, len(entries))
	for i, e := range entries {
		lines[i] = entryLine(hostName(s.Name), e)
	}
	whole, err := s.lines(ctx, c, lines)
	if err == nil && !whole {
		err = errors.New("the server did not close the connection behind the last entry, so it may not have read all")
	}
	return err
}

// syslog sends a line for each item.
func (s Sender) syslog(ctx context.Context, c Channel, m notice.Message) error {
	lines := make([]string, len(m.Items))
	for i, item := range m.Items {
		lines[i] = syslogLine(hostName(m.Service), m, item)
	}
	_, err := s.lines(ctx, c, lines)
	return err
}

// closesWithin is how long a server has to close the connection behind the last line.
const closesWithin = 2 * time.Second

// lines sends lines over TCP, with octet counting (RFC 6587, 3.4.1; RFC 5425 over TLS). It reports whether the server
// has closed the connection behind the last one.
func (s Sender) lines(ctx context.Context, c Channel, lines []string) (whole bool, err error) {
	conn, err := s.Dial(ctx, "tcp", net.JoinHostPort(c.Address, strconv.Itoa(c.Port)))
	if err != nil {
		return false, err
	}
	defer conn.Close()
	var below net.Conn // that carries the secured one
	if c.Security == TLS {
		below = conn
		if conn, err = c.secured(ctx, conn); err != nil {
			return false, err
		}
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	for _, line := range lines {
		if _, err := fmt.Fprintf(conn, "%d %s", len(line), line); err != nil {
			return false, err
		}
	}
	half, ok := conn.(interface{ CloseWrite() error })
	if !ok || half.CloseWrite() != nil {
		return false, nil
	}
	conn.SetReadDeadline(time.Now().Add(closesWithin))
	if _, err = conn.Read(make([]byte, 1)); errors.Is(err, io.EOF) && below != nil {
		_, err = below.Read(make([]byte, 1)) // reset where the server left something unread
	}
	return errors.Is(err, io.EOF), nil
}

// secured speaks TLS over a connection.
func (c Channel) secured(ctx context.Context, conn net.Conn) (net.Conn, error) {
	client := tls.Client(conn, c.config(c.Address))
	if err := client.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	return client, nil
}
