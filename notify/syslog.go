package notify

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

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
	case i.Kind == notice.Over, i.Kind == notice.Trial:
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

// syslog sends a line for each item over TCP, with octet counting (RFC 6587, 3.4.1; RFC 5425 over TLS).
func (s Sender) syslog(ctx context.Context, c Channel, m notice.Message) error {
	conn, err := s.Dial(ctx, "tcp", net.JoinHostPort(c.Address, strconv.Itoa(c.Port)))
	if err != nil {
		return err
	}
	defer conn.Close()
	if c.Security == TLS {
		if conn, err = c.secured(ctx, conn); err != nil {
			return err
		}
	}
	if deadline, ok := ctx.Deadline(); ok {
		conn.SetDeadline(deadline)
	}
	for _, i := range m.Items {
		line := syslogLine(hostName(m.Service), m, i)
		if _, err := fmt.Fprintf(conn, "%d %s", len(line), line); err != nil {
			return err
		}
	}
	if half, ok := conn.(interface{ CloseWrite() error }); ok {
		half.CloseWrite()
		// A server that reads all closes then; one that does not gets a moment.
		conn.SetReadDeadline(time.Now().Add(2 * time.Second))
		conn.Read(make([]byte, 1))
	}
	return nil
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
