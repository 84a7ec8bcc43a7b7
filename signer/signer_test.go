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

	"freshseal/core/chain"
	"freshseal/core/request"
	"freshseal/core/testkit"
	"freshseal/signer"
)

func ask(t *testing.T, name string, extra ...pkix.Extension) request.Request {
	t.Helper()
	return testkit.Request(t, x509.CertificateRequest{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}, ExtraExtensions: extra})
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
	bench, err := signer.NewBench("Tidewrack Ferries", clock)
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
	if leaf.IsAuthority() || !leaf.SameKey(r.SPKI()) || leaf.NotAfter.Sub(testkit.Now) > time.Duration(bench.Terms().MaxDays)*24*time.Hour || leaf.SerialNumber.BitLen() < 100 ||
		!slices.Equal(leaf.ExtKeyUsage, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}) || len(leaf.SubjectKeyId) == 0 || len(leaf.AuthorityKeyId) == 0 {
		t.Errorf("the leaf: %+v", leaf.Facts())
	}
	path := chain.Complete(leaf, chain.NewPool(signed...), chain.NewPool(bench.Root()), testkit.Now)
	if found := chain.Judge(path, chain.Terms{At: testkit.Now, Names: []string{"gate.tidewrack.example"}, SPKI: r.SPKI()}); len(found) > 0 || len(path.Certificates) != 4 {
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
	content, err := signer.Parcel("p1", testkit.Now, signer.Wish{Profile: "Server", Notes: "pick the profile Server"}, []signer.Errand{
		{Replacement: "r1", Device: "gate/../../x", Slot: "web", Request: ask(t, "gate.tidewrack.example"), Days: 47, Notes: "=1+1"},
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
	if rows := strings.Split(files["list.csv"], "\n"); !strings.Contains(rows[1], ",47 days,Server,") || !strings.HasSuffix(rows[1], ",'=1+1") || !strings.Contains(rows[2], ",as issued,") {
		t.Errorf("the list:\n%s", files["list.csv"])
	}
	if len(files) != 7 || !strings.Contains(files["list.html"], "pick the profile Server") || strings.Contains(files["list.html"], "<script") || !strings.Contains(files["list.txt"], "pier.tidewrack.example") || strings.Contains(files["list.csv"], "\n002-_HYPERLINK_1_-web.csr.pem,=") {
		t.Errorf("%v\n%s", len(files), files["list.csv"])
	}
}
