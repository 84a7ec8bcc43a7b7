package e2e

import (
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

// Every list prints as a table for people, as CSV for sheets and as JSON for programs, and
// the three agree on how many things there are. A table fits a terminal of 80 columns.
func TestEveryListPrintsInEveryForm(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("pin", "add", gate+"/web", "--who", "booking", "--how", "write to booking@tidewrack.example")
	s.ok("credential", "add", "harbour", "--user", "keeper", "--password-file",
		write(t, t.TempDir()+"/word", "salt and tar and rope"))
	s.ok("signer", "set", "registrar", "--contact", "registrar@tidewrack.example")
	s.ok("replace", gate+"/web", "--signer", "desk")
	s.ok("replace", panel+"/web", "--signer", "desk")
	s.until(panel+"/web", "t", "task", "list")
	s.await("r2", "waiting")
	s.ok("parcel", "pack", "--signer", "desk", "--out", t.TempDir()+"/parcel.zip")
	s.ok("replace", vaultLink+"/web", "--signer", "bench", "--watch")
	s.ok("token", "add", "monitoring", "--role", "monitor")
	for list, least := range map[string]int{
		"slot history scale.mainquay.tidewrack.example/web": 3, "device list": 48, "slot list": 60, "site list": 3,
		"credential list": 1, "replacement list": 3, "parcel list": 1, "signer list": 4,
		"trust-group list": 1, "procedure list": 14, "user list": 1, "token list": 1, "session list": 1,
		"audit list": 5, "task list": 1, "pin list": 1, "batch list": 0,
		"due": 10, "policy list": 1, "procedure values": 30, "authority list": 0,
	} {
		args := strings.Fields(list)
		t.Run(list, func(t *testing.T) {
			var items []json.RawMessage
			text := s.ok(append(args, "--as", "json")...)
			if err := json.Unmarshal([]byte(text), &items); err != nil {
				var object map[string]json.RawMessage // some say more than a list
				if json.Unmarshal([]byte(text), &object) != nil || json.Unmarshal(object["items"], &items) != nil {
					t.Fatalf("JSON: %v\n%.300s", err, text)
				}
			}
			if len(items) < least {
				t.Errorf("%d of at least %d", len(items), least)
			}
			rows, err := csv.NewReader(strings.NewReader(s.ok(append(args, "--as", "csv")...))).ReadAll()
			if err != nil || len(rows) != len(items)+1 {
				t.Errorf("CSV: %v, %d rows of %d", err, len(rows)-1, len(items))
			}
			for _, name := range rows[0] {
				if name == "" || name != strings.ToLower(name) {
					t.Errorf("a column is called %q", name)
				}
			}
			for line := range strings.Lines(s.ok(args...)) {
				// beyond 80 columns are those alone in which a whole name is beside words that cannot be cut
				if n := utf8.RuneCountInString(strings.TrimRight(line, "\n")); n > 100 &&
					!strings.Contains(line, "SHA256:") || strings.Contains(line, "…ewrack") {
					t.Errorf("%d columns: %s", n, line)
				}
			}
		})
	}
	// Who is behind what a slot served, newest first: somebody meddled with what a replacement had put there.
	if lines := strings.Split(s.ok("slot", "history", "scale.mainquay.tidewrack.example/web", "--as", "csv"),
		"\n"); !strings.HasSuffix(lines[1], ",somebody else") || !strings.HasSuffix(lines[2], ",r1") ||
		!strings.HasSuffix(lines[3], ",first seen") {
		t.Errorf("the history says\n%s", strings.Join(lines, "\n"))
	}
	s.fails(2, "table, json or csv", "slot", "list", "--as", "xml")
}

const vaultLink = "vault-link.saltmere.tidewrack.example"
