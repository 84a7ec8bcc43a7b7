package e2e

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// caller speaks to the API as a program does.
type caller struct {
	t          *testing.T
	url, token string
	http       *http.Client
}

func (s *server) caller(t *testing.T) caller {
	_, token, _ := strings.Cut(read(t, s.config), "token: ")
	return caller{t, s.url + "/api/v1", strings.TrimSpace(token),
		&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
}

// call sends a request; header is "Name: value" or nothing.
func (c caller) call(ctx context.Context, method, path, header, body string) (*http.Response, error) {
	c.t.Helper()
	r, err := http.NewRequestWithContext(ctx, method, c.url+path, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer "+c.token)
	if name, value, ok := strings.Cut(header, ": "); ok {
		r.Header.Set(name, value)
	}
	return c.http.Do(r)
}

// does is call for answers that are read whole.
func (c caller) does(method, path, header, body string) (*http.Response, string) {
	c.t.Helper()
	answer, err := c.call(c.t.Context(), method, path, header, body)
	if err != nil {
		c.t.Fatal(err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	return answer, string(text)
}

// What several people may change is changed only by who says which revision was
// looked at: without that it is refused, and the second of two is told.
func TestAChangeThatWasOvertakenIsRefused(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	c := s.caller(t)
	s.okWith("correct horse", "credential", "add", "keepers", "--user", "keeper", "--password-file", "-")
	root := strings.ReplaceAll(rootOf(t, s), "\n", "\\n")
	for what, change := range map[string]struct{ method, path, at, first, second string }{
		"a device": {"PATCH", "/devices/" + gate, "/devices/" + gate, `{"owner":"harbour office"}`,
			`{"owner":"ticket office"}`},
		// only devices name it
		"a place": {"PATCH", "/sites/Saltmere", "/sites/Saltmere", `{"paused":true}`, `{"paused":false}`},
		"a site":  {"PATCH", "/sites/Turnstone", "/sites/Turnstone", `{"most_links":3}`, `{"most_links":4}`},
		"a credential": {"PUT", "/credentials/keepers", "/credentials/keepers", `{"user":"mate","password":"x"}`,
			`{"user":"stoker","password":"x"}`},
		"a signer": {"PUT", "/signers/harbour", "", `{"about":"a","terms":{},"proof":{}}`,
			`{"about":"b","terms":{},"proof":{}}`},
		"a policy": {"PUT", "/policies", "", `{"scope":"site/Mainquay","rules":{"margin_days":3}}`,
			`{"scope":"site/Mainquay","rules":{"margin_days":4}}`},
		"a trust group": {"POST", "/trust-groups/phones/anchors", "", `{"pem":"` + root + `"}`, `{"pem":"` + root +
			`"}`},
	} {
		tag := `"0"` // of what is not there yet
		if change.at != "" {
			answer, _ := c.does("GET", change.at, "", "")
			tag = answer.Header.Get("ETag")
		}
		if answer, text := c.does(change.method, change.path, "", change.first); answer.StatusCode != 428 ||
			!strings.Contains(text, "the revision to change is not given") {
			t.Errorf("%s without a revision: %d %s", what, answer.StatusCode, text)
		}
		if answer, text := c.does(change.method, change.path, "If-Match: "+tag,
			change.first); answer.StatusCode/100 != 2 {
			t.Errorf("%s, the first change: %d %s", what, answer.StatusCode, text)
		}
		if answer, text := c.does(change.method, change.path, "If-Match: "+tag,
			change.second); answer.StatusCode != 412 || !strings.Contains(text, "somebody else") {
			t.Errorf("%s, the second change: %d %s", what, answer.StatusCode, text)
		}
		if answer, text := c.does(change.method, change.path, "If-Match: *",
			change.second); answer.StatusCode/100 != 2 {
			t.Errorf("%s, whatever it is: %d %s", what, answer.StatusCode, text)
		}
	}
	if answer, _ := c.does("DELETE", "/trust-groups/phones/anchors/"+strings.Repeat("ab", 32), "If-Match: \"1\"",
		""); answer.StatusCode != 412 {
		t.Errorf("a root of another revision: %d", answer.StatusCode)
	}
	// A reading changes what is shown and makes nobody's change stale.
	answer, _ := c.does("GET", "/devices/"+gate, "", "")
	seen := answer.Header.Get("ETag")
	if again, _ := c.does("GET", "/devices/"+gate, "If-None-Match: "+seen, ""); again.StatusCode != 304 {
		t.Errorf("the same state is sent again: %d", again.StatusCode)
	}
	s.ok("replace", gate+"/web", "--signer", "bench")
	if now, _ := c.does("GET", "/devices/"+gate, "If-None-Match: "+seen, ""); now.StatusCode != 200 {
		t.Errorf("another condition is not news: %d", now.StatusCode)
	}
	if answer, text := c.does("PATCH", "/devices/"+gate, "If-Match: "+seen,
		`{"notes":"by the crane"}`); answer.StatusCode != 200 {
		t.Errorf("after a reading: %d %s", answer.StatusCode, text)
	}
	// Removed and added again, it is of another revision than before.
	s.ok("device", "remove", gate, "--yes")
	s.ok("device", "add", gate, "--address", "192.0.2.11")
	if answer, _ := c.does("PATCH", "/devices/"+gate, "If-Match: "+seen, `{"owner":"x"}`); answer.StatusCode != 412 {
		t.Errorf("another device of the name: %d", answer.StatusCode)
	}
}

// A sweep is begun and watched; a second one is the same as long as it is under way.
func TestASweepIsWatched(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	c := s.caller(t)
	var first, now struct {
		ID      string
		Slots   int
		Read    int
		EndedAt *time.Time `json:"ended_at"`
	}
	begun, text := c.does("POST", "/sweeps", "", "")
	if err := json.Unmarshal([]byte(text), &first); err != nil || begun.StatusCode != 202 || first.EndedAt != nil {
		t.Fatalf("%d %s %v", begun.StatusCode, text, err)
	}
	for now.EndedAt == nil {
		_, text := c.does("GET", "/sweeps/"+first.ID, "", "")
		if err := json.Unmarshal([]byte(text), &now); err != nil {
			t.Fatal(err, text)
		}
		time.Sleep(20 * time.Millisecond)
	}
	if now.Read != now.Slots || now.Slots < 16 {
		t.Errorf("at the end: %+v", now)
	}
	if answer, _ := c.does("GET", "/sweeps/s1", "", ""); answer.StatusCode != 404 {
		t.Errorf("an unknown sweep: %d", answer.StatusCode)
	}
}

// Who follows what happens hears of acts, of conditions and of a replacement's stages,
// and goes on after a break where it was.
func TestWhatHappensIsTold(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	c := s.caller(t)
	follow := func(header, path string) (*bufio.Scanner, func()) {
		answer, err := c.call(t.Context(), "GET", path, header, "")
		if err != nil {
			t.Fatal(err)
		}
		if answer.StatusCode != 200 {
			t.Fatalf("%s answers %d", path, answer.StatusCode)
		}
		lines := bufio.NewScanner(answer.Body)
		lines.Scan()
		return lines, func() { answer.Body.Close() }
	}
	news, leave := follow("", "/events")
	defer leave()
	slot, leaveSlot := follow("", "/events?about=slot/"+gate+"/web")
	defer leaveSlot()
	s.ok("replace", gate+"/web", "--signer", "bench")
	var last string
	seen := map[string]bool{}
	for news.Scan() && !seen["condition "+"slot/"+gate+"/web"] {
		if id, ok := strings.CutPrefix(news.Text(), "id: "); ok && !seen["act"] {
			last = id
		}
		data, ok := strings.CutPrefix(news.Text(), "data: ")
		if !ok {
			continue
		}
		var e struct{ Kind, About, Who, State string }
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			t.Fatal(err, data)
		}
		seen[e.Kind], seen[e.Kind+" "+e.About] = true, true
		if e.Kind == "act" && e.Who == "" {
			t.Errorf("an act of nobody: %s", data)
		}
	}
	for _, kind := range []string{"act", "stage", "step", "condition"} {
		if !seen[kind] {
			t.Errorf("nothing of the kind %s was told", kind)
		}
	}
	for slot.Scan() {
		if data, ok := strings.CutPrefix(slot.Text(), "data: "); ok {
			if !strings.Contains(data, `"state":"fresh"`) || !strings.Contains(data, "was factory") {
				t.Errorf("the slot's news: %s", data)
			}
			break
		}
	}
	again, leaveAgain := follow("Last-Event-ID: "+last, "/events")
	defer leaveAgain()
	for again.Scan() {
		if id, ok := strings.CutPrefix(again.Text(), "id: "); ok {
			if want := fmt.Sprint(number(t, last) + 1); id != want {
				t.Errorf("after %s comes %s", last, id)
			}
			break
		}
	}
}

func number(t *testing.T, text string) (n int) {
	t.Helper()
	if _, err := fmt.Sscan(text, &n); err != nil {
		t.Fatal(err)
	}
	return n
}

// A call ends with the client that asked for it: of two readings of silent addresses,
// that of a client that has left ends before that of one who waits.
func TestACallEndsWithItsClient(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	c := s.caller(t)
	ended := make(chan string, 2)
	silent := func(who string, asked func()) (port string) {
		l, err := net.Listen("tcp", "127.20.78.1:0") // accepts, and never says anything
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		go func() {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			defer conn.Close()
			asked()
			io.Copy(io.Discard, conn)
			ended <- who
		}()
		_, port, _ = net.SplitHostPort(l.Addr().String())
		return port
	}
	waits := make(chan struct{})
	stays := silent("who waits", func() { close(waits) })
	go c.call(t.Context(), "POST", "/readings", "", `{"address":"127.20.78.1","port":`+stays+`}`)
	<-waits
	ctx, leave := context.WithCancel(t.Context())
	leaves := silent("who left", leave)
	if _, err := c.call(ctx, "POST", "/readings", "", `{"address":"127.20.78.1","port":`+leaves+`}`); err == nil {
		t.Fatal("a silent address answers")
	}
	if first := <-ended; first != "who left" {
		t.Errorf("the reading of %s ended first", first)
	}
}
