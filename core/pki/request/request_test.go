package request_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
)

func made(t testing.TB, names []string, organization string) request.Request {
	t.Helper()
	return testkit.Request(t,
		x509.CertificateRequest{Subject: pkix.Name{CommonName: names[0], Organization: []string{organization}},
			DNSNames: names})
}

func TestARequestIsComparedWithItsPlan(t *testing.T) {
	plan := request.Plan{Subject: request.Subject{Organization: "Tidewrack Ferries"},
		Names: []string{"Gate.Tidewrack.Example.", "gate", "gate"}}.Complete()
	if want := []string{"gate.tidewrack.example", "gate"}; !slices.Equal(plan.Names, want) ||
		plan.Subject.CommonName != want[0] {
		t.Fatalf("plan %+v", plan)
	}
	for _, c := range []struct {
		about   string
		request request.Request
		want    []finding.Code
	}{
		{"as planned", made(t, plan.Names, "Tidewrack Ferries"), nil},
		{"without the short name", made(t, plan.Names[:1], "Tidewrack Ferries"), []finding.Code{finding.NameMissing}},
		{"with a name too many", made(t, append(slices.Clone(plan.Names), "appliance.local"), "Tidewrack Ferries"),
			[]finding.Code{finding.NameSurplus}},
		{"with the maker's subject", made(t, plan.Names, "Brinewell"), []finding.Code{finding.SubjectDiffers}},
	} {
		var got []finding.Code
		for _, f := range request.Check(plan, c.request) {
			got = append(got, f.Code)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: findings %v, want %v", c.about, got, c.want)
		}
	}
}

func TestAPlanThatNobodyWouldSignIsRefused(t *testing.T) {
	for about, plan := range map[string]request.Plan{
		"no name":         {Key: request.ECDSAP256},
		"a URL":           {Names: []string{"https://gate.tidewrack.example"}, Key: request.ECDSAP256},
		"a shell's blank": {Names: []string{"gate; reboot"}, Key: request.ECDSAP256},
		"a long country": {Names: []string{"gate.tidewrack.example"}, Key: request.ECDSAP256,
			Subject: request.Subject{Country: "Mainquay"}},
		"no address": {Names: []string{"gate.tidewrack.example"}, Key: request.ECDSAP256,
			Subject: request.Subject{Email: "harbour office@tidewrack.example"}},
		"a new line": {Names: []string{"gate.tidewrack.example"}, Key: request.ECDSAP256,
			Subject: request.Subject{Unit: "a\n[req]"}},
		"an unknown key":   {Names: []string{"gate.tidewrack.example"}, Key: "rsa-1024"},
		"a lone wild card": {Names: []string{"*.example"}, Key: request.ECDSAP256},
	} {
		if len(plan.Check()) == 0 {
			t.Errorf("%s is taken", about)
		}
	}
}

// A box that can do no better is taken as it is where the plan allows it, and
// nothing else is: a request for another use goes to nobody.
func TestWeaknessIsAllowedByNameAndUseByNobody(t *testing.T) {
	key, err := request.NewKey(request.RSA1024)
	if err != nil {
		t.Fatal(err)
	}
	plan := request.Plan{Names: []string{"lamp.tidewrack.example"}, Key: request.RSA1024}.Complete()
	if found := plan.Check(); len(found) != 1 || found[0].Code != finding.WeakKey ||
		!strings.Contains(found[0].Remedy, "allow weak keys") {
		t.Errorf("a weak key, which nobody allowed: %v", found)
	}
	plan.Weak = true
	weak, err := request.Make(plan, key)
	if err != nil {
		t.Fatal(err)
	}
	if found := append(plan.Check(), request.Check(plan, weak)...); len(found) > 0 {
		t.Errorf("a weak key, which is allowed: %v", found)
	}
	mail := testkit.Request(t, x509.CertificateRequest{Subject: pkix.Name{CommonName: "lamp.tidewrack.example"},
		DNSNames: plan.Names,
		ExtraExtensions: []pkix.Extension{{Id: []int{2, 5, 29, 37}, Value: []byte{0x30, 10, 6, 8, 0x2b, 6, 1, 5, 5, 7,
			3, 4}}}})
	plan.Key = request.ECDSAP256
	if found := request.Check(plan, mail); len(found) != 1 || found[0].Code != finding.UsageWrong {
		t.Errorf("a request for mail: %v", found)
	}
}

// The configuration is read by the real openssl, with values that try to break
// out of their lines.
func TestOpenSSLMakesJustThePlannedRequest(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		t.Skip("openssl is not here; make test installs it")
	}
	plan := request.Plan{
		Subject: request.Subject{Organization: `Tide#wrack $HOME "Ferries" \ Söhne; [x]`, Unit: "A=B, C+D/E",
			Country: "XX", Email: "harbour+desk@tidewrack.example"},
		Names: []string{"gate.tidewrack.example", "192.0.2.11", "2001:db8::11", "*.gate.tidewrack.example"},
	}.Complete()
	dir := t.TempDir()
	config := filepath.Join(dir, "request.cnf")
	if err := os.WriteFile(config, []byte(plan.OpenSSLConfig()), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, key := range []request.KeyType{request.ECDSAP256, request.ECDSAP384, request.RSA2048} {
		plan.Key = key
		keyFile := filepath.Join(dir, string(key))
		if out, err := exec.Command(openssl,
			append([]string{"genpkey", "-out", keyFile}, plan.OpenSSLKeyOptions()...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		out, err := exec.Command(openssl, "req", "-new", "-utf8", "-config", config, "-key", keyFile).Output()
		if err != nil {
			t.Fatalf("%s: %v", key, err)
		}
		made, err := request.Parse(out)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range request.Check(plan, made) {
			t.Errorf("%s: %s", key, f.What)
		}
		own, err := request.NewKey(key)
		if err != nil {
			t.Fatal(err)
		}
		if ours, err := request.Make(plan, own); err != nil ||
			cert.NameText(ours.Subject) != cert.NameText(made.Subject) ||
			!strings.Contains(cert.NameText(made.Subject), `emailAddress=harbour\+desk@tidewrack.example`) {
			t.Errorf("%s: our own request says %s, that of openssl %s (%v)", key, ours.Subject, made.Subject, err)
		}
	}
}

// A request comes as the box gives it: in armour with text around it, as DER, or as its base64 alone.
func TestARequestComesInSeveralForms(t *testing.T) {
	r := made(t, []string{"gate.tidewrack.example"}, "Tidewrack Ferries")
	plain := base64.StdEncoding.EncodeToString(r.Raw)
	for about, content := range map[string]string{
		"armour": string(r.PEM()),
		"text around it": "Your request:\r\n" + strings.ReplaceAll(string(r.PEM()), "\n", "\r\n") +
			"Copy all of it.\r\n",
		"DER":                 string(r.Raw),
		"base64 in one line":  plain,
		"base64 in odd lines": "\r\n" + plain[:70] + "\r\n  " + plain[70:] + "\r\n",
	} {
		if again, err := request.Parse([]byte(content)); err != nil || again.SHA256() != r.SHA256() {
			t.Errorf("%s: %v", about, err)
		}
	}
	for about, content := range map[string]string{"nothing": "", "base64 of nothing much": "MIIB",
		"half of it": plain[:len(plain)/2/4*4], "another kind": "-----BEGIN CERTIFICATE-----\nMIIB\n-----END " +
			"CERTIFICATE-----\n"} {
		if _, err := request.Parse([]byte(content)); err == nil {
			t.Errorf("%s is taken", about)
		}
	}
}

func FuzzParse(f *testing.F) {
	r := made(f, []string{"gate.tidewrack.example"}, "Tidewrack Ferries")
	f.Add(r.PEM())
	f.Add(r.Raw)
	f.Add([]byte(strings.Repeat("-----BEGIN CERTIFICATE REQUEST-----\n", 3)))
	f.Fuzz(func(t *testing.T, content []byte) {
		if made, err := request.Parse(content); err == nil && len(made.Raw) == 0 {
			t.Error("a request without content")
		}
	})
}

// Boxes dress their requests up: with a mark in front, and blank lines between all lines.
func TestARequestIsReadInOddDress(t *testing.T) {
	key, err := request.NewKey(request.ECDSAP256)
	if err != nil {
		t.Fatal(err)
	}
	made, err := request.Make(request.Plan{Key: request.ECDSAP256, Names: []string{"a.example"}}.Complete(), key)
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"\ufeff" + strings.ReplaceAll(string(made.PEM()), "\n", "\r\n\r\n"),
		"Your request:\n\n" + strings.ReplaceAll(string(made.PEM()), "\n", "\n  "), string(made.Raw)} {
		if got, err := request.Parse([]byte(text)); err != nil || got.SHA256() != made.SHA256() {
			t.Errorf("%.60q: %v", text, err)
		}
	}
}
