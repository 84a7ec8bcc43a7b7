package e2e

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"freshseal/standin"
)

// Twelve requests go out as one parcel and come back as signers send things:
// nine go on by themselves, and of three it is said exactly what is wrong.
func TestAMessyPileComesBack(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	devices := []string{gate, "tickets.northholm.tidewrack.example", "radar.gannet-point.tidewrack.example", "scale.mainquay.tidewrack.example",
		"weather.gannet-point.tidewrack.example", "ramp.northholm.tidewrack.example", "bridge.turnstone.tidewrack.example", itself}
	for i := range 4 {
		name := fmt.Sprintf("buoy-%d.saltmere.tidewrack.example", i+1)
		s.addSimulated(name, simulated(t, standin.Box{}), "correct horse")
		devices = append(devices, name)
	}
	ours, theirs := newHarbour(t), newHarbour(t)
	s.ok("audience", "add", "fleet", ours.at("root.pem"))
	s.ok("audience", "add", "fleet", theirs.at("root.pem"))
	s.ok("signer", "set", "harbour", "--about", "Harbour Authority", "--turnaround", "5", "--max-days", "200", "--wildcards", "--addresses", "--field", "organization", "--notes", "profile Server")
	s.ok("signer", "set", "port-ca", "--public")
	s.fails(1, "nobody can own example", "replace", "buoy-1.saltmere.tidewrack.example/web", "--signer", "port-ca", "--rehearse")
	var ids []string
	for _, d := range devices {
		var r struct{ ID string }
		s.json(&r, "replace", d+"/web", "--signer", "harbour", "--organization", "Tidewrack Ferries")
		ids = append(ids, r.ID)
	}
	for _, id := range ids {
		s.await(id, "waiting")
	}
	dir := t.TempDir()
	parcel := filepath.Join(dir, "out.zip")
	s.ok("parcel", "pack", "--signer", "harbour", "--out", parcel)
	s.ok("parcel", "hand", "p1", "--to", "Ms Fulmar", "--reference", "HA-2207")
	if list := s.ok("parcel", "list"); !strings.Contains(list, "handed-over") {
		t.Error(list)
	}
	requests := unpack(t, parcel)
	if len(requests) != len(devices) {
		t.Fatalf("%d requests are in the parcel", len(requests))
	}

	pile := filepath.Join(dir, "back")
	put := func(name string, content string) { write(t, filepath.Join(pile, name), content) }
	leaf := func(i int) string { return read(t, ours.sign(requests[i])) }
	// Three in PKCS #7, two in DER under odd names, two in one mail, two in a zip.
	p7 := filepath.Join(pile, "chain(1).p7b")
	put("note.txt", "Dear keeper, as discussed. Regards, HA\n")
	must(t, "", "openssl", "crl2pkcs7", "-nocrl", "-certfile", ours.sign(requests[0]), "-certfile", ours.sign(requests[1]), "-certfile", ours.sign(requests[2]), "-outform", "DER", "-out", p7)
	for i, name := range map[int]string{3: "certnew.cer", 4: "certnew(2).cer"} {
		must(t, "", "openssl", "x509", "-in", ours.sign(requests[i]), "-outform", "DER", "-out", filepath.Join(pile, name))
	}
	put("mail.eml", "From: HA <desk@harbour.example>\r\nSubject: certificates\r\nContent-Type: text/plain\r\n\r\n> "+strings.ReplaceAll(ours.read("root.pem")+leaf(5)+ours.read("sub.pem")+leaf(6), "\n", "\r\n> "))
	inner := filepath.Join(dir, "zip")
	write(t, filepath.Join(inner, "a.crt"), strings.ReplaceAll(leaf(7), "\n", "\r\n"))
	write(t, filepath.Join(inner, "b.crt"), leaf(8))
	zipUp(t, inner, filepath.Join(pile, "bundle.zip"))
	// And three that cannot be used: a leaf for another key, one whose intermediate
	// is not there, one that lacks the name; besides, one that nobody asked for.
	key := []string{"-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", filepath.Join(dir, "k")}
	other := filepath.Join(dir, "other.csr")
	must(t, "", "openssl", append([]string{"req", "-out", other, "-subj", "/CN=x", "-addext", "subjectAltName=DNS:" + nameOf(t, requests[9])}, key...)...)
	put("10.pem", read(t, ours.sign(other)))
	put("11.pem", read(t, theirs.sign(requests[10])))
	short := write(t, filepath.Join(dir, "short.ext"), "subjectAltName=DNS:elsewhere.tidewrack.example\n")
	must(t, "", "openssl", "x509", "-req", "-in", requests[11], "-CA", ours.at("sub.pem"), "-CAkey", ours.at("sub.key"), "-days", "90", "-extfile", short, "-out", filepath.Join(pile, "12.pem"))
	stranger := filepath.Join(dir, "stranger.csr")
	must(t, "", "openssl", append([]string{"req", "-out", stranger, "-subj", "/CN=nobody", "-addext", "subjectAltName=DNS:nobody.tidewrack.example"}, key...)...)
	put("13.pem", read(t, ours.sign(stranger)))

	r := s.run("", "intake", pile, "--as", "json")
	var in struct {
		Answers []struct {
			Replacement, Device, Why string
			Accepted                 bool
		}
	}
	if err := json.Unmarshal([]byte(r.stdout), &in); err != nil || r.code != 3 {
		t.Fatalf("%v, exit code %d\n%s%s", err, r.code, r.stdout, r.stderr)
	}
	accepted, whys := 0, ""
	for _, a := range in.Answers {
		if a.Accepted {
			accepted++
		} else {
			whys += a.Why + "\n"
		}
	}
	if accepted != 9 || len(in.Answers) != 13 {
		t.Errorf("%d of %d answers are accepted; of the others it says\n%s", accepted, len(in.Answers), whys)
	}
	for _, want := range []string{"with another key", "with key identifier", "is not among the names of", "no request here has this leaf's key\n"} {
		if !strings.Contains(whys, want) {
			t.Errorf("it does not say %q:\n%s", want, whys)
		}
	}
	for i := range 9 {
		s.await(idOf(t, s, nameOf(t, requests[i])), "sealed")
	}
	if list := s.ok("parcel", "list"); !strings.Contains(list, "partly-back") {
		t.Error(list)
	}
	// The intermediate that was missing comes alone, and the leaf is remembered.
	s.fails(3, "accepted; it goes on by itself", "intake", theirs.at("sub.pem"))
	s.await(idOf(t, s, nameOf(t, requests[10])), "sealed")
}

// Each group of clients has its own roots: who trusts a chain is told, what the
// others lack, and their roots can be had in the form that they take.
func TestAudiencesTrustWhatTheyHold(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	h := newHarbour(t)
	s.ok("audience", "add", "scanners", h.at("root.pem"))
	s.fails(1, "is not the root of an authority", "audience", "add", "scanners", h.at("sub.pem"))
	var slot struct {
		Trust []struct {
			Audience, Lacks string
			Trusted         bool
		}
	}
	s.json(&slot, "slot", "show", "vault.mainquay.tidewrack.example/web")
	if len(slot.Trust) != 2 || !slot.Trust[0].Trusted || slot.Trust[1].Trusted || slot.Trust[1].Lacks != "Tidewrack Ferries Root" {
		t.Errorf("%+v", slot.Trust)
	}
	out := filepath.Join(t.TempDir(), "roots.p7b")
	if said := s.ok("audience", "export", "scanners", "--form", "pkcs7", "--out", out); !strings.Contains(said, "what to do: ") {
		t.Error(said)
	}
	if text := must(t, "", "openssl", "pkcs7", "-inform", "DER", "-in", out, "-print_certs"); !strings.Contains(text, "Harbour Root") {
		t.Error(text)
	}
	var roots []struct{ SHA256 string }
	s.json(&roots, "audience", "show", "scanners")
	s.ok("audience", "remove", "scanners", roots[0].SHA256)
	s.fails(1, "no audience is called", "audience", "show", "scanners")

	// A box outside the fleet: its request, checked before it goes out, and the
	// very file that it wants.
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write(t, at("pass"), "anchor chain")
	name := "crane.saltmere.tidewrack.example"
	s.ok("request", "make", "--name", name, "--organization", "Tidewrack Ferries", "--out", at("crane.csr"), "--key-out", at("crane.key"), "--passphrase-file", at("pass"))
	s.ok("request", "check", at("crane.csr"), "--name", name, "--organization", "Tidewrack Ferries")
	s.fails(3, "the request lacks the name crane", "request", "check", at("crane.csr"), "--name", name, "--name", "crane", "--organization", "Tidewrack Ferries")
	s.fails(3, "nobody can own example", "request", "check", at("crane.csr"), "--name", name, "--organization", "Tidewrack Ferries", "--public")
	signed := h.sign(at("crane.csr"))
	s.ok("pack", signed, h.chain(), at("crane.key"), "--open-with-file", at("pass"), "--encoding", "pkcs12-old", "--key", "before", "--alias", "crane", "--passphrase-file", at("pass"), "--out", at("crane.pfx"))
	if text := must(t, "", "openssl", "pkcs12", "-in", at("crane.pfx"), "-legacy", "-nodes", "-passin", "pass:anchor chain"); strings.Count(text, "BEGIN CERTIFICATE") != 2 || !strings.Contains(text, "friendlyName: crane") || !strings.Contains(text, "PRIVATE KEY") {
		t.Error(text)
	}
	s.fails(3, "passphrase is another", "inspect", at("crane.pfx"))
	if out := s.run("", "inspect", at("crane.pfx"), "--passphrase-file", at("pass"), "--as", "json"); !strings.Contains(out.stdout, "Harbour Issuing") {
		t.Error(out)
	}
}

// Where the administrator allows it, a missing intermediate is had from where the
// leaf says it is; without that, the leaf waits for it.
func TestAMissingIssuerIsFetched(t *testing.T) {
	t.Parallel()
	h := newHarbour(t)
	asked := atomic.Int32{}
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		w.Write([]byte(must(t, "", "openssl", "x509", "-in", h.at("sub.pem"), "-outform", "DER")))
	}))
	defer web.Close()
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--fetch-issuers")
	s.login()
	s.addSimulated(name, simulated(t, standin.Box{}), "correct horse")
	s.ok("audience", "add", "fleet", h.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	request := unpack(t, parcel)[0]
	extensions := write(t, filepath.Join(t.TempDir(), "ext"), "subjectAltName=DNS:"+name+"\nauthorityInfoAccess=caIssuers;URI:"+web.URL+"/sub.cer\nauthorityKeyIdentifier=keyid\n")
	leaf := filepath.Join(t.TempDir(), "leaf.pem")
	must(t, "", "openssl", "x509", "-req", "-in", request, "-CA", h.at("sub.pem"), "-CAkey", h.at("sub.key"), "-days", "90", "-extfile", extensions, "-out", leaf)
	s.ok("intake", leaf)
	s.await("r1", "sealed")
	if asked.Load() != 1 {
		t.Errorf("asked %d times", asked.Load())
	}
}

// nameOf is the name that a request asks for.
func nameOf(t *testing.T, request string) string {
	t.Helper()
	_, rest, _ := strings.Cut(must(t, "", "openssl", "req", "-in", request, "-noout", "-text"), "DNS:")
	name, _, _ := strings.Cut(rest, ",")
	return strings.Fields(name)[0]
}

// idOf finds the newest replacement of a device.
func idOf(t *testing.T, s *server, device string) string {
	t.Helper()
	var all []struct{ ID string }
	s.json(&all, "replacement", "list", "--device", device)
	if len(all) == 0 {
		t.Fatalf("%s has no replacement", device)
	}
	return all[0].ID
}

// zipUp packs a folder.
func zipUp(t *testing.T, dir, out string) {
	t.Helper()
	f, err := os.Create(out)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	w := zip.NewWriter(f)
	if err := errors.Join(w.AddFS(os.DirFS(dir)), w.Close()); err != nil {
		t.Fatal(err)
	}
}
