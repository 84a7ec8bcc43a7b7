package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// A calendar program reads what must be done at an address that is its only secret. The secret opens
// nothing else, is in no log, and ends with whoever made it.
func TestACalendarIsReadByWhoKnowsItsAddress(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	address := strings.TrimSpace(s.ok("calendar", "add", "--site", "Northholm"))
	path := strings.TrimPrefix(address, s.url)
	secret := strings.TrimSuffix(strings.TrimPrefix(path, "/calendar/"), ".ics")
	if len(secret) < 20 || path == address {
		t.Fatalf("the address is %s", address)
	}
	answer, text := s.bearing(t, "", "").does("GET", path, "", "")
	if answer.StatusCode != 200 || !strings.HasPrefix(answer.Header.Get("Content-Type"), "text/calendar") ||
		!strings.HasPrefix(text, "BEGIN:VCALENDAR\r\n") {
		t.Fatalf("%d %s\n%s", answer.StatusCode, answer.Header.Get("Content-Type"), text)
	}
	whole := strings.ReplaceAll(text, "\r\n ", "")
	for _, want := range []string{"SUMMARY:Replace certificate: lines.northholm.tidewrack.example/web",
		"SUMMARY:Certificate expires: " + tickets + "/web", "nobody can sign in to the device"} {
		if !strings.Contains(whole, want) {
			t.Errorf("it does not say %q:\n%s", want, whole)
		}
	}
	if strings.Contains(whole, "crane.saltmere") {
		t.Error("the calendar of Northholm has a slot at Saltmere")
	}
	// It opens nothing else, and nothing else opens it.
	if answer, text := s.bearing(t, secret, "/api/v1").does("GET", "/status", "", ""); answer.StatusCode != 403 {
		t.Errorf("as a token it opens the status: %d %s", answer.StatusCode, text)
	}
	_, token, _ := strings.Cut(read(t, s.config), "token: ")
	for _, other := range []string{"/calendar/nobody.ics", "/calendar/" + strings.TrimSpace(token), "/calendar/",
		"/calendar/" + secret[:len(secret)-1]} {
		if answer, text := s.bearing(t, "", "").does("GET", other, "", ""); answer.StatusCode != 404 &&
			strings.Contains(text, "VCALENDAR") {
			t.Errorf("%s: %d", other, answer.StatusCode)
		}
	}
	if list := s.ok("calendar", "list"); strings.Contains(list, secret) || !strings.Contains(list, "Northholm") {
		t.Error(list)
	}
	s.fails(1, "no slot is at", "calendar", "add", "--site", "Atlantis")
	// Somebody else cannot end it; who made it can.
	var feeds []struct{ ID string }
	s.json(&feeds, "calendar", "list")
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "viewer", "--password-file", "-")
	tern := *s
	tern.config = filepath.Join(t.TempDir(), "tern.yaml")
	tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-", "--certificate",
		s.pin())
	tern.fails(1, "no calendar", "calendar", "remove", feeds[0].ID)
	terns := strings.TrimPrefix(strings.TrimSpace(tern.ok("calendar", "add")), s.url)
	if answer, text := s.bearing(t, "", "").does("GET", terns, "", ""); answer.StatusCode != 200 ||
		!strings.Contains(text, "crane.saltmere") {
		t.Errorf("the calendar of the fleet: %d", answer.StatusCode)
	}
	s.ok("user", "remove", "tern")
	if answer, _ := s.bearing(t, "", "").does("GET", terns, "", ""); answer.StatusCode != 404 {
		t.Errorf("the calendar of somebody who is gone: %d", answer.StatusCode)
	}
	s.ok("calendar", "remove", feeds[0].ID)
	if answer, _ := s.bearing(t, "", "").does("GET", path, "", ""); answer.StatusCode != 404 {
		t.Errorf("after it was removed: %d", answer.StatusCode)
	}
	for _, file := range []string{"data/freshseal.db", "data/freshseal.db-wal"} {
		if strings.Contains(read(t, filepath.Join(s.dir, file)), secret) {
			t.Errorf("%s holds the secret", file)
		}
	}
	if audit := s.ok("audit", "list", "--as", "json"); strings.Contains(audit, secret) ||
		!strings.Contains(audit, "make a calendar") {
		t.Errorf("the audit log:\n%.500s", audit)
	}
}
