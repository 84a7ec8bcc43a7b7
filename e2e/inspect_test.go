package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// inspected is the JSON of inspect.
type inspected struct {
	Files []struct {
		Name  string
		Holds []struct{ Kind, SHA256, Subject string }
	}
	Chains []struct {
		Leaf            string
		Path            []string
		Complete, Valid bool
		Findings        []struct{ Code string }
	}
}

// What inspect says of a chain, openssl says too.
func TestInspectAgreesWithOpenSSL(t *testing.T) {
	t.Parallel()
	desk, other := newHarbour(t), newHarbour(t)
	const name = "pier.saltmere.tidewrack.example"
	must(t, "", "openssl", "req", "-new", "-newkey", "rsa:2048", "-nodes", "-keyout", desk.at("pier.key"), "-subj",
		"/CN="+name, "-addext", "subjectAltName=DNS:"+name, "-out", desk.at("pier.csr"))
	signed := desk.sign(desk.at("pier.csr"))
	must(t, "", "openssl", "x509", "-in", signed, "-outform", "DER", "-out", desk.at("pier.der"))
	for about, c := range map[string]struct {
		files  []string // besides the leaf
		anchor string
		at     string // RFC 3339
		name   string
		code   int
		valid  bool
	}{
		"a whole chain, shuffled": {files: []string{desk.at("root.pem"), desk.at("sub.pem")},
			anchor: desk.at("root.pem"), name: name, valid: true},
		"without the intermediate": {files: []string{desk.at("root.pem")}, anchor: desk.at("root.pem"), name: name,
			code: 3},
		"another root of that name": {files: []string{desk.at("sub.pem"), other.at("root.pem")},
			anchor: other.at("root.pem"), name: name, code: 3},
		"another issuer of that name": {files: []string{other.at("sub.pem"), desk.at("sub.pem"),
			other.at("root.pem")}, anchor: desk.at("root.pem"), name: name, valid: true},
		"long after": {files: []string{desk.at("sub.pem")}, anchor: desk.at("root.pem"),
			at: "2099-01-01T00:00:00Z", name: name, code: 3},
		"under another name": {files: []string{desk.at("sub.pem")}, anchor: desk.at("root.pem"),
			name: "crane.saltmere.tidewrack.example", code: 3, valid: true},
	} {
		args := append([]string{"inspect", desk.at("pier.der"), "--as", "json", "--anchor", c.anchor, "--for",
			c.name}, c.files...)
		verify := []string{"verify", "-CAfile", c.anchor, "-verify_hostname", c.name}
		for _, f := range c.files {
			verify = append(verify, "-untrusted", f)
		}
		if c.at != "" {
			args, verify = append(args, "--at", c.at), append(verify, "-attime", "4070908800")
		}
		cmd := exec.Command(program, args...)
		text, err := cmd.Output()
		var got inspected
		if json.Unmarshal(text, &got) != nil || len(got.Chains) != 1 || cmd.ProcessState.ExitCode() != c.code {
			t.Errorf("%s: exit code %d, %v\n%s", about, cmd.ProcessState.ExitCode(), err, text)
			continue
		}
		if got.Chains[0].Valid != c.valid || (c.code == 3) != (len(got.Chains[0].Findings) > 0) {
			t.Errorf("%s: %+v", about, got.Chains[0])
		}
		openssl := exec.Command("openssl", append(verify, signed)...).Run() == nil
		if openssl != (c.code == 0) {
			t.Errorf("%s: openssl says %v", about, openssl)
		}
	}
	// Standard input, and a folder with all sorts of things.
	folder := t.TempDir()
	for from, to := range map[string]string{"pier.key": "a.txt", "pier.csr": "b.cer", "pier.der": "c.pem"} {
		text, err := os.ReadFile(desk.at(from))
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(folder, to), string(text))
	}
	text, _ := exec.Command(program, "inspect", folder, "--as", "json").Output() // 3: a chain has a hole
	var got inspected
	if err := json.Unmarshal(text, &got); err != nil || len(got.Files) != 3 {
		t.Fatalf("%v\n%s", err, text)
	}
	for i, kind := range []string{"key", "request", "certificate"} {
		if got.Files[i].Holds[0].Kind != kind {
			t.Errorf("%s holds a %s", got.Files[i].Name, got.Files[i].Holds[0].Kind)
		}
	}
}

// Several stores with passphrases of their own are opened in one call.
func TestInspectTakesSeveralPassphrases(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	for _, name := range []string{"one", "two"} {
		must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
			"-keyout", h.at(name+".key"), "-out", h.at(name+".pem"), "-days", "9", "-subj", "/CN="+name+
				".tidewrack.example")
		must(t, "", "openssl", "pkcs12", "-export", "-in", h.at(name+".pem"), "-inkey", h.at(name+".key"), "-passout",
			"pass:of "+name, "-out", h.at(name+".p12"))
	}
	file := write(t, h.at("pass"), "of one\nof two\n")
	s := &server{t: t, config: h.at("none.yaml")}
	r := s.run("", "inspect", h.at("one.p12"), h.at("two.p12"), "--passphrase-file", file)
	for _, want := range []string{"one.tidewrack.example", "two.tidewrack.example"} {
		if !strings.Contains(r.stdout, want) {
			t.Errorf("%s is missing:\n%s%s", want, r.stdout, r.stderr)
		}
	}
}
