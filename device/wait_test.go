package device_test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/standin"
	_ "freshseal/standin/kinds"
)

// What is waited for is asked again and again; what never comes about ends at the
// step's limit and says what was seen last.
func TestAWaitUntilSomethingIsSo(t *testing.T) {
	var asked atomic.Int32
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch n := asked.Add(1); {
		case r.URL.Path == "/endless":
			for {
				if _, err := fmt.Fprint(w, strings.Repeat("tide ", 1000)); err != nil {
					return
				}
			}
		case n < 3:
			w.WriteHeader(503)
		case r.URL.Path == "/moved":
			http.Redirect(w, r, "https://elsewhere.example/", http.StatusMovedPermanently)
		default:
			fmt.Fprint(w, "all is well")
		}
	}))
	defer web.Close()
	late := make(chan net.Listener, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().String()
	l.Close()
	time.AfterFunc(600*time.Millisecond, func() {
		again, err := net.Listen("tcp", port)
		if err != nil {
			t.Error(err)
		}
		late <- again
	})
	defer func() { (<-late).Close() }()
	for _, c := range []struct{ name, wait, want string }{
		{"a page that is away at first", fmt.Sprintf(`{page: "%s/", status: 200, match: well, every: 100ms}`,
			web.URL), ""},
		{"a page that leads on, and is not followed",
			fmt.Sprintf(`{page: "%s/moved", leads_to: "^https://", every: 100ms}`, web.URL), ""},
		{"a page with another text", fmt.Sprintf(`{page: "%s/", match: storm, every: 100ms}`, web.URL),
			"the condition was not met within 2s; last answer: status 200, without storm"},
		{"a page without end", fmt.Sprintf(`{page: "%s/endless", match: storm, every: 100ms}`, web.URL),
			"the condition was not met"},
		{"a port that opens late", fmt.Sprintf(`{port: "%s", every: 100ms}`, port), ""},
		{"a command's answer", `{command: dockctl state, match: "^running"}`, ""},
		{"a state that never comes", `{command: dockctl state, match: "^adrift", every: 100ms}`,
			"last answer: running"},
		{"stopped, and harder when that takes too long",
			`{first: dockctl stop, command: dockctl state, match: "^stopped", every: 100ms, after: 300ms, then: dockctl stop now}`, ""},
		{"a command that fails at once", `{first: dockctl sail, command: dockctl state, match: "^stopped"}`,
			"usage: dockctl"},
	} {
		t.Run(c.name, func(t *testing.T) {
			asked.Store(0)
			box := startBoxLike(t, standin.Box{Kind: standin.StopServer, Faults: standin.Faults{StuckStop: true}})
			undo := ""
			if strings.Contains(c.wait, "first") {
				undo = ", undo: nothing"
			}
			r, scope, _ := runner(t, box, "  activate:\n    - {step: it, wait: "+c.wait+", limit: 2s"+undo+"}\n")
			_, err := r.Run(t.Context(), "activate", scope)
			if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
				t.Errorf("%v instead of %q", err, c.want)
			}
		})
	}
}
