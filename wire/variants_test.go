package wire_test

import (
	"fmt"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshseal/core/testkit"
	"freshseal/standin/daemon"
	"freshseal/wire"
)

// openssl runs a command of OpenSSL in a folder.
func openssl(t testing.TB, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("openssl", args...)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("openssl %s: %v\n%s", strings.Join(args, " "), err, out)
	}
}

// keys are the kinds of key that the servers of the table hold, and how each is made.
var keys = map[string]string{
	"rsa": "genrsa -out %s 2048", "rsa512": "genrsa -out %s 512", "rsa1024": "genrsa -out %s 1024",
	"p256": "ecparam -name prime256v1 -genkey -noout -out %s",
	"p384": "ecparam -name secp384r1 -genkey -noout -out %s",
	"p521": "ecparam -name secp521r1 -genkey -noout -out %s",
	"p224": "ecparam -name secp224r1 -genkey -noout -out %s", "k256": "ecparam -name secp256k1 -genkey -noout -out %s",
	"brainpool": "ecparam -name brainpoolP256r1 -genkey -noout -out %s", "ed25519": "genpkey -algorithm " +
		"ed25519 -out %s", "ed448": "genpkey -algorithm ed448 -out %s", "pss": "genpkey -algorithm rsa-pss " +
		"-pkeyopt rsa_keygen_bits:2048 -out %s",
}

// TestATableOfServers reads what OpenSSL serves in its many ways: old versions, rare suites,
// odd keys, and what it demands of clients. Each must show its certificate or say why not.
func TestATableOfServers(t *testing.T) {
	dir := t.TempDir()
	for name, how := range keys {
		openssl(t, dir, strings.Fields(fmt.Sprintf(how, name+".key"))...)
		openssl(t, dir, "req", "-x509", "-key", name+".key", "-out", name+".pem", "-days", "30", "-subj",
			"/O=Brinewell/CN=box.invalid")
	}
	openssl(t, dir, "dsaparam", "-out", "dsa.par", "1024")
	openssl(t, dir, "gendsa", "-out", "dsa.key", "dsa.par")
	openssl(t, dir, "req", "-x509", "-key", "dsa.key", "-out", "dsa.pem", "-days", "30", "-subj",
		"/O=Brinewell/CN=box.invalid")
	for _, hash := range []string{"md5", "sha1", "sha512"} {
		openssl(t, dir, "req", "-x509", "-key", "rsa.key", "-"+hash, "-out", hash+".pem", "-days", "30", "-subj",
			"/O=Brinewell/CN=box.invalid")
	}
	root := testkit.Root(t, "Quay Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	for name, change := range map[string][2][]byte{
		"version4": {{0xa0, 3, 2, 1, 2}, {0xa0, 3, 2, 1, 3}},
		// key usage calls itself a key identifier, of which there is one
		"usage": {{0x55, 0x1d, 0x0f}, {0x55, 0x1d, 0x0e}},
	} {
		pemFile(t, filepath.Join(dir, name+".pem"), root.Odd(t, leaf.Raw, change[0], change[1]))
		keyFile(t, filepath.Join(dir, name+".key"), leaf.Key)
	}
	for _, c := range []struct {
		name    string
		args    string // of s_server; the first word is the certificate, the second the key
		version string
		remark  string // what the reading remarks
		code    string
	}{
		{name: "as it comes", args: "rsa rsa", version: "TLS 1.3"},
		{name: "TLS 1.2", args: "rsa rsa -tls1_2", version: "TLS 1.2"},
		{name: "TLS 1.1", args: "rsa rsa -tls1_1 -cipher ALL:@SECLEVEL=0", version: "TLS 1.1"},
		{name: "TLS 1.0", args: "rsa rsa -tls1 -cipher ALL:@SECLEVEL=0", version: "TLS 1.0"},
		{name: "ChaCha20 in TLS 1.3", args: "rsa rsa -ciphersuites TLS_CHACHA20_POLY1305_SHA256", version: "TLS 1.3"},
		{name: "AES-128 in TLS 1.3", args: "rsa rsa -ciphersuites TLS_AES_128_GCM_SHA256", version: "TLS 1.3"},
		{name: "CCM in TLS 1.3 alone", args: "rsa rsa -tls1_3 -ciphersuites TLS_AES_128_CCM_SHA256", code: "alert"},
		{name: "RSA key exchange", args: "rsa rsa -tls1_2 -cipher kRSA", version: "TLS 1.2"},
		{name: "AES in CBC with SHA-1", args: "rsa rsa -tls1_2 -cipher ECDHE-RSA-AES128-SHA:@SECLEVEL=0",
			version: "TLS 1.2"},
		{name: "DHE alone", args: "rsa rsa -tls1_2 -cipher kDHE", version: "TLS 1.2", remark: "only the certificate"},
		{name: "DHE in TLS 1.0", args: "rsa rsa -tls1 -cipher kDHE:@SECLEVEL=0", version: "TLS 1.0",
			remark: "only the certificate"},
		{name: "Camellia", args: "rsa rsa -tls1_2 -cipher CAMELLIA:@SECLEVEL=0", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "ARIA", args: "rsa rsa -tls1_2 -cipher ARIA", version: "TLS 1.2", remark: "only the certificate"},
		{name: "CCM", args: "rsa rsa -tls1_2 -cipher AESCCM", version: "TLS 1.2", remark: "only the certificate"},
		{name: "NULL", args: "rsa rsa -tls1_2 -cipher NULL-SHA256:@SECLEVEL=0", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "AES-256-SHA384 alone", args: "rsa rsa -tls1_2 -cipher ECDHE-RSA-AES256-SHA384", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "RSA 512", args: "rsa512 rsa512 -tls1_2 -cipher ALL:@SECLEVEL=0", version: "TLS 1.2",
			remark: "strict clients"},
		{name: "RSA 512 in TLS 1.0", args: "rsa512 rsa512 -tls1 -cipher ALL:@SECLEVEL=0", version: "TLS 1.0",
			remark: "strict clients"},
		{name: "RSA 1024", args: "rsa1024 rsa1024 -cipher ALL:@SECLEVEL=0", version: "TLS 1.3"},
		{name: "MD5", args: "md5 rsa -cipher ALL:@SECLEVEL=0", version: "TLS 1.2", remark: "only the certificate"},
		{name: "SHA-1", args: "sha1 rsa -cipher ALL:@SECLEVEL=0", version: "TLS 1.3"},
		{name: "SHA-1 in TLS 1.0", args: "sha1 rsa -tls1 -cipher ALL:@SECLEVEL=0", version: "TLS 1.0"},
		{name: "SHA-512", args: "sha512 rsa", version: "TLS 1.3"},
		{name: "P-256", args: "p256 p256", version: "TLS 1.3"},
		{name: "P-384", args: "p384 p384", version: "TLS 1.3"},
		{name: "P-521", args: "p521 p521", version: "TLS 1.3"},
		{name: "P-224", args: "p224 p224 -tls1_2 -cipher ALL:@SECLEVEL=0", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "secp256k1", args: "k256 k256 -tls1_2", version: "TLS 1.2", remark: "only the certificate"},
		{name: "Brainpool", args: "brainpool brainpool -tls1_2", version: "TLS 1.2", remark: "only the certificate"},
		{name: "Ed25519", args: "ed25519 ed25519", version: "TLS 1.3"},
		{name: "Ed25519 in TLS 1.2", args: "ed25519 ed25519 -tls1_2", version: "TLS 1.2"},
		{name: "Ed448", args: "ed448 ed448 -tls1_2", version: "TLS 1.2", remark: "only the certificate"},
		{name: "RSA-PSS key", args: "pss pss", version: "TLS 1.2", remark: "only the certificate"},
		{name: "DSA", args: "dsa dsa -tls1_2 -cipher ALL:@SECLEVEL=0", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "DSA in TLS 1.0", args: "dsa dsa -tls1 -cipher ALL:@SECLEVEL=0", version: "TLS 1.0",
			remark: "only the certificate"},
		{name: "P-384 key shares alone", args: "rsa rsa -groups P-384", version: "TLS 1.3"},
		{name: "X448 alone", args: "rsa rsa -groups X448 -cipher ECDHE", version: "TLS 1.2",
			remark: "only the certificate"},
		{name: "client certificate asked", args: "rsa rsa -verify 1", version: "TLS 1.3", remark: "asks clients"},
		{name: "client certificate demanded", args: "rsa rsa -Verify 1 -verify_return_error", version: "TLS 1.3",
			remark: "asks clients"},
		{name: "client certificate demanded in TLS 1.2", args: "rsa rsa -tls1_2 -Verify 1 -verify_return_error",
			version: "TLS 1.2", remark: "refuses clients without"},
		{name: "client certificate demanded in TLS 1.0", args: "rsa rsa -tls1 -cipher ALL:@SECLEVEL=0 -Verify 1 " +
			"-verify_return_error", version: "TLS 1.0", remark: "refuses clients without"},
		{name: "unknown server name refused", args: "rsa rsa -servername other.tidewrack.example -servername_fatal " +
			"-cert2 p256.pem -key2 p256.key", version: "TLS 1.3", remark: "refuses the server name"},
		{name: "another certificate by server name", args: "rsa rsa -servername gate.tidewrack.example -cert2 " +
			"p256.pem -key2 p256.key", version: "TLS 1.3"},
		{name: "a certificate of version 4", args: "version4 version4", version: "TLS 1.3", remark: "strict clients"},
		{name: "a certificate of version 4 in TLS 1.2", args: "version4 version4 -tls1_2", version: "TLS 1.2",
			remark: "strict clients"},
		{name: "an extension twice", args: "usage usage", version: "TLS 1.3", remark: "strict clients"},
		{name: "small records", args: "rsa rsa -tls1_2 -max_send_frag 512", version: "TLS 1.2"},
		{name: "small records in TLS 1.3", args: "version4 version4 -max_send_frag 512", version: "TLS 1.3",
			remark: "strict clients"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			words := strings.Fields(c.args)
			port := daemon.FreePort(t, "127.20.90.1")
			at := "127.20.90.1:" + port
			serve := append([]string{"s_server", "-quiet", "-accept", at, "-cert",
				filepath.Join(dir, words[0]+".pem"), "-key", filepath.Join(dir, words[1]+".key")}, words[2:]...)
			for i, word := range serve {
				if i > 8 && (strings.HasSuffix(word, ".pem") || strings.HasSuffix(word, ".key")) {
					serve[i] = filepath.Join(dir, word)
				}
			}
			if strings.Contains(c.args, "-tls1 ") || strings.Contains(c.args, "-tls1_1") ||
				strings.Contains(c.args, "SECLEVEL=0") {
				serve = append(serve, "-legacy_renegotiation")
			}
			daemon.Start(t, at, "openssl", serve...)
			n, _ := strconv.Atoi(port)
			r := wire.Reader{Dial: reader().Dial, Now: time.Now, Limit: 5 * time.Second}.Read(t.Context(),
				wire.Target{Address: "127.20.90.1", Port: n, ServerName: "gate.tidewrack.example"})
			switch {
			case c.code != "":
				if r.Why == nil || r.Why.Code != c.code || r.Why.Remedy == "" {
					t.Errorf("%+v %+v", r.Why, r)
				}
			case r.Why != nil:
				t.Errorf("%s: %s", r.Why.Code, r.Why.What)
			case r.Version != c.version || r.Suite == "" || strings.HasPrefix(r.Suite, "0x") ||
				len(r.Leaf().SHA256) != 64 || r.Leaf().NotAfter.IsZero() ||
				(c.remark == "") != (len(r.Remarks) == 0) || c.remark != "" &&
				!strings.Contains(r.Remarks[0].What, c.remark):
				t.Errorf("%s, %s, %v, %v", r.Version, r.Suite, r.Remarks, r.Leaf().Facts())
			}
		})
	}
}
