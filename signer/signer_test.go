package signer_test

import (
	"archive/zip"
	"bytes"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
	"freshseal/signer"
)

func ask(t *testing.T, name string, extra ...pkix.Extension) request.Request {
	t.Helper()
	return testkit.Request(t, x509.CertificateRequest{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		ExtraExtensions: extra})
}

func clock() time.Time { return testkit.Now }

func TestADeskHasNoAnswerUntilAPileBringsIt(t *testing.T) {
	var desk signer.Signer = signer.Desk{Accepts: signer.Terms{MaxDays: 90}}
	e := signer.Errand{Request: ask(t, "gate.tidewrack.example")}
	if err := desk.Submit(t.Context(), e); err != nil || desk.Terms().MaxDays != 90 {
		t.Errorf("submitting: %v, %+v", err, desk.Terms())
	}
	if signed, err := desk.Collect(t.Context(), e); !errors.Is(err, signer.ErrPending) || signed != nil {
		t.Errorf("collecting: %v, %v", signed, err)
	}
}

func TestBenchSignsWhatItMayAndNothingMore(t *testing.T) {
	bench, err := signer.NewBench(signer.UsualBench("Tidewrack Ferries"), nil, clock)
	if err != nil {
		t.Fatal(err)
	}
	material, err := bench.Marshal()
	if err != nil {
		t.Fatal(err)
	}
	if bench, err = signer.OpenBench(material, clock); err != nil { // as after a restart
		t.Fatal(err)
	}
	// A request that asks to be an authority.
	authority := pkix.Extension{Id: []int{2, 5, 29, 19}, Critical: true, Value: []byte{0x30, 0x03, 0x01, 0x01, 0xff}}
	r := ask(t, "gate.tidewrack.example", authority)
	signed, err := bench.Collect(t.Context(), signer.Errand{Request: r})
	if err != nil {
		t.Fatal(err)
	}
	leaf := signed[0]
	if leaf.IsAuthority() || !leaf.SameKey(r.SPKI()) ||
		leaf.NotAfter.Sub(testkit.Now) > time.Duration(bench.Terms().MaxDays)*24*time.Hour ||
		leaf.SerialNumber.BitLen() < 100 ||
		!slices.Equal(leaf.ExtKeyUsage, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}) ||
		len(leaf.SubjectKeyId) == 0 || len(leaf.AuthorityKeyId) == 0 {
		t.Errorf("the leaf: %+v", leaf.Facts())
	}
	path := chain.Complete(leaf, chain.NewPool(signed...), chain.NewPool(bench.Root()), testkit.Now)
	if found := chain.Judge(path, chain.Terms{At: testkit.Now, Names: []string{"gate.tidewrack.example"},
		SPKI: r.SPKI()}); len(found) > 0 || len(path.Certificates) != 4 {
		t.Errorf("%d certificates, %v", len(path.Certificates), found)
	}
	again, err := bench.Collect(t.Context(), signer.Errand{Request: r})
	if err != nil || again[0].SerialNumber.Cmp(leaf.SerialNumber) == 0 {
		t.Errorf("a second time: %v, the same serial number", err)
	}
	if _, err := signer.OpenBench(material[:len(material)/2], clock); err == nil {
		t.Error("half of its keys are enough")
	}
}

func TestAParcelCanBeReadByPeopleAndSpreadsheets(t *testing.T) {
	content, err := signer.Parcel("p1", testkit.Now, signer.Wish{Profile: "Server", Notes: "pick the profile Server"},
		[]signer.Errand{
			{Replacement: "r1", Device: "gate/../../x", Slot: "web", Request: ask(t, "gate.tidewrack.example"),
				Days:  47,
				Notes: "=1+1"},
			{Replacement: "r2", Device: "=HYPERLINK(1)", Slot: "web", Request: ask(t, "pier.tidewrack.example")},
		})
	if err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{}
	for _, f := range z.File {
		if strings.Contains(f.Name, "..") || strings.Count(f.Name, "/") > strings.Count(f.Name, "der/") {
			t.Errorf("a name that leaves its folder: %s", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		files[f.Name] = string(text)
	}
	if rows := strings.Split(files["list.csv"], "\n"); !strings.Contains(rows[1], ",47 days,Server,") ||
		!strings.HasSuffix(rows[1], ",'=1+1") || !strings.Contains(rows[2], ",as issued,") {
		t.Errorf("the list:\n%s", files["list.csv"])
	}
	if len(files) != 7 || !strings.Contains(files["list.html"], "pick the profile Server") ||
		strings.Contains(files["list.html"], "<script") ||
		!strings.Contains(files["list.txt"], "pier.tidewrack.example") ||
		strings.Contains(files["list.csv"], "\n002-_HYPERLINK_1_-web.csr.pem,=") {
		t.Errorf("%v\n%s", len(files), files["list.csv"])
	}
}

// A bench of your own has the names and lifetimes that were given, may not be lengthened below its issuing level,
// and signs nothing beyond its own end.
func TestBenchIsSetUpWithNamesAndLifetimes(t *testing.T) {
	usual := signer.UsualBench("Tidewrack Ferries")
	for about, spoil := range map[string]func(*signer.BenchPlan){
		"one level":                    func(p *signer.BenchPlan) { p.Names = p.Names[:1] },
		"four levels":                  func(p *signer.BenchPlan) { p.Names = append(p.Names, "More") },
		"a level without a name":       func(p *signer.BenchPlan) { p.Names = []string{"Root", " "} },
		"two levels of one name":       func(p *signer.BenchPlan) { p.Names = []string{"Root", "Root"} },
		"a name over its line":         func(p *signer.BenchPlan) { p.Names = []string{"Root", "a\nb"} },
		"a country of three letters":   func(p *signer.BenchPlan) { p.Country = "XXX" },
		"leaves that outlive it":       func(p *signer.BenchPlan) { p.LeafDays = p.BelowDays + 1 },
		"a level that outlives a root": func(p *signer.BenchPlan) { p.BelowDays = p.RootDays + 1 },
		"a life without days":          func(p *signer.BenchPlan) { p.LeafDays = 0 },
		"a root for ever":              func(p *signer.BenchPlan) { p.RootDays = 1 << 40 },
	} {
		p := usual
		p.Names = slices.Clone(usual.Names)
		if spoil(&p); p.Check() == "" {
			t.Errorf("%s is accepted", about)
		}
	}
	now := testkit.Now
	moving := func() time.Time { return now }
	plan := signer.BenchPlan{Names: []string{"Quay Root", "Quay Issuing 1"}, Organization: "Tidewrack Ferries",
		Country: "XX", RootDays: 7300, BelowDays: 400, LeafDays: 200}
	bench, err := signer.NewBench(plan, nil, moving)
	if err != nil || plan.Check() != "" {
		t.Fatal(err, plan.Check())
	}
	sign := func(days int) *cert.Certificate {
		t.Helper()
		signed, err := bench.Collect(t.Context(), signer.Errand{Request: ask(t, "gate.tidewrack.example"), Days: days})
		if err != nil || len(signed) != 2 {
			t.Fatalf("%d certificates: %v", len(signed), err)
		}
		return signed[0]
	}
	levels := bench.Levels()
	if levels[0].MaxPathLen != 1 || levels[1].MaxPathLen != 0 || levels[0].Subject() != "CN=Quay Root,O=Tidewrack "+
		"Ferries,C=XX" || !levels[0].NotAfter.Equal(now.AddDate(0, 0, 7300)) {
		t.Errorf("the root is %s until %s", levels[0].Subject(), levels[0].NotAfter)
	}
	if got := sign(0); !got.NotAfter.Equal(now.AddDate(0, 0, 200)) {
		t.Errorf("the longest ends on %s", got.NotAfter)
	}
	if got := sign(47); !got.NotAfter.Equal(now.AddDate(0, 0, 47)) {
		t.Errorf("that of 47 days ends on %s", got.NotAfter)
	}
	now = now.AddDate(0, 0, 300) // 100 days before the issuing level ends
	if got := sign(0); !got.NotAfter.Equal(levels[1].NotAfter) {
		t.Errorf("it outlives its issuer, until %s", got.NotAfter)
	}
	now = now.AddDate(0, 0, 101)
	if _, err := bench.Collect(t.Context(), signer.Errand{Request: ask(t, "gate.tidewrack.example")}); err == nil ||
		!strings.Contains(err.Error(), "keep its root") {
		t.Errorf("an expired authority signs: %v", err)
	}
	plan.Names[1] = "Quay Issuing 2"
	if bench, err = signer.NewBench(plan, bench, moving); err != nil || bench.Root().SHA256 != levels[0].SHA256 {
		t.Fatalf("its root is another one: %v", err)
	}
	if got := sign(0); !got.NotAfter.Equal(now.AddDate(0, 0, 200)) {
		t.Errorf("under a new issuing level it ends on %s", got.NotAfter)
	}
}
