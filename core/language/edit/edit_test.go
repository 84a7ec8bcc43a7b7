package edit_test

import (
	"bytes"
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshseal/core/language/edit"
)

var update = flag.Bool("update", false, "write the golden differences anew")

var re = regexp.MustCompile

// Configuration files as Debian ships them, and what an administrator does to
// them. The golden file is the difference.
var golden = map[string][]edit.Rule{
	"nginx-site.conf": {
		{Replace: re(`^\s*listen 80 default_server;`), By: "listen 443 ssl default_server;"},
		{Remove: re(`^\s*listen \[::\]:80 default_server`)},
		{Set: "ssl_certificate", To: "/etc/gate/chain.pem", As: "ssl_certificate /etc/gate/chain.pem;",
			In: re(`^server \{`), After: re(`^\s*listen 443`)},
		{Set: "server_name", To: "gate.example", In: re(`^server \{`)},
	},
	"apache-ssl.conf": {
		{Set: "SSLCertificateFile", To: "/etc/gate/chain.pem"},
		{Set: "SSLCertificateKeyFile", To: "/etc/gate/key.pem"},
		{Set: "SSLCACertificateFile", To: "/etc/gate/ca.pem"},
		{Set: "SSLHonorCipherOrder", To: "on", As: "SSLHonorCipherOrder on", In: re(`^\s*<VirtualHost`),
			After: re(`SSLEngine`)},
	},
	"lighttpd.conf": {
		{Line: `ssl.pemfile = "/etc/gate/chain.pem"`},
		{Line: `	"mod_openssl",`, After: re(`"mod_indexfile",`)},
		{Set: "server.port", To: "443"},
	},
	"dovecot-ssl.conf": {
		{Set: "ssl", To: "required"},
		{Set: "ssl_cert", To: "</etc/gate/chain.pem"},
		{Set: "ssl_min_protocol", To: "TLSv1.2"},
		{Remove: re(`^#ssl_dh = `)},
	},
	"sshd_config.conf": {
		{Set: "PasswordAuthentication", To: "no"},
		{Set: "HostCertificate", To: "/etc/ssh/host-cert.pub", As: "HostCertificate /etc/ssh/host-cert.pub",
			Before: re(`^#RekeyLimit`)},
		{Replace: re(`^Subsystem\s+sftp`), By: "Subsystem sftp internal-sftp"},
		{Line: "AllowUsers keeper"},
	},
}

func TestFilesAsDebianShipsThem(t *testing.T) {
	for name, rules := range golden {
		t.Run(name, func(t *testing.T) {
			before := file(t, name)
			after, err := edit.Apply(before, rules)
			if err != nil {
				t.Fatal(err)
			}
			diff := edit.Diff(name, before, after)
			goldenFile := filepath.Join("testdata", strings.TrimSuffix(name, ".conf")+".diff")
			if *update {
				if err := os.WriteFile(goldenFile, []byte(diff), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			if want, err := os.ReadFile(goldenFile); err != nil || string(want) != diff {
				t.Errorf("the difference is another one (%v):\n%s", err, diff)
			}
			again, err := edit.Apply(after, rules)
			if err != nil || !bytes.Equal(again, after) {
				t.Errorf("a second time it changes something: %v\n%s", err, edit.Diff(name, after, again))
			}
			// A file with the line ends of another system, in an old encoding, keeps both.
			odd := bytes.ReplaceAll(append([]byte("# caf\xe9\n"), bytes.TrimSuffix(before, []byte("\n"))...),
				[]byte("\n"), []byte("\r\n"))
			changed, err := edit.Apply(odd, rules)
			want := bytes.ReplaceAll(append([]byte("# caf\xe9\n"), bytes.TrimSuffix(after, []byte("\n"))...),
				[]byte("\n"), []byte("\r\n"))
			if err != nil || !bytes.Equal(changed, want) {
				t.Errorf("with other line ends: %v\n%s", err, edit.Diff(name, want, changed))
			}
		})
	}
}

func file(t *testing.T, name string) []byte {
	t.Helper()
	content, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	return content
}

func TestRulesThatDoNotFitSayWhy(t *testing.T) {
	const text = "a = 1\nserver {\n  b 2;\n}\nserver {\n  b 3;\n}\n"
	for want, rule := range map[string]edit.Rule{
		"2 lines set it (lines 3, 6); say in which block":              {Set: "b", To: "4"},
		"no line sets it; none of its 7 lines is like it; say with as": {Set: "c", To: "4"},
		"2 lines open such a block (lines 2, 5)": {Set: "b", To: "4",
			In: re(`^server`)},
		"no line opens this block": {Set: "b", To: "4",
			In: re(`^http`)},
		"line 1 opens no block": {Set: "b", To: "4",
			In: re(`^a`)},
		"2 lines match instead of 1 (lines 3, 6)":                                         {Replace: re(`b`), By: "c"},
		"0 lines match instead of 1; none of its 7 lines is like it; correct the pattern": {Replace: re(`z`), By: "c"},
		"2 lines match b, where the new line goes; write a pattern":                       {Line: "x", After: re(`b`)},
	} {
		if after, err := edit.Apply([]byte(text), []edit.Rule{rule}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("want %q: %v\n%s", want, err, after)
		}
	}
	if _, err := edit.Apply([]byte("a\x00=\x001"), []edit.Rule{{Line: "x"}}); err == nil {
		t.Error("UTF-16 is edited")
	}
}

func TestSmallFiles(t *testing.T) {
	for _, c := range []struct {
		before string
		rule   edit.Rule
		after  string
	}{
		{"", edit.Rule{Line: "x"}, "x\n"},
		{"a", edit.Rule{Line: "x"}, "a\nx"},
		{"a\r\nb\r\n", edit.Rule{Line: "x", After: re("^a$")}, "a\r\nx\r\nb\r\n"},
		{"# key = old # note\n", edit.Rule{Set: "key", To: "new"}, "key = new # note\n"},
		{"#key=1\nkey=2;\n", edit.Rule{Set: "key", To: "3"}, "#key=1\nkey=3;\n"},
		{"x \"a;b\"; # c\n", edit.Rule{Set: "x", To: "d"}, "x d; # c\n"},
		{"keys = 1\n", edit.Rule{Set: "key", To: "3", As: "key = 3"}, "keys = 1\nkey = 3\n"},
		{"a\na\n", edit.Rule{Replace: re("^a$"), By: "b", Times: 2}, "b\nb\n"},
		{"<A>\n  <A>\n  </A>\n</A>\n", edit.Rule{Line: "x", In: re("^<A>")}, "<A>\n  <A>\n  </A>\n  x\n</A>\n"},
		{"s {\n}\n", edit.Rule{Line: "x;", In: re(`^s`)}, "s {\n    x;\n}\n"},
		{"s { # }\n  y \"}\";\n}\nz\n", edit.Rule{Line: "x;", In: re(`^s`)}, "s { # }\n  y \"}\";\n  x;\n}\nz\n"},
	} {
		after, err := edit.Apply([]byte(c.before), []edit.Rule{c.rule})
		if err != nil || string(after) != c.after {
			t.Errorf("%q, %s: %q, error %v; want %q", c.before, c.rule.Text(), after, err, c.after)
		}
	}
}

// Whatever the file, a rule that fits keeps every line that it does not name,
// and changes nothing when it is applied again.
func FuzzApply(f *testing.F) {
	f.Add([]byte("a = 1\nserver {\n  b 2;\n}\n"), "b", "7")
	f.Add([]byte("<A>\r\n# b = x\r\n</A>"), "b", "y")
	f.Fuzz(func(t *testing.T, text []byte, name, value string) {
		if name == "" || strings.TrimSpace(name) != name || strings.ContainsAny(name+value, "\r\n\x00#;\"' \t=") ||
			value == "" {
			return
		}
		rules := []edit.Rule{{Set: name, To: value, As: name + " " + value}, {Line: "z" + value}}
		after, err := edit.Apply(text, rules)
		if err != nil {
			return
		}
		again, err := edit.Apply(after, rules)
		if err != nil || !bytes.Equal(again, after) {
			t.Errorf("a second time: %q became %q, then %q, error %v", text, after, again, err)
		}
		if had := bytes.Count(text, []byte("\n")); bytes.Count(after, []byte("\n")) < had {
			t.Errorf("lines are lost: %q became %q", text, after)
		}
	})
}

// Sections of INI files, options within a line and groups of a pattern are changed where they are meant, and a second
// time nothing changes.
func TestSectionsOptionsAndGroups(t *testing.T) {
	before := "# delivered\n[global]\nfile = none\n\n[listener web] ; the pages\nport = 443\n;file = " +
		"/old.pem\n[listener mail]\nfile = /old.pem\nbind :443 ssl file=/old.pem alpn h2\nbind :8443 ssl # " +
		"admin\nallow 192.0.2.0 tls=old\nallow 198.51.100.0 tls=old\n"
	rules := []edit.Rule{
		{Set: "file", To: "/new.pem", Section: "listener web"},
		{Set: "file", To: "/mail.pem", Section: "listener mail"},
		{Option: "file", To: "/new.pem", Of: re(`^bind :443 `)},
		{Option: "file", To: "/admin.pem", Of: re(`^bind :8443 `)},
		{Replace: re(`^(allow .*) tls=old$`), By: "${1} tls=new", Times: 2},
		{Line: "tls = yes", Section: "global"},
	}
	want := "# delivered\n[global]\nfile = none\n\ntls = yes\n[listener web] ; the pages\nport = 443\nfile = " +
		"/new.pem\n[listener mail]\nfile = /mail.pem\nbind :443 ssl file=/new.pem alpn h2\nbind :8443 ssl " +
		"file=/admin.pem # admin\nallow 192.0.2.0 tls=new\nallow 198.51.100.0 tls=new\n"
	after := []byte(before)
	for range 2 {
		var err error
		if after, err = edit.Apply(after, rules); err != nil {
			t.Fatal(err)
		}
		if string(after) != want {
			t.Fatalf("it became\n%s", after)
		}
	}
	for said, rule := range map[string]edit.Rule{
		"its sections are [global], [listener web], [listener mail]": {Set: "file", To: "x",
			Section: "listener"},
		"0 lines match ^bind :444 instead of 1; like it are “10: bind :443 ssl file=/old.pem": {Option: "file",
			To: "x", Of: re("^bind :444")},
		"2 lines match ^bind instead of 1 (lines 10, 11)": {Option: "file",
			To: "x", Of: re("^bind")},
		"0 lines match instead of 1; like it are “3: file = none”": {Replace: re(
			"^filename|^file="), By: "x"},
		"none of its 13 lines is like it": {Replace: re("^zzz"),
			By: "x"},
	} {
		if _, err := edit.Apply([]byte(before), []edit.Rule{rule}); err == nil || !strings.Contains(err.Error(), said) {
			t.Errorf("it says %v instead of %q", err, said)
		}
	}
}
