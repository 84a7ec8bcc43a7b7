package e2e

import (
	"crypto/tls"
	"encoding/csv"
	"encoding/pem"
	"html"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

const panel = "panel.northholm.tidewrack.example"

// pages is the browser of a user who stands before a box with web pages.
type pages struct {
	t   *testing.T
	url string
}

// pagesOf finds the pages of a device of the demo.
func pagesOf(t *testing.T, dir, device string) pages {
	t.Helper()
	rows, err := csv.NewReader(strings.NewReader(read(t, filepath.Join(dir, "boxes", "where.csv")))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range rows {
		if row[0] == device && strings.HasSuffix(row[1], ":443") {
			return pages{t, "https://" + row[2]}
		}
	}
	t.Fatalf("%s is nowhere", device)
	return pages{}
}

// press fills a form, presses its button and gives the page that comes.
func (p pages) press(button string, fields url.Values) string {
	p.t.Helper()
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	answer, err := client.PostForm(p.url+"/"+button, fields)
	if err != nil {
		p.t.Fatal(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err != nil || !strings.Contains(string(body), "Done.") {
		p.t.Fatalf("%s: %v\n%s", button, err, body)
	}
	return html.UnescapeString(string(body))
}

var shownRequest = regexp.MustCompile(`(?s)-----BEGIN CERTIFICATE REQUEST-----.*?-----END CERTIFICATE REQUEST-----`)

// task waits for the next task of the fleet and gives its id and what it says.
func (s *server) task(name string) (id string, values map[string]string) {
	s.t.Helper()
	var tasks []struct {
		ID, Name string
		Copy     []struct{ Label, Text string }
	}
	for range 200 {
		s.json(&tasks, "task", "list")
		for _, each := range tasks {
			if each.Name == name {
				values = map[string]string{}
				for _, v := range each.Copy {
					values[v.Label] = v.Text
				}
				return each.ID, values
			}
		}
		time.Sleep(50 * time.Millisecond)
	}
	s.t.Fatalf("no task %q comes: %v", name, tasks)
	return "", nil
}

// A box that can only be worked on by hand: the program says what to type and
// what to carry, sees what is wrong while the person still stands before the
// box, and lets the wire decide. It may be killed meanwhile.
func TestAPersonReplacesByHand(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	old := s.show(panel + "/web").Certificate.SHA256
	if out := s.ok("replace", panel+"/web", "--signer", "bench"); !strings.Contains(out, "waiting for manual step") {
		t.Fatal(out)
	}
	id, values := s.task("have the device make a key and a request")
	text := s.ok("task", "show", id)
	for _, want := range []string{"Common name: " + panel, "task answer " + id} {
		if !strings.Contains(text, want) {
			t.Errorf("the task does not say %q:\n%s", want, text)
		}
	}

	// A request with a wrong name is seen through at once, and nothing is lost.
	box := pagesOf(t, dir, panel)
	wrong := shownRequest.FindString(box.press("request",
		url.Values{"common_name": {"panel"}, "names": {"panel.tidewrack.example"}}))
	file := func(content string) string { return write(t, filepath.Join(t.TempDir(), "answer"), content) }
	s.fails(1, "the request differs from the plan", "task", "answer", id, "--file", file(wrong))
	s.fails(1, "is not a request", "task", "answer", id, "--file", file("it would not work"))

	// Another person takes it over; the first can no longer answer.
	s.ok("task", "note", id, "the", "menu", "is", "called", "Security", "here")
	tern := s.as("operator")
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "operator", "--password-file", "-")
	tern.config = filepath.Join(t.TempDir(), "tern.yaml")
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	if out := tern.ok("task", "take", id); !strings.Contains(out, "taken by tern") ||
		!strings.Contains(out, "note by admin") {
		t.Error(out)
	}
	right := shownRequest.FindString(box.press("request", url.Values{"common_name": {values["Common name"]},
		"names": {values["Further names"]}, "organization": {values["Organization"]}}))
	s.fails(1, "tern has taken it", "task", "answer", id, "--file", file(right))
	block, _ := pem.Decode([]byte(right))
	tern.ok("task", "answer", id, "--file", file(string(block.Bytes))) // some boxes give DER alone

	id, values = s.task("confirm that a rollback exists")
	if values["SHA-256 of the present certificate"] != old {
		t.Errorf("it says %v", values)
	}
	s.kill()
	s = again(t, s, dir)
	s.ok("task", "answer", id)

	id, _ = s.task("give the device its new certificate")
	chain := s.ok("task", "file", id, "chain.pem")
	if strings.Count(chain, "BEGIN CERTIFICATE") != 3 {
		t.Errorf("the file holds %s", chain)
	}
	box = pagesOf(t, dir, panel)
	box.press("upload", url.Values{"chain": {strings.ReplaceAll(chain, "\n", "\r\n")}}) // as browsers send it
	s.ok("task", "answer", id)

	id, _ = s.task("have the device use it")
	s.fails(1, "the slot is read to see", "task", "answer", id)
	box.press("use", nil)
	s.await("r2", "sealed")
	now := s.show(panel + "/web")
	if now.Condition != "fresh" || now.Certificate.SHA256 == old {
		t.Errorf("after it: %+v", now)
	}

	// And back again, by hand too.
	s.ok("replacement", "revert", "r2", "--as", "json", "--yes")
	s.task("have the device use the old certificate again")
	box.press("back", nil)
	s.await("r2", "reverted")
	if back := s.show(panel + "/web").Certificate.SHA256; back != old {
		t.Errorf("it serves %s, want %s", back, old)
	}
}

// again starts a demo again that was killed, with the client's file that it writes.
func again(t *testing.T, s *server, dir string) *server {
	t.Helper()
	<-s.gone
	return start(t, "demo", dir)
}
