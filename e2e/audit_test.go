package e2e

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/notify"
	"freshseal/standin/demo"
)

// The audit log comes whole to a syslog server, whatever happens to the service meanwhile: it is killed again and again
// while people act, and the server is away for a while.
func TestTheAuditLogIsSentOnThroughKills(t *testing.T) {
	t.Parallel()
	sinks, err := demo.StartSinks("127.0.0.1", "", notify.Signature)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { sinks.Close() })
	away := make(chan bool, 1)
	away <- false
	sinks.Refuse = func(string) bool { is := <-away; away <- is; return is }
	s := start(t, "serve", t.TempDir())
	s.login()
	s.ok("channel", "set", "log", "--syslog", sinks.Syslog, "--pin", sinks.Certificate)
	s.fails(1, "no channel is called paper", "audit", "stream", "--to", "paper")
	s.ok("audit", "stream", "--to", "log")
	s.fails(1, "the audit log is sent to it", "channel", "remove", "log")
	for round := range 5 {
		<-away
		away <- round == 2
		for i := range 4 {
			s.ok("token", "add", fmt.Sprintf("round %d, %d", round, i), "--role", "monitor")
		}
		listen := strings.TrimPrefix(s.url, "https://")
		s.kill()
		again := startAt(t, "serve", s.dir, listen)
		again.config = s.config
		s = again
	}
	number := regexp.MustCompile(`audit@32473 number="(\d+)" who="(\w+)"`)
	came := func() (numbers []int) {
		for _, got := range sinks.Got("syslog") {
			if m := number.FindStringSubmatch(got.Text); m != nil {
				n, _ := strconv.Atoi(m[1])
				numbers = append(numbers, n)
			}
		}
		return numbers
	}
	var is contract.AuditStream
	for begun := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		s.json(&is, "audit", "stream")
		if is.Newest > 40 && is.Sent == is.Newest {
			break
		}
		if time.Since(begun) > time.Minute {
			t.Fatalf("%+v, %v", is, came())
		}
	}
	numbers := came()
	last := 0
	for _, n := range numbers { // again is allowed, a gap is not
		if n > last+1 {
			t.Errorf("entry %d came behind %d", n, last)
		}
		last = max(last, n)
	}
	if int64(last) != is.Newest || !slices.Contains(numbers, 1) {
		t.Errorf("the last of %v is not %d", numbers, is.Newest)
	}
}
