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
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/e2e/browser"
	"freshseal/standin"
)

// errand is twelve requests that go to the harbour, and what comes back of them.
type errand struct {
	ids          []string
	ours, theirs harbour
	requests     []string // files, in the parcel's order
}

// askTwelve begins twelve replacements that wait for the signer harbour.
func askTwelve(t *testing.T, s *server) *errand {
	t.Helper()
	devices := []string{gate, "tickets.northholm.tidewrack.example", "radar.gannet-point.tidewrack.example",
		"scale.mainquay.tidewrack.example",
		"weather.gannet-point.tidewrack.example", "ramp.northholm.tidewrack.example",
		"bridge.turnstone.tidewrack.example", itself}
	for i := range 4 {
		name := fmt.Sprintf("buoy-%d.saltmere.tidewrack.example", i+1)
		s.addSimulated(name, simulated(t, standin.Box{}), "correct horse")
		devices = append(devices, name)
	}
	e := &errand{ours: newHarbour(t), theirs: newHarbour(t)}
	s.ok("trust-group", "add", "fleet", e.ours.at("root.pem"))
	s.ok("trust-group", "add", "fleet", e.theirs.at("root.pem"))
	s.ok("signer", "set", "harbour", "--about", "Harbour Authority", "--turnaround", "5", "--max-days", "200",
		"--wildcards", "--addresses", "--field", "organization", "--notes", "profile Server")
	for _, d := range devices {
		var r struct{ ID string }
		s.json(&r, "replace", d+"/web", "--signer", "harbour", "--organization", "Tidewrack Ferries")
		e.ids = append(e.ids, r.ID)
	}
	for _, id := range e.ids {
		s.await(id, "waiting")
	}
	return e
}

// comesBack signs the requests of a parcel and makes a folder of the answers as
// signers send them: nine are good, of three each has another fault, and one is
// for a name that nobody asked for.
func (e *errand) comesBack(t *testing.T, parcel string) (pile string) {
	t.Helper()
	e.requests = unpack(t, parcel)
	if len(e.requests) != len(e.ids) {
		t.Fatalf("%d requests are in the parcel", len(e.requests))
	}
	dir := t.TempDir()
	pile = filepath.Join(dir, "back")
	put := func(name string, content string) { write(t, filepath.Join(pile, name), content) }
	leaf := func(i int) string { return read(t, e.ours.sign(e.requests[i])) }
	// Three in PKCS #7, two in DER under odd names, two in one mail, two in a zip.
	p7 := filepath.Join(pile, "chain(1).p7b")
	put("note.txt", "Dear keeper, as discussed. Regards, HA\n")
	must(t, "", "openssl", "crl2pkcs7", "-nocrl", "-certfile", e.ours.sign(e.requests[0]), "-certfile",
		e.ours.sign(e.requests[1]), "-certfile", e.ours.sign(e.requests[2]), "-outform", "DER", "-out", p7)
	for i, name := range map[int]string{3: "answer.cer", 4: "answer(2).cer"} {
		must(t, "", "openssl", "x509", "-in", e.ours.sign(e.requests[i]), "-outform", "DER", "-out",
			filepath.Join(pile, name))
	}
	put("mail.eml", "From: HA <desk@harbour.example>\r\nSubject: certificates\r\nContent-Type: text/plain\r\n\r\n> "+
		strings.ReplaceAll(e.ours.read("root.pem")+leaf(5)+e.ours.read("sub.pem")+leaf(6), "\n", "\r\n> "))
	inner := filepath.Join(dir, "zip")
	write(t, filepath.Join(inner, "a.crt"), strings.ReplaceAll(leaf(7), "\n", "\r\n"))
	write(t, filepath.Join(inner, "b.crt"), leaf(8))
	zipUp(t, inner, filepath.Join(pile, "bundle.zip"))
	// And three that cannot be used: a leaf for another key, one whose intermediate
	// is not there, one that lacks the name; besides, one that nobody asked for.
	key := []string{"-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout",
		filepath.Join(dir, "k")}
	other := filepath.Join(dir, "other.csr")
	must(t, "", "openssl",
		append([]string{"req", "-out", other, "-subj", "/CN=x", "-addext", "subjectAltName=DNS:" +
			nameOf(t, e.requests[9])}, key...)...)
	put("10.pem", read(t, e.ours.sign(other)))
	put("11.pem", read(t, e.theirs.sign(e.requests[10])))
	short := write(t, filepath.Join(dir, "short.ext"), "subjectAltName=DNS:elsewhere.tidewrack.example\n")
	must(t, "", "openssl", "x509", "-req", "-in", e.requests[11], "-CA", e.ours.at("sub.pem"), "-CAkey",
		e.ours.at("sub.key"), "-days", "90", "-extfile", short, "-out", filepath.Join(pile, "12.pem"))
	stranger := filepath.Join(dir, "stranger.csr")
	must(t, "", "openssl",
		append([]string{"req", "-out", stranger, "-subj", "/CN=nobody", "-addext",
			"subjectAltName=DNS:nobody.tidewrack.example"}, key...)...)
	put("13.pem", read(t, e.ours.sign(stranger)))
	return pile
}

// sealed waits until the nine are done.
func (e *errand) sealed(t *testing.T, s *server) {
	t.Helper()
	for _, request := range e.requests[:9] {
		s.await(idOf(t, s, nameOf(t, request)), "sealed")
	}
}

// what is said of those that cannot be used.
var faulty = []string{"with another key", "with key identifier", "is not among the names of",
	"no request here has this leaf's key"}

// Twelve requests go out as one parcel and come back as signers send things:
// nine go on by themselves, and of three it is said exactly what is wrong.
func TestAMessyPileComesBack(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	e := askTwelve(t, s)
	s.ok("signer", "set", "port-ca", "--public")
	s.fails(1, "nobody can own example", "replace", "buoy-1.saltmere.tidewrack.example/web", "--signer", "port-ca",
		"--rehearse")
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "harbour", "--out", parcel)
	s.ok("parcel", "hand", "p1", "--to", "Ms Fulmar", "--reference", "HA-2207")
	if list := s.ok("parcel", "list"); !strings.Contains(list, "handed-over") {
		t.Error(list)
	}
	r := s.run("", "intake", e.comesBack(t, parcel), "--as", "json")
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
	for _, want := range faulty {
		if !strings.Contains(whys, want) {
			t.Errorf("it does not say %q:\n%s", want, whys)
		}
	}
	e.sealed(t, s)
	if list := s.ok("parcel", "list"); !strings.Contains(list, "partly-back") {
		t.Error(list)
	}
	// The intermediate that was missing comes alone, and the leaf is remembered. It is of another authority than the
	// rest: a person accepts it.
	id := idOf(t, s, nameOf(t, e.requests[10]))
	s.fails(3, "harbour signs with", "intake", e.theirs.at("sub.pem"))
	s.ok("replacement", "accept", id, "--yes")
	s.await(id, "sealed")
}

// The same story in the browser: packed, handed over, dropped, and one asked for
// again that came back wrong.
func TestAMessyPileInTheBrowser(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	e := askTwelve(t, s)
	p := openConsole(t, s)
	steps(t,
		func() error { return p.Click("//nav//a[.='Desk']") },
		func() error { return p.Click(browser.Button("Pack 12 into a parcel for harbour")) },
		func() error { return p.Click(browser.Button("Handed over")) },
		func() error {
			return p.Type("//*[@role='dialog']//label[contains(.,'Recipient')]/following::input[1]", "Ms Fulmar")
		},
		func() error { return p.Click(browser.Button("Record")) },
		func() error {
			return p.Wait("//*[contains(.,'with Ms Fulmar since') and contains(.,'profile Server')]")
		},
	)
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "get", "p1", "--out", parcel)
	files, err := filepath.Glob(filepath.Join(e.comesBack(t, parcel), "*"))
	if err != nil {
		t.Fatal(err)
	}
	count := func(selector string) string {
		n, err := p.Eval("String(document.querySelectorAll('" + selector + "').length)")
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	steps(t,
		func() error { return p.Upload("#pile", files...) },
		func() error {
			return p.Wait("//*[@aria-label='Account of the files' and contains(.,'9 of 13 leaves accepted')]")
		},
	)
	if good, bad, arrows := count("[data-accepted=true]"), count("[data-accepted=false]"),
		count(`[aria-label="Account of the files"] [data-accepted] a[href^="/replacements/"]`); good != "9" ||
		bad != "4" || arrows != "11" {
		t.Errorf("%s are accepted, %s are not, %s have an arrow to their request", good, bad, arrows)
	}
	account, err := p.Text("//*[@aria-label='Account of the files']")
	for _, want := range append(faulty, "bundle.zip › a.crt", "text without any PEM block") {
		if err != nil || !strings.Contains(account, want) {
			t.Errorf("the account does not say %q (%v):\n%s", want, err, account)
		}
	}
	steps(t, func() error { return p.Size(390, 844) })
	wide, err := p.Eval("String(document.documentElement.scrollWidth)")
	for range 20 { // what moves comes to rest
		if err != nil || wide == "390" {
			break
		}
		time.Sleep(200 * time.Millisecond)
		wide, err = p.Eval("String(document.documentElement.scrollWidth)")
	}
	if err != nil || wide != "390" {
		t.Errorf("the account is %s wide on a screen of 390, %v", wide, err)
	}
	steps(t, func() error { return p.Size(1280, 800) })
	e.sealed(t, s)
	wrong := idOf(t, s, nameOf(t, e.requests[11]))
	steps(t,
		func() error {
			return p.Wait("//section[@aria-label='Certificates without a request' and contains(.,'with another " +
				"key') and contains(.,'No slot here has')]")
		},
		func() error { return p.Click(browser.Button("Delete")) },
		func() error { return p.Click(inDialog("Delete")) },
		func() error { return p.Gone("//*[@role='dialog']") },
		func() error { return p.Click("//*[@data-file='12.pem']" + browser.Link("/replacements/"+wrong)) },
		func() error { return p.Click(browser.Button("Ask again")) },
		func() error { return p.Type("//input[@data-field='reason']", "the signer lost its name") },
		func() error { return p.Click(browser.Button("Make another request")) },
		func() error { return p.Wait("//dd[contains(.,'requested again by admin: the signer lost its name')]") },
	)
	s.await(wrong, "waiting")
	if list := s.ok("parcel", "list"); !strings.Contains(list, "partly-back") {
		t.Error(list)
	}
}

// Each group of clients has its own roots: who trusts a chain is told, what the
// others lack, and their roots can be had in the form that they take.
func TestTrustGroupsTrustWhatTheyHold(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	h := newHarbour(t)
	s.ok("trust-group", "add", "scanners", h.at("root.pem"))
	s.fails(1, "is not a root certificate", "trust-group", "add", "scanners", h.at("sub.pem"))
	var slot struct {
		Trust []struct {
			TrustGroup, Lacks string
			Trusted           bool
		}
	}
	s.json(&slot, "slot", "show", "vault.mainquay.tidewrack.example/web")
	if len(slot.Trust) != 2 || !slot.Trust[0].Trusted || slot.Trust[1].Trusted ||
		slot.Trust[1].Lacks != "Tidewrack Ferries Root" {
		t.Errorf("%+v", slot.Trust)
	}
	lacked := filepath.Join(t.TempDir(), "lacked.zip")
	s.ok("trust-group", "export", "fleet", "--lacked-by", "scanners", "--form", "debian", "--out", lacked)
	folder, err := zip.OpenReader(lacked)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(folder.File, func(f *zip.File) bool {
		return strings.HasPrefix(f.Name, "Tidewrack_Ferries_Root-")
	}) {
		t.Errorf("%+v", folder.File)
	}
	folder.Close()
	s.fails(2, "either a file or --system", "trust-group", "add", "workstations")
	s.ok("trust-group", "add", "workstations", "--system")
	s.fails(1, "has every root of", "trust-group", "export", "workstations", "--lacked-by", "workstations", "--form",
		"pem", "--out", lacked)
	out := filepath.Join(t.TempDir(), "roots.p7b")
	if said := s.ok("trust-group", "export", "scanners", "--form", "pkcs7", "--out", out); !strings.Contains(said,
		"what to do: ") {
		t.Error(said)
	}
	if text := must(t, "", "openssl", "pkcs7", "-inform", "DER", "-in", out, "-print_certs"); !strings.Contains(text,
		"Harbour Root") {
		t.Error(text)
	}
	var roots []struct{ SHA256 string }
	s.json(&roots, "trust-group", "show", "scanners")
	s.ok("trust-group", "remove", "scanners", roots[0].SHA256)
	s.fails(1, "no trust group is called", "trust-group", "show", "scanners")

	// A box outside the fleet: its request, checked before it goes out, and the
	// very file that it wants.
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write(t, at("pass"), "anchor chain")
	name := "crane.saltmere.tidewrack.example"
	s.ok("request", "make", "--name", name, "--organization", "Tidewrack Ferries", "--out", at("crane.csr"),
		"--key-out", at("crane.key"), "--passphrase-file", at("pass"))
	s.ok("request", "check", at("crane.csr"), "--name", name, "--organization", "Tidewrack Ferries")
	s.fails(3, "the request lacks the name crane", "request", "check", at("crane.csr"), "--name", name, "--name",
		"crane", "--organization", "Tidewrack Ferries")
	s.fails(3, "nobody can own example", "request", "check", at("crane.csr"), "--name", name, "--organization",
		"Tidewrack Ferries", "--public")
	signed := h.sign(at("crane.csr"))
	s.ok("pack", signed, h.chain(), at("crane.key"), "--passphrase-file", at("pass"), "--encoding", "pkcs12-old",
		"--key", "before", "--alias", "crane", "--new-passphrase-file", at("pass"), "--out", at("crane.pfx"))
	if text := must(t, "", "openssl", "pkcs12", "-in", at("crane.pfx"), "-legacy", "-nodes", "-passin",
		"pass:anchor chain"); strings.Count(text, "BEGIN CERTIFICATE") != 2 ||
		!strings.Contains(text, "friendlyName: crane") || !strings.Contains(text, "PRIVATE KEY") {
		t.Error(text)
	}
	s.fails(3, "passphrase is another", "inspect", at("crane.pfx"))
	if out := s.run("", "inspect", at("crane.pfx"), "--passphrase-file", at("pass"), "--as",
		"json"); !strings.Contains(out.stdout, "Harbour Issuing") {
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
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--fetch-issuers", "--fetch-from", "127.0.0.0/8")
	s.login()
	s.addSimulated(name, simulated(t, standin.Box{}), "correct horse")
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	s.await("r1", "waiting")
	parcel := filepath.Join(t.TempDir(), "out.zip")
	s.ok("parcel", "pack", "--signer", "desk", "--out", parcel)
	request := unpack(t, parcel)[0]
	extensions := write(t, filepath.Join(t.TempDir(), "ext"), "subjectAltName=DNS:"+name+
		"\nauthorityInfoAccess=caIssuers;URI:"+web.URL+"/sub.cer\nauthorityKeyIdentifier=keyid\n")
	leaf := filepath.Join(t.TempDir(), "leaf.pem")
	must(t, "", "openssl", "x509", "-req", "-in", request, "-CA", h.at("sub.pem"), "-CAkey", h.at("sub.key"), "-days",
		"90", "-extfile", extensions, "-out", leaf)
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
