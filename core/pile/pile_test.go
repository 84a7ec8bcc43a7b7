package pile_test

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"slices"
	"strings"
	"testing"

	"freshseal/core/pile"
	"freshseal/core/testkit"
)

func kinds(a pile.Account) []pile.Kind {
	var out []pile.Kind
	for _, item := range a.Holds {
		out = append(out, item.Kind)
	}
	return out
}

// material is one thing of each kind.
func material(t testing.TB) (leaf, root testkit.Signer, request, key []byte) {
	root = testkit.Root(t, "Quay Root")
	leaf = root.Leaf(t, "gate.tidewrack.example")
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "gate"}}, leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	if key, err = x509.MarshalPKCS8PrivateKey(leaf.Key); err != nil {
		t.Fatal(err)
	}
	return leaf, root, request, key
}

func TestFilesAreKnownByWhatTheyHold(t *testing.T) {
	leaf, root, request, key := material(t)
	two := append(leaf.PEM(), root.PEM()...)
	crlf := bytes.ReplaceAll(two, []byte("\n"), []byte("\r\n"))
	cr := bytes.ReplaceAll(two, []byte("\n"), []byte("\r"))
	c, r := pile.Certificate, pile.Request
	for _, each := range []struct {
		name    string
		content []byte
		want    []pile.Kind
	}{
		{"two.pem", two, []pile.Kind{c, c}},
		{"windows.txt", crlf, []pile.Kind{c, c}},
		{"old mac.crt", cr, []pile.Kind{c, c}},
		{"bom.pem", append([]byte("\xef\xbb\xbf"), crlf...), []pile.Kind{c, c}},
		{"mail.txt", []byte("Dear colleague,\n\nhere it is:\n" + string(leaf.PEM()) + "\nRegards\n" + string(root.PEM()) + "\n-- \nThe desk"), []pile.Kind{c, c}},
		{"certnew(2).cer", leaf.Raw, []pile.Kind{c}},
		{"both.der", append(slices.Clone(leaf.Raw), root.Raw...), []pile.Kind{c, c}},
		{"csr.der", request, []pile.Kind{r}},
		{"csr.pem", pem.EncodeToMemory(&pem.Block{Type: "NEW CERTIFICATE REQUEST", Bytes: request}), []pile.Kind{r}},
		{"key.pem", append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), leaf.PEM()...), []pile.Kind{pile.Key, c}},
		{"cut.pem", two[:len(two)-60], []pile.Kind{c, pile.Junk}},
		{"empty", nil, []pile.Kind{pile.Junk}},
		{"photo.cer", []byte("\x89PNG\r\n\x1a\n\x00\x00"), []pile.Kind{pile.Junk}},
	} {
		accounts, err := pile.Sort([]pile.File{{Name: each.name, Content: each.content}})
		if err != nil {
			t.Fatal(err)
		}
		if got := kinds(accounts[0]); !slices.Equal(got, each.want) {
			t.Errorf("%s holds %v, want %v", each.name, got, each.want)
		}
	}
}

func TestAPileSaysWhatIsWrongAndKeepsNoKey(t *testing.T) {
	leaf, _, _, key := material(t)
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	accounts, err := pile.Sort([]pile.File{{"photo.cer", []byte("\x89PNG\r\n")}, {"k", text}, {"a", leaf.PEM()}, {"b", leaf.Raw}})
	if err != nil {
		t.Fatal(err)
	}
	if note := accounts[0].Holds[0].Note; !strings.Contains(note, "picture") {
		t.Errorf("of a picture it says %q", note)
	}
	if item := accounts[1].Holds[0]; !strings.Contains(item.Note, "private key") || item.SHA256 != "" {
		t.Errorf("of a key it says %+v", item)
	}
	if n := len(pile.Certificates(accounts)); n != 1 {
		t.Errorf("the same certificate counts %d times", n)
	}
	if _, err := pile.Sort([]pile.File{{"big", make([]byte, pile.MaxBytes+1)}}); err == nil {
		t.Error("a pile over the limit is taken")
	}
}

func FuzzSort(f *testing.F) {
	leaf, root, request, _ := material(f)
	f.Add(append(leaf.PEM(), root.PEM()...))
	f.Add(leaf.Raw)
	f.Add(request)
	f.Add([]byte("\xef\xbb\xbf-----BEGIN X-----\r"))
	f.Fuzz(func(t *testing.T, content []byte) {
		accounts, err := pile.Sort([]pile.File{{Content: content}})
		if err != nil || len(accounts) != 1 || len(accounts[0].Holds) == 0 {
			t.Fatalf("%d accounts, error %v", len(accounts), err)
		}
	})
}
