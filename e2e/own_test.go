package e2e

import (
	"strings"
	"testing"
)

const itself = "freshseal.mainquay.tidewrack.example"

// The service's own certificate is replaced like any other, without a restart,
// and clients that pinned the old one follow; but not whoever cannot show that
// the old key signed for the new certificate.
func TestTheServiceReplacesItsOwnCertificate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	s.until("its own slot, read in the background", "factory", "slot", "show", itself+"/web")
	old := s.pin()
	s.ok("replace", itself+"/web", "--signer", "bench", "--watch")
	second := s.run("", "slot", "show", itself+"/web", "--as", "json")
	if second.code != 0 || !strings.Contains(second.stdout, `"condition": "fresh"`) {
		t.Fatalf("%+v", second)
	}
	if shown := s.pin(); shown == old || !strings.Contains(read(t, s.config), shown) {
		t.Errorf("it shows %s, and the client has pinned\n%s", shown, read(t, s.config))
	}

	// It goes on after a kill, and a client that slept through two changes follows both.
	s.kill()
	s = again(t, s, dir)
	sleeper := *s
	sleeper.config = write(t, t.TempDir()+"/sleeper.yaml", read(t, s.config))
	s.ok("replace", itself+"/web", "--signer", "bench")
	s.await("r3", "sealed")
	s.ok("replacement", "revert", "r3", "--yes")
	s.ok("replace", itself+"/web", "--signer", "bench", "--key", "rsa-2048")
	s.await("r4", "sealed")
	if r := sleeper.run("", "status"); r.code != 0 || !strings.Contains(r.stderr, "signed for by its old one") {
		t.Errorf("the sleeper: %+v", r)
	}
	s.ok("status") // the client follows
	stranger := *s
	stranger.config = write(t, t.TempDir()+"/stranger.yaml",
		strings.Replace(read(t, s.config), s.pin(), strings.Repeat("ab", 32), 1))
	stranger.fails(1, "another certificate than the one pinned", "status")
	s.fails(1, "is reserved for Fresh Seal itself", "device", "add", "copy.tidewrack.example", "--address",
		"192.0.2.50", "--family", "fresh-seal-itself")
}
