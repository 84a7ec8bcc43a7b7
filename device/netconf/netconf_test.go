package netconf_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"freshseal/device/links"
	"freshseal/device/netconf"
)

const (
	old = "<hello><capabilities>" +
		"<capability>urn:ietf:params:netconf:base:1.0</capability></capabilities></hello>]]>]]>"
	modern = "<hello><capabilities>" +
		"<capability>urn:ietf:params:netconf:base:1.1</capability></capabilities></hello>]]>]]>"
)

// device answers a hello, then whatever is written behind it once it was asked.
func device(t *testing.T, hello, reply string) (*netconf.Session, error) {
	t.Helper()
	here, there := net.Pipe()
	t.Cleanup(func() { here.Close(); there.Close() })
	go func() {
		go io.Copy(io.Discard, there)
		if _, err := io.WriteString(there, hello); err == nil && reply != "" {
			io.WriteString(there, reply)
		}
	}()
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	return netconf.Open(ctx, here)
}

func chunk(text string) string { return fmt.Sprintf("\n#%d\n%s", len(text), text) }

// Both framings are read, in pieces of any size, and a device that lies about them, never ends or
// answers another call is not waited for, nor believed.
func TestRepliesAndTheirFraming(t *testing.T) {
	const ok = `<rpc-reply message-id="1"><ok/></rpc-reply>`
	pieces := ""
	for _, c := range ok {
		pieces += chunk(string(c))
	}
	for about, c := range map[string]struct {
		hello, reply, want string
		fails              error
		says               string
	}{
		"old framing":        {hello: old, reply: ok + "]]>]]>", want: ok},
		"chunks":             {hello: modern, reply: chunk(ok) + "\n##\n", want: ok},
		"chunks of one byte": {hello: modern, reply: pieces + "\n##\n", want: ok},
		"a notification before it": {hello: modern, reply: chunk("<notification/>") + "\n##\n" + chunk(ok) + "\n##\n",
			want: ok},
		"a warning": {hello: old,
			reply: `<rpc-reply message-id="1"><rpc-error><error-severity>warning</error-severity></rpc-error><ok/></rpc-reply>]]>]]>`, want: "warning"},
		"an error": {hello: old,
			reply: `<rpc-reply message-id="1"><rpc-error><error-tag>in-use</error-tag><error-severity>error</error-severity><error-message>it is  locked</error-message></rpc-error></rpc-reply>]]>]]>`, fails: netconf.Error{}, says: "in-use: it is locked"},
		"a reply to another call": {hello: old, reply: `<rpc-reply message-id="7"/>]]>]]>`, fails: links.ErrLost},
		"no XML":                  {hello: old, reply: "ok]]>]]>", says: "not XML"},
		"a chunk without size":    {hello: modern, reply: "\n#x\n" + ok, fails: links.ErrLost, says: "framing"},
		"a chunk of nothing":      {hello: modern, reply: "\n#0\n\n##\n", fails: links.ErrLost, says: "framing"},
		"a huge chunk":            {hello: modern, reply: "\n#2000000000\n", fails: links.ErrFlood},
		"a long line of framing": {hello: modern, reply: "\n#" + strings.Repeat("1", 100), fails: links.ErrLost,
			says: "framing"},
		"an endless message": {hello: old, reply: strings.Repeat("<a>", 1<<20), fails: links.ErrFlood},
		"nothing but notifications": {hello: modern, reply: strings.Repeat(chunk("<notification/>")+"\n##\n", 6000),
			fails: links.ErrFlood},
		"silence": {hello: modern, fails: links.ErrLost, says: "in time"},
	} {
		s, err := device(t, c.hello, c.reply)
		if err != nil {
			t.Errorf("%s: %v", about, err)
			continue
		}
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		text, err := s.Call(ctx, "<get/>")
		cancel()
		var refused netconf.Error
		switch {
		case c.want != "" && (err != nil || !strings.Contains(string(text), c.want)):
			t.Errorf("%s: %s %v", about, text, err)
		case c.want == "" && (err == nil || !strings.Contains(err.Error(), c.says)), c.fails == links.ErrLost &&
			!errors.Is(err, links.ErrLost), c.fails == links.ErrFlood && !errors.Is(err, links.ErrFlood):
			t.Errorf("%s: %v", about, err)
		case c.fails == netconf.Error{} && !errors.As(err, &refused):
			t.Errorf("%s: %v", about, err)
		}
	}
	for about, hello := range map[string]string{"no XML": "hi]]>]]>", "endless": strings.Repeat("x", 2<<20),
		"silence": ""} {
		if _, err := device(t, hello, ""); err == nil {
			t.Errorf("a hello that is %s is taken", about)
		}
	}
}
