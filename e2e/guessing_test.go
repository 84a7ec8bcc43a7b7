package e2e

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
)

// A hundred guesses at once count as a hundred, do not keep anybody else out, and
// stand in the audit log; the right password signs in from elsewhere all the while.
func TestGuessesAtOnceAreCountedBeforeTheyAreTried(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	c := s.caller(t)
	guess := func(name, password, origin string) int {
		r, err := http.NewRequestWithContext(t.Context(), "POST", c.url+"/session",
			strings.NewReader(`{"user":"`+name+`","password":"`+password+`"}`))
		if err != nil {
			t.Error(err)
			return 0
		}
		if origin != "" {
			r.Header.Set("Origin", origin)
		}
		answer, err := c.http.Do(r)
		if err != nil {
			t.Error(err)
			return 0
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	if status := guess("admin", "wrong", "https://elsewhere.example"); status != 401 {
		t.Errorf("a sign-in from another page answers %d", status)
	}
	s.ok("audit", "verify")
	var lock sync.Mutex
	answers := map[int]int{}
	var all sync.WaitGroup
	for range 100 {
		all.Go(func() {
			status := guess("admin", "not the password", "")
			lock.Lock()
			defer lock.Unlock()
			answers[status]++
		})
	}
	all.Wait()
	if answers[401] > 5 || answers[401]+answers[429] != 100 {
		t.Errorf("the answers to a hundred guesses: %v", answers)
	}
	if out := s.ok("audit", "list", "--as", "csv"); strings.Count(out, "wrong password") != answers[401] ||
		strings.Contains(out, "not the password") {
		t.Errorf("the audit log after %d wrong ones:\n%s", answers[401], out)
	}
	// The same limit holds for guessing the password of somebody whose session is open.
	for range 3 {
		answer, _ := c.does("POST", "/password", "", `{"old":"not it","new":"salt and tar and rope"}`)
		if answer.StatusCode != 429 {
			t.Errorf("a guess at the old password answers %d", answer.StatusCode)
		}
	}
}

// What somebody may do follows the user table at once: sessions, tokens and streams of
// a user who may less, or is gone, may less or are gone.
func TestARoleIsWhatTheTableSaysNow(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "admin", "--password-file", "-")
	tern := *s
	tern.config = t.TempDir() + "/tern.yaml"
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	token := strings.TrimSpace(lastLine(tern.ok("token", "add", "nightly", "--role", "admin", "--days", "3",
		"--final")))
	c := s.caller(t)
	c.token = token
	if answer, text := c.does("POST", "/users", "",
		`{"name":"gull","role":"viewer","password":"salt and tar and rope"}`); answer.StatusCode != 201 {
		t.Fatalf("an admin's token: %d %s", answer.StatusCode, text)
	}
	ctx, leave := context.WithCancel(t.Context())
	defer leave()
	stream, err := c.call(ctx, "GET", "/events", "", "")
	if err != nil || stream.StatusCode != 200 {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	s.ok("user", "edit", "tern", "--role", "viewer")
	answer, _ := c.does("GET", "/session", "", "")
	if answer.StatusCode == 200 { // a token outlives a change of role, with the lesser of the two
		if answer, _ := c.does("POST", "/users", "",
			`{"name":"skua","role":"viewer","password":"salt and tar and rope"}`); answer.StatusCode != 403 {
			t.Errorf("the token of somebody who is a viewer now: %d", answer.StatusCode)
		}
	}
	s.ok("user", "remove", "tern")
	if answer, _ := c.does("GET", "/devices", "", ""); answer.StatusCode != 401 {
		t.Errorf("the token of somebody who is gone: %d", answer.StatusCode)
	}
	s.ok("replace", gate+"/web", "--signer", "bench") // things happen, and the stream ends instead of telling
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buffer := make([]byte, 1<<16)
		for {
			if _, err := stream.Body.Read(buffer); err != nil {
				return
			}
		}
	}()
	<-ended
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// The first password's file goes with the first password.
func TestTheFirstPasswordIsForgotten(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	_, first, _ := strings.Cut(read(t, s.dir+"/first-sign-in.txt"), "password: ")
	body, _ := json.Marshal(map[string]string{"old": strings.TrimSpace(first), "new": "salt and tar and rope"})
	if answer, text := s.caller(t).does("POST", "/password", "", string(body)); answer.StatusCode != 204 {
		t.Fatalf("%d %s", answer.StatusCode, text)
	}
	if _, err := os.Stat(s.dir + "/first-sign-in.txt"); !os.IsNotExist(err) {
		t.Errorf("the file with the first password: %v", err)
	}
}
