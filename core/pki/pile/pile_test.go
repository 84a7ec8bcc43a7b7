package pile_test

import (
	"bytes"
	"compress/gzip"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshseal/core/pki/pile"
	"freshseal/core/testkit"
)

// material is one thing of each kind.
func material(t testing.TB) (leaf, root testkit.Signer, request, key []byte) {
	root = testkit.Root(t, "Quay Root")
	leaf = root.Leaf(t, "gate.tidewrack.example")
	request, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: "gate"}}, leaf.Key)
	if err != nil {
		t.Fatal(err)
	}
	if key, err = x509.MarshalPKCS8PrivateKey(leaf.Key); err != nil {
		t.Fatal(err)
	}
	return leaf, root, request, key
}

func TestAPileSaysWhatIsWrongAndKeepsNoKey(t *testing.T) {
	leaf, _, _, key := material(t)
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})
	accounts, err := pile.Sort([]pile.File{{"photo.cer", []byte("\x89PNG\r\n")}, {"k", text}, {"a", leaf.PEM()},
		{"b", leaf.Raw}}, pile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if note := accounts[0].Holds[0].Note; !strings.Contains(note, "picture") {
		t.Errorf("of a picture it says %q", note)
	}
	if item := accounts[1].Holds[0]; !strings.Contains(item.Note, "private key") ||
		strings.Contains(fmt.Sprintf("%+v", accounts), string(text[40:80])) {
		t.Errorf("of a key it says %+v", item)
	}
	if n := len(pile.Certificates(accounts)); n != 1 {
		t.Errorf("the same certificate counts %d times", n)
	}
	if keys := pile.Keys(accounts); len(keys) != 1 {
		t.Errorf("%d keys", len(keys))
	}
	if _, err := pile.Sort([]pile.File{{"big", make([]byte, pile.MaxBytes+1)}}, pile.Options{}); err == nil {
		t.Error("a pile over the limit is taken")
	}
}

// What was made to keep us busy is refused, and quickly: the test would not end.
func TestHostilePilesAreRefused(t *testing.T) {
	bomb := func(size int) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		for range size >> 20 {
			w.Write(make([]byte, 1<<20))
		}
		w.Close()
		return b.Bytes()
	}
	many := bytes.Repeat([]byte("-----BEGIN CERTIFICATE-----\nMAA=\n-----END CERTIFICATE-----\n"), 1_000_000)
	for name, content := range map[string][]byte{"a bomb": bomb(1 << 30), "a bomb in a bomb": gzipped(t, bomb(1<<28)),
		"a million certificates": many} {
		if _, err := pile.Sort([]pile.File{{name, content}}, pile.Options{}); !errors.Is(err, pile.ErrTooLarge) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// Reading what strict readers refuse takes long: a thousand are enough.
	odd, err := os.ReadFile(golden + "/odd-version-4.pem")
	if err != nil {
		t.Fatal(err)
	}
	accounts, err := pile.Sort([]pile.File{{"odd", bytes.Repeat(odd, 1100)}}, pile.Options{})
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[pile.Kind]int{}
	for _, item := range accounts[0].Holds {
		kinds[item.Kind]++
	}
	if kinds[pile.Certificate] != 1000 || kinds[pile.Junk] != 100 {
		t.Errorf("of 1100 odd certificates: %v", kinds)
	}
	// PKCS #12 whose MAC (RFC 7292, 4) asks for 2³¹-1 rounds.
	store, err := os.ReadFile(golden + "/pkcs12-with-passphrase.pfx")
	if err != nil {
		t.Fatal(err)
	}
	at := bytes.LastIndex(store, []byte{0x02, 0x02, 0x08, 0x00}) // INTEGER 2048, the last of the file
	hostile := append(slices.Clone(store[:at]), 0x02, 0x04, 0x7f, 0xff, 0xff, 0xff)
	hostile = grown(hostile, len(hostile)-len(store))
	accounts, err = pile.Sort([]pile.File{{"busy.pfx", hostile}}, pile.Options{Passphrases: []string{"anchor chain"}})
	if err != nil || !strings.Contains(told(accounts), "2147483647 rounds") {
		t.Errorf("%v\n%s", err, told(accounts))
	}
}

func gzipped(t *testing.T, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write(content); err != nil {
		t.Fatal(err)
	}
	w.Close()
	return b.Bytes()
}

// grown corrects the lengths of what encloses the end of a DER value that has
// become longer: the store, and its MacData.
func grown(der []byte, by int) []byte {
	for _, at := range []int{0, bytes.LastIndex(der[:len(der)-6], []byte{0x30, 0x41})} {
		switch {
		case at < 0:
		case der[at+1] == 0x82:
			n := int(der[at+2])<<8 | int(der[at+3]) + by
			der[at+2], der[at+3] = byte(n>>8), byte(n)
		case der[at+1] < 0x80-byte(by):
			der[at+1] += byte(by)
		}
	}
	return der
}

func FuzzSort(f *testing.F) {
	leaf, root, request, _ := material(f)
	f.Add(append(leaf.PEM(), root.PEM()...))
	f.Add(leaf.Raw)
	f.Add(request)
	files, err := filepath.Glob(golden + "/*")
	if err != nil {
		f.Fatal(err)
	}
	for _, file := range files {
		if content, err := os.ReadFile(file); err == nil && len(content) < 8<<10 {
			f.Add(content)
		}
	}
	f.Add([]byte("\xef\xbb\xbf-----BEGIN X-----\r"))
	f.Fuzz(func(t *testing.T, content []byte) {
		accounts, err := pile.Sort([]pile.File{{Content: content}}, pile.Options{})
		if err != nil && !errors.Is(err, pile.ErrTooLarge) || err == nil &&
			(len(accounts) == 0 || len(accounts[0].Holds) == 0) {
			t.Fatalf("%d accounts, error %v", len(accounts), err)
		}
	})
}
