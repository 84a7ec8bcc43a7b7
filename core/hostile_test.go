// Package core_test feeds every reader of foreign bytes with what was made to hurt it.
package core_test

import (
	"archive/zip"
	"bytes"
	"crypto/x509"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"math/rand"
	"regexp"
	"runtime"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/edit"
	"freshseal/core/language/procedure"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/inspect"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/pkcs12"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
)

// readers are those that take bytes from outside. Whether they refuse them or not,
// they come back.
var readers = map[string]func(content []byte){
	"cert": func(in []byte) { cert.Parse(in) },
	"pile": func(in []byte) {
		inspect.Files([]pile.File{{Name: "in", Content: in}},
			inspect.Terms{At: testkit.Now, Passphrases: []string{"anchor chain"}})
	},
	"request":   func(in []byte) { request.Parse(in) },
	"pkcs12":    func(in []byte) { pkcs12.Read(in, "anchor chain", pkcs12.NewEffort()) },
	"name":      func(in []byte) { cert.NameKey(in) },
	"procedure": func(in []byte) { procedure.Parse(in) },
	"edit": func(in []byte) {
		edit.Apply(in, []edit.Rule{{Set: "a", To: "b"}, {Replace: regexp.MustCompile(`(a*)*b`), By: "c"},
			{Line: "d", In: regexp.MustCompile(`\{$`)}, {Remove: regexp.MustCompile("e")}})
	},
}

// hostile are the inputs, of about n bytes each.
var hostile = map[string]func(t testing.TB, n int) []byte{
	// Deep.
	"deep DER, indefinite": func(_ testing.TB, n int) []byte { return bytes.Repeat([]byte{0x30, 0x80}, n/2) },
	"deep DER, long form":  func(_ testing.TB, n int) []byte { return nest(n, 0x30) },
	"deep octets":          func(_ testing.TB, n int) []byte { return nest(n, 0x24) },
	"deep flow":            text("a: ", "["),
	"deep mapping":         text("a: ", "{a: "),
	"deep list":            text("", "- "),
	"deep blocks":          func(_ testing.TB, n int) []byte { return stairs(n) },
	"deep braces":          text("", "a {\n"),
	"zip in zip in zip": func(t testing.TB, n int) []byte {
		return zipped(t, zipped(t, zipped(t, make([]byte, n))))
	},
	"signed data, deep": func(_ testing.TB, n int) []byte { return signedData(nest(n, 0x30)) },
	"signed data, in BER": func(_ testing.TB, n int) []byte {
		return signedData(bytes.Repeat([]byte{0x30, 0x80}, n/2))
	},
	// Wide.
	"wide sequence": func(_ testing.TB, n int) []byte { return tlv(0x30, bytes.Repeat([]byte{0x05, 0}, n/2)) },
	"wide set of names": func(_ testing.TB, n int) []byte {
		return tlv(0x30, bytes.Repeat(tlv(0x31, tlv(0x30, []byte{6, 3, 85, 4, 3, 12, 1, 'a'})), n/12))
	},
	"many keys":           text("", "a: b\n"),
	"many aliases":        text("a: &a [b]\nc: ", "[*a,*a,"),
	"many anchors":        text("", "&a "),
	"many documents":      text("", "---\n"),
	"many PEM blocks":     text("", "-----BEGIN CERTIFICATE-----\nMAA=\n-----END CERTIFICATE-----\n"),
	"many PEM beginnings": text("", "-----BEGIN CERTIFICATE-----\n"),
	"many boundaries": text("MIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=x\n\n",
		"--x\nContent-Type: application/pkix-cert\n\n\n"),
	"many names":       func(t testing.TB, n int) []byte { return names(t, n) },
	"many of one name": func(t testing.TB, n int) []byte { return oneName(t, n) },
	"many files":       func(t testing.TB, n int) []byte { return files(t, n) },
	// Long.
	"long line":            text("", "a"),
	"long line of slashes": text("", "/"),
	"long base64":          text("", "MAAA"),
	"long number": func(_ testing.TB, n int) []byte {
		return tlv(0x30, tlv(2, bytes.Repeat([]byte{0x7f}, n)))
	},
	"long identifier": func(_ testing.TB, n int) []byte {
		return tlv(0x30, tlv(6, bytes.Repeat([]byte{0xff}, n)))
	},
	"long header": func(_ testing.TB, n int) []byte {
		return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
			Headers: map[string]string{"a": strings.Repeat("b", n)}, Bytes: []byte{0x30, 0}})
	},
	"comments": text("", "#\n"),
	"blanks":   text("", " \n"),
	"combining characters": func(_ testing.TB, n int) []byte {
		return tlv(0x30,
			tlv(0x31, tlv(0x30, append([]byte{6, 3, 85, 4, 3}, tlv(12, bytes.Repeat([]byte("\u0301"), n/2))...))))
	},
	// Cyclic.
	"signed in a circle": func(t testing.TB, n int) []byte { return circle(t, n) },
	// Lying lengths.
	"length beyond the end": func(_ testing.TB, n int) []byte {
		return append([]byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff}, make([]byte, n)...)
	},
	"length of 2⁶³": func(_ testing.TB, n int) []byte {
		return append([]byte{0x30, 0x88, 0x7f, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, make([]byte, n)...)
	},
	"negative length": func(_ testing.TB, n int) []byte {
		return append([]byte{0x30, 0x88, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, make([]byte, n)...)
	},
	"zip that lies": func(t testing.TB, n int) []byte { return lying(t, n) },
	"noise": func(_ testing.TB, n int) []byte {
		out := make([]byte, n)
		rand.New(rand.NewSource(1)).Read(out)
		return out
	},
}

// The memory that a reader asks for, added up, grows with its input and not with the square of
// it, and no input takes a multiple of its size that would let a small file fill
// the machine. With -v the table is printed, with the time that each took.
func TestWhatWasMadeToHurtCostsItsSizeAtMost(t *testing.T) {
	for about, make := range hostile {
		inputs := map[int][]byte{}
		for _, n := range []int{small, small * more, smallText, smallText * more} {
			inputs[n] = make(t, n)
		}
		for name, read := range readers {
			n := size(name)
			small, large := inputs[n], inputs[n*more]
			a, _ := cost(func() { read(small) })
			b, took := cost(func() { read(large) })
			t.Logf("%-22s %-10s %6d kB in %6d kB taken, %5d kB for an eighth, %v", about, name, len(large)>>10, b>>10,
				a>>10, took.Round(time.Millisecond))
			if b > 3*more*a+(1<<20) {
				t.Errorf("%s: %s takes %d kB of memory for %d kB, and %d kB for %d kB", about, name, a>>10,
					len(small)>>10, b>>10, len(large)>>10)
			}
			if b > 300*uint64(len(large))+(8<<20) {
				t.Errorf("%s: %s takes %d MB of memory for %d kB", about, name, b>>20, len(large)>>10)
			}
		}
	}
}

// BenchmarkHostile prints the slowest input of each reader: how much longer eight
// times as much takes, against eight times the time.
func BenchmarkHostile(b *testing.B) {
	for name, read := range readers {
		n := size(name)
		b.Run(name, func(b *testing.B) {
			worst, input := 0.0, ""
			for b.Loop() {
				for about, make := range hostile {
					small, large := make(b, n), make(b, n*more)
					_, short := cost(func() { read(small) })
					_, long := cost(func() { read(large) })
					if ratio := float64(long) / float64(max(short, time.Millisecond)) / more; ratio > worst {
						worst, input = ratio, about
					}
				}
			}
			b.ReportMetric(worst, "x-linear")
			b.Log("slowest: ", input)
		})
	}
}

// Bytes of the small inputs; those of the large ones are within the limit of each reader.
const small, smallText, more = 64 << 10, 7 << 10, 8

func size(reader string) int {
	if reader == "procedure" {
		return smallText
	}
	return small
}

// cost is what a call allocates, added up, and how long it takes.
func cost(call func()) (bytes uint64, took time.Duration) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begun := time.Now()
	call()
	took = time.Since(begun)
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc, took
}

func text(start, again string) func(testing.TB, int) []byte {
	return func(_ testing.TB, n int) []byte { return []byte(start + strings.Repeat(again, max(n/len(again), 1))) }
}

// tlv is a DER value with a long length (X.690, 8.1.3.5).
func tlv(tag byte, content []byte) []byte {
	out := []byte{tag, 0x84, 0, 0, 0, 0}
	binary.BigEndian.PutUint32(out[2:], uint32(len(content)))
	return append(out, content...)
}

// nest is n bytes of values within values, with lengths that are right.
func nest(n int, tag byte) []byte {
	out := make([]byte, 0, n)
	for left := n - 6; left > 0; left -= 6 {
		out = binary.BigEndian.AppendUint32(append(out, tag, 0x84), uint32(left))
	}
	return out
}

func stairs(n int) []byte {
	var out bytes.Buffer
	for i := 0; out.Len() < n; i++ {
		out.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return out.Bytes()
}

// signedData is PKCS #7 (RFC 5652, 5.1) with the content as its certificates.
func signedData(content []byte) []byte {
	id := []byte{6, 9, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0xd, 1, 7, 2}
	inner := append([]byte{2, 1, 1, 0x31, 0, 0x30, 0xb, 6, 9, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0xd, 1, 7, 1},
		tlv(0xa0, content)...)
	return tlv(0x30, append(id, tlv(0xa0, tlv(0x30, append(inner, 0x31, 0)))...))
}

func zipped(t testing.TB, content []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	f, err := w.Create("in")
	if err == nil {
		_, err = f.Write(content)
	}
	if err != nil || w.Close() != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func files(t testing.TB, n int) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for i := range n / 120 {
		if _, err := w.Create(fmt.Sprintf("%08d", i)); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	return out.Bytes()
}

// lying is an archive whose directory says that its file has 4 GB.
func lying(t testing.TB, n int) []byte {
	out := zipped(t, make([]byte, n))
	if at := bytes.LastIndex(out, []byte("PK\x01\x02")); at >= 0 {
		binary.LittleEndian.PutUint32(out[at+24:], 0xfffffffe)
	}
	return append(out, make([]byte, n)...)
}

// names is a certificate with as many names as go into a third of n bytes.
func names(t testing.TB, n int) []byte {
	var all []string
	for i := range n / 90 {
		all = append(all, fmt.Sprintf("box-%08d.tidewrack.example", i))
	}
	return testkit.Root(t, "Quay Root").Leaf(t, "box", func(c *x509.Certificate) { c.DNSNames = all }).Raw
}

// oneName are authorities of one name that all could have signed the leaf.
func oneName(t testing.TB, n int) []byte {
	root := testkit.Root(t, "Quay Root")
	out := root.Below(t, "Quay Issuing").Leaf(t, "box").PEM()
	for len(out) < n {
		out = append(out, root.Below(t, "Quay Issuing").PEM()...)
	}
	return out
}

// circle are authorities each of which is signed by the one before it, and the
// first by the last.
func circle(t testing.TB, n int) []byte {
	first := testkit.Root(t, "Quay 0")
	at, out := first, []byte(nil)
	for i := 1; len(out) < n; i++ {
		at = at.Below(t, fmt.Sprint("Quay ", i))
		out = append(out, at.PEM()...)
	}
	out = append(out, at.Cross(t, first).PEM()...)
	return append(out, at.Leaf(t, "box").PEM()...)
}
