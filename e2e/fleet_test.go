package e2e

import (
	"path/filepath"
	"strings"
	"testing"
)

// A credential is shared, and exchanged without touching a device; a cluster is
// worked on one member at a time; a site says what its requests say.
func TestWhatDevicesShare(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	const ramp = "ramp.northholm.tidewrack.example"
	secret := strings.TrimSpace(read(t, filepath.Join(dir, "boxes", "gate-1.mainquay", "password")))

	s.okWith("not this one", "credential", "add", "keepers", "--user", "keeper", "--password-file", "-")
	s.ok("device", "edit", gate, "--credential", "keepers")
	s.fails(3, "correct the user, the password or the key", "device", "try", gate)
	s.okWith(secret, "credential", "replace", "keepers", "--user", "keeper", "--password-file", "-")
	if out := s.ok("device", "try", gate); !strings.Contains(out, "✓ sign in over SSH as keeper") {
		t.Error(out)
	}
	s.fails(1, "devices use it", "credential", "remove", "keepers")
	if all := s.ok("credential", "list", "--as", "json") + s.ok("device", "show", gate, "--as",
		"json"); strings.Contains(all, secret) {
		t.Error("the secret is shown")
	}

	s.ok("site", "add", "Mainquay", "--locality", "Mainquay", "--country", "XA", "--links", "1")
	s.ok("site", "add", "Northholm")
	s.ok("site", "edit", "Northholm", "--organization", "Tidewrack Terminals")
	s.fails(1, "longer than 2 characters", "site", "edit", "Northholm", "--country", "Atlantis")
	var rehearsal struct {
		Plan struct {
			Subject struct{ Organization, Locality, Country string }
		}
	}
	s.json(&rehearsal, "replace", gate+"/web", "--signer", "desk", "--rehearse")
	if got := rehearsal.Plan.Subject; got.Locality != "Mainquay" || got.Country != "XA" ||
		got.Organization != "Tidewrack Ferries" {
		t.Errorf("the request would say %+v", got)
	}

	// A name that leads to another box is reported before anybody signs for it.
	if out := s.ok("replace", ramp+"/web", "--signer", "desk", "--rehearse"); !strings.Contains(out,
		ramp+" leads to 198.51.100.99, and the slot is at 198.51.100.22") {
		t.Error(out)
	}
	if out := s.ok("replace", gate+"/web", "--signer", "desk", "--rehearse"); strings.Contains(out,
		"name-leads-elsewhere") {
		t.Error(out)
	}
	for device, role := range map[string]string{gate: "active", ramp: "standby"} {
		s.ok("device", "edit", device, "--cluster", "gates", "--cluster-role", role)
	}
	s.ok("replace", gate+"/web", "--signer", "desk")
	s.fails(1, "a slot has at most one", "replace", gate+"/web", "--signer", "bench")
	s.ok("replace", ramp+"/web", "--signer", "desk") // a member asks while its peer waits for the signer
	s.ok("sweep")                                    // one link at a time is slow and still comes to its end
	if list := s.ok("device", "list", "--text", "gates", "--as", "csv"); strings.Count(list, "\n") != 3 {
		t.Error(list)
	}
}

// Where the policy wants it, nothing on a device changes before somebody else
// has looked at it.
func TestAnotherApproves(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	s.ok("policy", "set", "site/Mainquay", "--approval", "another")
	if out := s.ok("replace", gate+"/web", "--signer", "bench", "--watch"); !strings.Contains(out,
		"waiting for approval") {
		t.Fatal(out)
	}
	s.fails(1, "the policy requires another", "replacement", "approve", "r2")
	s.okWith("salt and tar and rope", "user", "add", "tern", "--role", "viewer", "--password-file", "-")
	tern := *s
	tern.config = filepath.Join(t.TempDir(), "tern.yaml")
	login := func() {
		tern.okWith("salt and tar and rope", "login", s.url, "--user", "tern", "--password-file", "-",
			"--certificate", s.pin())
	}
	login()
	tern.fails(1, "needs the role approver", "replacement", "approve", "r2")
	s.ok("user", "edit", "tern", "--role", "approver")
	tern.fails(1, "you are not signed in", "status")
	login()
	for _, touch := range [][]string{{"replace", tickets + "/web", "--signer", "bench"},
		{"replacement", "cancel", "r2"},
		{"replacement", "pause", "r2"}, {"replacement", "revert", "r2", "--yes"}, {"read", gate + "/web"},
		{"device", "edit", gate, "--owner", "tern"}} {
		tern.fails(1, "needs the role ", touch...)
	}
	tern.ok("replacement", "approve", "r2")
	s.await("r2", "sealed")
	s.fails(1, "is not waiting for approval", "replacement", "approve", "r2")
}
