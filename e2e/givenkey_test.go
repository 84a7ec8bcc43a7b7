package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"freshseal/standin"
)

// A box that cannot make a key is given one: sealed from birth, on the box when
// it is needed, forgotten when it is proven, or kept and exported with a reason.
func TestAKeyIsGivenAway(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "serve", dir)
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "web-files-given-ssh")
	out := s.ok("replace", name+"/web", "--signer", "bench", "--rehearse")
	if !strings.Contains(out, "••••••") || strings.Contains(out, "PRIVATE KEY") {
		t.Errorf("the rehearsal shows\n%s", out)
	}
	store := filepath.Join(t.TempDir(), "key.pfx")
	export := func() result {
		return s.run("anchor chain of petrel", "replacement", "key", "r1", "--reason", "the box is sent to the maker",
			"--passphrase-file", "-", "--out", store)
	}

	// While the signer takes his time the service is killed; the key waits, sealed.
	desk := newHarbour(t)
	s.ok("trust-group", "add", "fleet", desk.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	s.kill()
	s = startAt(t, "serve", dir, strings.TrimPrefix(s.url, "https://"))
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	s.ok("intake", desk.sign(unpack(t, parcel)[0]), desk.at("sub.pem"))
	s.await("r1", "sealed")
	sealed := s.show(name + "/web")
	if sealed.Condition != "fresh" {
		t.Errorf("%+v", sealed)
	}
	key := read(t, filepath.Join(box.Dir, "root", standin.KeyFile))
	for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
		if strings.Contains(read(t, filepath.Join(dir, file)), strings.Split(key, "\n")[1]) {
			t.Errorf("%s holds the key in clear", file)
		}
	}
	if journal := s.ok("replacement", "show", "r1", "--as", "json") + s.log.String(); strings.Contains(journal,
		strings.Split(key, "\n")[1]) {
		t.Error("the journal or the log shows the key")
	}
	if left, err := filepath.Glob(filepath.Join(work(t, box, "r1"), "*.pem")); err != nil || len(left) > 0 {
		t.Errorf("left on the box: %v, %v", left, err)
	}
	if r := export(); r.code != 1 || !strings.Contains(r.stderr, "it was deleted after the replacement") {
		t.Errorf("%+v", r)
	}

	// Where the policy keeps keys, an admin can have one, with a reason.
	s.ok("policy", "set", "device/"+name, "--keep-keys")
	s.ok("replace", name+"/web", "--signer", "bench")
	s.await("r2", "sealed")
	again := func(who *server, reason string) result {
		return who.run("anchor chain of petrel", "replacement", "key", "r2", "--reason", reason, "--passphrase-file",
			"-", "--out", store)
	}
	if r := again(s.as("operator"), "the box is sent to the maker"); !strings.Contains(r.stderr,
		"needs the role admin") {
		t.Errorf("%+v", r)
	}
	if r := again(s, "because"); !strings.Contains(r.stderr, "a reason of at least 10") {
		t.Errorf("%+v", r)
	}
	if r := again(s, "the box is sent to the maker"); r.code != 0 {
		t.Fatalf("%+v", r)
	}
	text := must(t, "", "openssl", "pkcs12", "-in", store, "-nodes", "-nocerts", "-passin",
		"pass:anchor chain of petrel")
	if public := must(t, text, "openssl", "pkey", "-pubout"); public != must(t,
		read(t, filepath.Join(box.Dir, "root", standin.KeyFile)), "openssl", "pkey", "-pubout") {
		t.Error("it is another key")
	}
	if audit := s.ok("audit", "list", "--as", "csv"); !strings.Contains(audit, "the box is sent to the maker") {
		t.Error(audit)
	}
	// A key that is kept can be used again, where the policy wants that.
	s.ok("policy", "set", "device/"+name, "--renewal-key", "same")
	before := s.served(name + "/web")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	if after := s.served(name + "/web"); after.key != before.key || after.sha256 == before.sha256 {
		t.Errorf("the key was to stay: %+v, %+v", before, after)
	}
	s.ok("replacement", "revert", "r3", "--yes")
	s.ok("device", "remove", name, "--yes")
	if _, err := os.Stat(store); err != nil {
		t.Error(err)
	}
}

// A family says in which forms it wants its files: a key store under a name, the
// chain as a Windows box writes it, each intermediate by itself.
func TestAFamilyGetsItsFilesInItsOwnForms(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	builtin := start(t, "serve", t.TempDir())
	builtin.login()
	mine := strings.NewReplacer("procedure: web-files-given-ssh", "procedure: console-store", "\nsteps:\n", `
packs:
  box_store: {about: the store, form: leaf-first, encoding: pkcs12-old, key: before, alias: console}
  windows_chain: {about: the whole chain, form: leaf-first-with-root, line_ends: crlf, line_length: 76, text: true}
  first: {about: the nearest intermediate, form: intermediate-1, encoding: der}
  second: {about: the one above it, form: intermediate-2}
steps:
`, "\n  activate:\n", `
  install:
    - {step: store, file: "{{before}}/store.p12", holds: box_store}
    - {step: passphrase, file: "{{before}}/store.pass", holds: store_passphrase}
    - {step: chain, file: "{{before}}/chain.txt", holds: windows_chain}
    - {step: first, file: "{{before}}/first.cer", holds: first}
    - {step: second, with: second, file: "{{before}}/second.pem", holds: second}
  activate:
`).Replace(builtin.ok("procedure", "show", "web-files-given-ssh"))
	write(t, filepath.Join(folder, "store.procedure.yaml"), mine)
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--family", "console-store")
	if out := s.ok("replace", name+"/web", "--signer", "bench", "--rehearse"); !strings.Contains(out,
		"| ‹the whole chain›") || strings.Contains(out, "‹the store›") {
		t.Errorf("the rehearsal:\n%s", out)
	}
	h := newHarbour(t)
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	s.ok("intake", h.sign(packed(t, s, "desk")[0]), h.at("sub.pem"))
	s.await("r1", "sealed")
	at := func(file string) string { return filepath.Join(work(t, box, "r1"), "before", file) }
	opened := must(t, "", "openssl", "pkcs12", "-in", at("store.p12"), "-legacy", "-nodes", "-passin",
		"file:"+at("store.pass"))
	if strings.Count(opened, "BEGIN CERTIFICATE") != 2 || strings.Count(opened, "friendlyName: console") != 2 {
		t.Errorf("the store holds\n%s", opened)
	}
	if chain := read(t, at("chain.txt")); strings.Count(chain, "BEGIN CERTIFICATE") != 3 ||
		strings.Count(chain, "\n") != strings.Count(chain, "\r\n") ||
		!strings.Contains(chain, "subject: CN=Harbour Root") {
		t.Errorf("the chain is\n%s", chain)
	}
	if first := must(t, "", "openssl", "x509", "-inform", "DER", "-in", at("first.cer"), "-noout",
		"-subject"); !strings.Contains(first, "Harbour Issuing") {
		t.Errorf("the first is %s", first)
	}
	if _, err := os.Stat(at("second.pem")); err == nil {
		t.Error("there is a second intermediate, which the chain has not")
	}
}
