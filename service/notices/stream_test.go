package notices

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/notify"
	"freshseal/service/problem"
	"freshseal/store"
)

var number = regexp.MustCompile(`\[audit@32473 number="(\d+)"`)

// numbers are those of the entries that came, in order.
func (q *quay) numbers() (out []int) {
	for _, got := range q.got("syslog") {
		if m := number.FindStringSubmatch(got.Text); m != nil {
			n, _ := strconv.Atoi(m[1])
			out = append(out, n)
		}
	}
	return out
}

func (q *quay) act(n int) {
	q.t.Helper()
	for i := range n {
		q.must(q.db.Outbox.Act(q.t.Context(), store.At(q.clock()), "ann", "did", fmt.Sprint(i)))
	}
}

// Every entry comes at least once and in order, whatever the server does: it is away, refuses, hangs up in the middle,
// or says nothing at the end.
func TestTheAuditLogIsSentOn(t *testing.T) {
	q := newQuay(t, 1)
	q.act(3)
	_, err := q.Stream.Set(t.Context(), contract.NewAuditStream{Channel: "hook"})
	if p, ok := err.(*problem.Error); !ok || p.Kind != problem.Invalid {
		t.Errorf("to a webhook: %v", err)
	}
	_, err = q.Stream.Set(t.Context(), contract.NewAuditStream{Channel: "nowhere"})
	if p, ok := err.(*problem.Error); !ok || p.Kind != problem.NotFound {
		t.Errorf("to a channel that is not there: %v", err)
	}
	if _, err := q.Stream.Set(t.Context(), contract.NewAuditStream{Channel: "log", HeadChannel: "mail"}); err != nil {
		t.Fatal(err)
	}
	if err := q.RemoveChannel(t.Context(), "log"); err == nil || !strings.Contains(err.Error(), "is sent to it") {
		t.Errorf("its channel was removed: %v", err)
	}
	q.must(q.Stream.send(t.Context()))
	q.act(1200) // more than go over one connection
	q.must(q.Stream.send(t.Context()))
	q.sinks.Refuse = func(sink string) bool { return sink == "syslog" }
	q.act(2)
	if err := q.Stream.send(t.Context()); err == nil {
		t.Error("a server that refuses has all")
	}
	shown, err := q.Stream.Show(t.Context())
	if err != nil || shown.Sent != 1203 || shown.Newest != 1205 || shown.Error == "" || shown.SentAt == nil {
		t.Errorf("%+v, %v", shown, err)
	}
	q.sinks.Refuse = nil
	q.Service = q.again() // another process
	q.must(q.Stream.send(t.Context()))
	for i, n := range q.numbers() {
		if n != i+1 {
			t.Fatalf("entry %d came where %d was to: %v", n, i+1, q.numbers()[max(0, i-3):i+1])
		}
	}
	if shown, err = q.Stream.Show(t.Context()); err != nil || shown.Sent != 1205 || shown.Error != "" {
		t.Errorf("%+v, %v", shown, err)
	}

	// Over another channel it begins anew.
	q.must(q.db.Streams.Set(t.Context(), "log", ""))
	if row, _ := q.db.Streams.Get(t.Context()); row.Sent != 1205 {
		t.Errorf("over the same channel: %+v", row)
	}
	q.must(q.db.Streams.Set(t.Context(), "other", ""))
	q.must(q.db.Streams.Tried(t.Context(), "log", 1205, "", store.At(q.clock()))) // what was still under way
	if row, _ := q.db.Streams.Get(t.Context()); row.Sent != 0 {
		t.Errorf("over another channel: %+v", row)
	}
}

// rude is a syslog server that reads some lines of each connection and then does something else.
func rude(t *testing.T, config *tls.Config, leave func(plain net.Conn, secured *tls.Conn), lines int) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			secured := tls.Server(conn, config)
			in := bufio.NewReader(secured)
			for range lines {
				head, err := in.ReadString(' ')
				n, _ := strconv.Atoi(strings.TrimSpace(head))
				if err != nil {
					break
				}
				io.CopyN(io.Discard, in, int64(n))
			}
			leave(conn, secured)
			conn.Close()
		}
	}()
	return l.Addr().String()
}

func TestAServerThatMayNotHaveReadAllGetsItAgain(t *testing.T) {
	q := newQuay(t, 1)
	q.act(mostEntries)
	for name, leave := range map[string]func(net.Conn, *tls.Conn){
		"it hangs up":         func(plain net.Conn, _ *tls.Conn) { plain.(*net.TCPConn).SetLinger(0) },
		"it says nothing":     func(net.Conn, *tls.Conn) { time.Sleep(3 * time.Second) },
		"it answers and goes": func(_ net.Conn, secured *tls.Conn) { secured.Write([]byte("?")) },
		"it is done too soon": nil,
	} {
		t.Run(name, func(t *testing.T) {
			lines := mostEntries
			if leave == nil {
				lines, leave = 2, func(_ net.Conn, secured *tls.Conn) { secured.Close() }
			}
			c := contract.NewChannel{}
			c.Kind, c.Pin = notify.Syslog, q.sinks.Certificate
			c.Address, c.Port = place(rude(t, q.sinks.TLS(), leave, lines))
			label := strings.ReplaceAll(name, " ", "-")
			_, err := q.SetChannel(t.Context(), label, c, problem.Any)
			must(t, err)
			_, err = q.Stream.Set(t.Context(), contract.NewAuditStream{Channel: label})
			must(t, err)
			err = q.Stream.send(t.Context())
			row, broken := q.db.Streams.Get(t.Context())
			if broken != nil || err == nil || row.Sent != 0 || row.Error == "" {
				t.Errorf("%v, %+v", err, row)
			}
		})
	}
}

// The newest entry is told once a day, so that it can be compared later.
func TestTheHeadIsToldOnceADay(t *testing.T) {
	q := newQuay(t, 1)
	q.act(2)
	q.must(q.db.Streams.Set(t.Context(), "", "mail"))
	for range 3 {
		q.must(q.Stream.tellHead(t.Context()))
	}
	head, err := q.db.Audit.Head(t.Context())
	q.must(err)
	mails := q.got("mail")
	want := fmt.Sprintf("%d:%s", head.ID, head.Hash)
	if len(mails) != 1 || !strings.Contains(strings.ReplaceAll(mails[0].Text, "=\r\n", ""), want) {
		t.Fatalf("%+v", mails)
	}
	q.pass(24*time.Hour + time.Second)
	q.sinks.Refuse = func(string) bool { return true }
	if err := q.Stream.tellHead(t.Context()); err == nil {
		t.Error("a server that refuses was told")
	}
	q.sinks.Refuse = nil
	q.must(q.Stream.tellHead(t.Context()))
	if n := len(q.got("mail")); n != 2 {
		t.Errorf("%d mails", n)
	}
}
