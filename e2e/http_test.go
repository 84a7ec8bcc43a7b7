package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
)

func newRequest(method, url, cookie, origin string) (*http.Request, error) {
	r, err := http.NewRequest(method, url, strings.NewReader(`{}`))
	if err != nil {
		return nil, err
	}
	if cookie != "" {
		r.Header.Set("Cookie", cookie)
	}
	if origin != "" {
		r.Header.Set("Origin", origin)
	}
	return r, nil
}

// routes are all routes of the API's own description, as "METHOD path".
func routes(t *testing.T, s *server, client *http.Client) []string {
	t.Helper()
	answer, err := client.Get(s.url + "/api/v1/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var d struct{ Paths map[string]map[string]any }
	if err := json.NewDecoder(answer.Body).Decode(&d); err != nil {
		t.Fatal(err)
	}
	var out []string
	for path, methods := range d.Paths {
		for method := range methods {
			out = append(out, strings.ToUpper(method)+" "+path)
		}
	}
	if len(out) < 20 {
		t.Fatalf("only %d routes are described", len(out))
	}
	return out
}

// signInCookie signs in as the console does.
func signInCookie(t *testing.T, s *server, client *http.Client) string {
	t.Helper()
	_, password, _ := strings.Cut(read(t, s.dir+"/first-sign-in.txt"), "password: ")
	body, err := json.Marshal(map[string]string{"user": "admin", "password": strings.TrimSpace(password)})
	if err != nil {
		t.Fatal(err)
	}
	answer, err := client.Post(s.url+"/api/v1/session", "application/json", strings.NewReader(string(body)))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	cookie := answer.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "secure", "SameSite=Strict"} {
		if !strings.Contains(cookie, want) {
			t.Errorf("the cookie lacks %s: %s", want, cookie)
		}
	}
	value, _, _ := strings.Cut(cookie, ";")
	return value
}

func read(t testing.TB, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func atoi(t *testing.T, text string) int {
	t.Helper()
	n, err := strconv.Atoi(text)
	if err != nil {
		t.Fatal(err)
	}
	return n
}
