package e2e

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"
	"time"
)

// endless is a body without end; it counts what was taken of it.
type endless struct{ taken int64 }

func (e *endless) Read(p []byte) (int, error) {
	clear(p)
	e.taken += int64(len(p))
	return len(p), nil
}

// Before somebody has signed in, a body takes no memory, however long it is; after
// that every call has its limit, and only those that take piles a large one.
func TestBodiesAreBounded(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	send := func(path, token string, chunked bool, length int64) (status int, taken int64) {
		t.Helper()
		body := &endless{}
		r, err := http.NewRequestWithContext(t.Context(), "POST", s.url+path,
			io.NopCloser(io.LimitReader(body, length)))
		if err != nil {
			t.Fatal(err)
		}
		if r.ContentLength = length; chunked {
			r.ContentLength = -1
		}
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
		defer client.CloseIdleConnections()
		answer, err := client.Do(r)
		if err != nil {
			return 0, body.taken // it was cut off
		}
		answer.Body.Close()
		return answer.StatusCode, body.taken
	}
	token := s.caller(t).token
	before := held(t, s)
	for _, c := range []struct {
		path, token string
		chunked     bool
		length      int64
		status      int
	}{
		{"/api/v1/intakes", "", false, 60 << 20, 401}, {"/api/v1/intakes", "", true, 60 << 20, 401},
		{"/api/v1/devices", "", false, 60 << 20, 401},
		{"/api/v1/session", "", false, 60 << 20, 413}, {"/api/v1/session", "", true, 60 << 20, 413},
		{"/api/v1/devices", token, false, 60 << 20, 413}, {"/api/v1/devices", token, true, 60 << 20, 413},
		{"/api/v1/imports", token, false, 60 << 20, 413},
	} {
		status, taken := send(c.path, c.token, c.chunked, c.length)
		if status != c.status && status != 0 || status == 0 && taken > 20<<20 {
			t.Errorf("%s, chunked %v: %d, want %d; %d bytes were taken", c.path, c.chunked, status, c.status, taken)
		}
	}
	if after := held(t, s); after > before+48 {
		t.Errorf("the service takes %d MB, %d before", after, before)
	}
	if status := s.run("", "device", "list"); status.code != 0 {
		t.Errorf("afterwards: %+v", status)
	}
}

// held is what memory the service holds, in MB.
func held(t *testing.T, s *server) int {
	t.Helper()
	for line := range strings.Lines(read(t, fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))) {
		if size, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			return number(t, strings.TrimSuffix(strings.TrimSpace(size), " kB")) / 1024
		}
	}
	t.Fatal("no memory is told")
	return 0
}

// A pile comes in as a stream of parts; one that is larger than is taken, or has no end
// of parts, is refused.
func TestAnUploadIsBounded(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	c := s.caller(t)
	upload := func(files int, size int) (int, string) {
		t.Helper()
		read, write := io.Pipe()
		form := multipart.NewWriter(write)
		go func() {
			content := bytes.Repeat([]byte("x"), size)
			for i := range files {
				part, err := form.CreateFormFile("file", fmt.Sprint(i))
				if err == nil {
					_, err = part.Write(content)
				}
				if err != nil {
					break // the service has had enough
				}
			}
			form.Close()
			write.Close()
		}()
		r, err := http.NewRequestWithContext(t.Context(), "POST", c.url+"/intakes", read)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+c.token)
		r.Header.Set("Content-Type", form.FormDataContentType())
		answer, err := c.http.Do(r)
		read.Close()
		if err != nil {
			return 0, err.Error()
		}
		defer answer.Body.Close()
		text, _ := io.ReadAll(answer.Body)
		return answer.StatusCode, string(text)
	}
	if status, text := upload(3, 100); status != 200 || !strings.Contains(text, "junk") {
		t.Errorf("three files of junk: %d %.200s", status, text)
	}
	if status, text := upload(3, 40<<20); status != 0 && status != 413 && status != 422 {
		t.Errorf("120 MB: %d %.200s", status, text)
	}
	if status, text := upload(30_000, 1); status != 0 && status != 422 {
		t.Errorf("30,000 files: %d %.200s", status, text)
	}
	if status, text := upload(1, 10); status != 200 {
		t.Errorf("afterwards: %d %.200s", status, text)
	}
}

// Connections are bounded for each address, and one that never reads ends.
func TestOneAddressCannotHaveAllConnections(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	at := strings.TrimPrefix(s.url, "https://")
	var held []*tls.Conn
	defer func() {
		for _, conn := range held {
			conn.Close()
		}
	}()
	for range 300 {
		conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true})
		if err != nil {
			break
		}
		conn.SetDeadline(time.Now().Add(30 * time.Second))
		held = append(held, conn)
	}
	refused := 0
	for _, conn := range held {
		if _, err := fmt.Fprint(conn, "GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n"); err != nil {
			refused++
			continue
		}
		if _, status, _ := strings.Cut(firstLine(conn), " "); !strings.HasPrefix(status, "200") {
			refused++
		}
	}
	if len(held)-refused > 256 || len(held)-refused < 200 {
		t.Errorf("%d of %d connections of one address are served", len(held)-refused, len(held))
	}
	for _, conn := range held {
		conn.Close()
	}
	held = nil
	s.login() // there is room again
}

func firstLine(r io.Reader) string {
	line := make([]byte, 0, 64)
	one := make([]byte, 1)
	for len(line) < 64 {
		if _, err := r.Read(one); err != nil || one[0] == '\n' {
			break
		}
		line = append(line, one[0])
	}
	return string(line)
}

// What carries secrets or the database is not kept by browsers, paths are compared in
// one case, and only suites with forward secrecy and authenticated encryption are spoken.
func TestTheServiceIsStrictOnTheWire(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	c := s.caller(t)
	for path, want := range map[string]string{"/devices": "no-cache, private", "/export": "no-store",
		"/backup": "no-store", "/session": "no-store", "/tokens": "no-store"} {
		if answer, _ := c.does("GET", path, "", ""); answer.StatusCode != 200 ||
			answer.Header.Get("Cache-Control") != want {
			t.Errorf("%s: %d, Cache-Control %q", path, answer.StatusCode, answer.Header.Get("Cache-Control"))
		}
	}
	c.url = s.url
	for _, path := range []string{"/API/v1/session", "/api/V1/session", "/api/v1/Session", "/api/v1/backuP"} {
		if answer, _ := c.does("GET", path, "", ""); answer.StatusCode == 200 &&
			answer.Header.Get("Content-Type") != "text/html; charset=utf-8" {
			t.Errorf("%s is answered as %s", path, answer.Header.Get("Content-Type"))
		}
	}
	at := strings.TrimPrefix(s.url, "https://")
	for suite, taken := range map[uint16]bool{
		tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256: true, tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256: true,
		tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA: false, tls.TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA: false,
		tls.TLS_RSA_WITH_AES_128_GCM_SHA256: false,
	} {
		conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{suite}})
		if (err == nil) != taken {
			t.Errorf("%s: %v", tls.CipherSuiteName(suite), err)
		}
		if err == nil {
			conn.Close()
		}
	}
	if conn, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS10,
		MaxVersion: tls.VersionTLS11}); err == nil {
		conn.Close()
		t.Error("TLS 1.1 is spoken")
	}
}
