package notify

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/core/judgement/notice"
)

// listen answers every connection with what a server says until its end.
func listen(t *testing.T, say func(net.Conn)) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var open sync.WaitGroup
	open.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			open.Go(func() {
				defer conn.Close()
				say(conn)
			})
		}
	})
	t.Cleanup(func() { l.Close(); open.Wait() })
	return l.Addr().(*net.TCPAddr).Port
}

func post(ctx context.Context, port int) error {
	sender := Sender{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Name: "seal.tidewrack.example"}
	c := Channel{Kind: Mail, Address: "127.0.0.1", Port: port, Security: Plain, From: "seal@tidewrack.example",
		To: []string{"noc@tidewrack.example"}}
	return sender.Send(ctx, c, "", c.Group(""), notice.Message{ID: "m1", At: time.Now()})
}

// A mail server that never ends its line fills no memory.
func TestAnEndlessAnswerEnds(t *testing.T) {
	var said atomic.Int64
	port := listen(t, func(conn net.Conn) {
		conn.Write([]byte("220 "))
		for {
			n, err := conn.Write(bytes.Repeat([]byte("a"), 64<<10))
			said.Add(int64(n))
			if err != nil {
				return
			}
		}
	})
	err := post(t.Context(), port)
	if err == nil || !strings.Contains(err.Error(), "more than 1024 kB") {
		t.Errorf("sending to a server without an end: %v", err)
	}
	if said := said.Load(); said > 16<<20 { // what the sockets hold comes on top of the limit
		t.Errorf("%d bytes were taken", said)
	}
}

// What a mail server says of a refusal is kept with the message, for as long as that is: it is cut.
func TestALongRefusalIsCut(t *testing.T) {
	port := listen(t, func(conn net.Conn) {
		conn.Write([]byte("554 no: " + strings.Repeat("never ", 50<<10) + "\r\n"))
		conn.Read(make([]byte, 100))
	})
	if err := post(t.Context(), port); err == nil || !strings.Contains(err.Error(), "no: never") ||
		len(err.Error()) > mostSaid+10 {
		t.Errorf("a refusal of 300 kB: %.700v", err)
	}
}

// A mail server that says the password again in its refusal does not get it into what is kept of that.
func TestAPasswordInARefusalIsMasked(t *testing.T) {
	const password = "sand & shingle 42"
	port := listen(t, func(conn net.Conn) {
		lines := bufio.NewScanner(conn)
		conn.Write([]byte("220 here\r\n"))
		for lines.Scan() {
			switch word, rest, _ := strings.Cut(lines.Text(), " "); word {
			case "EHLO":
				conn.Write([]byte("250-here\r\n250 AUTH PLAIN\r\n"))
			case "AUTH":
				_, sent, _ := strings.Cut(rest, " ")
				clear, _ := base64.StdEncoding.DecodeString(sent)
				conn.Write([]byte("535 not " + sent + ", which is " +
					string(bytes.ReplaceAll(clear, []byte{0}, []byte{' '})) + "\r\n"))
			default:
				conn.Write([]byte("221 bye\r\n"))
			}
		}
	})
	sender := Sender{Dial: (&net.Dialer{}).DialContext, Now: time.Now, Name: "seal.tidewrack.example"}
	c := Channel{Kind: Mail, Address: "127.0.0.1", Port: port, Security: Plain, User: "seal",
		From: "seal@tidewrack.example", To: []string{"noc@tidewrack.example"}}
	err := sender.Send(t.Context(), c, password, c.Group(""), notice.Message{ID: "m1", At: time.Now()})
	if err == nil || !strings.Contains(err.Error(), "535") || strings.Contains(err.Error(), password) ||
		strings.Contains(err.Error(), base64.StdEncoding.EncodeToString([]byte("\x00seal\x00"+password))) {
		t.Errorf("the refusal is kept as %v", err)
	}
}

// A mail server that says a byte now and then holds nobody up longer than a message may take.
func TestADrippingAnswerEnds(t *testing.T) {
	port := listen(t, func(conn net.Conn) {
		for {
			if _, err := conn.Write([]byte("2")); err != nil {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- post(ctx, port) }()
	select {
	case err := <-ended:
		if err == nil {
			t.Error("a message was taken by a server that never greeted")
		}
	case <-time.After(10 * time.Second):
		t.Error("a message goes on after its time")
	}
}
