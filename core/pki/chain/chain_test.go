package chain_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/testkit"
)

func codes(found []finding.Finding) []finding.Code {
	out := []finding.Code{}
	for _, f := range found {
		out = append(out, f.Code)
	}
	return out
}

func TestAPathIsFoundInAHeapWhateverItsOrder(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	upper := root.Below(t, "Quay Upper")
	lower := upper.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example")
	stranger := testkit.Root(t, "Quay Lower") // the same name, another key
	strangersLower := stranger.Below(t, "Quay Upper")
	heap := []*cert.Certificate{upper.Certificate, lower.Certificate, root.Certificate, stranger.Certificate,
		strangersLower.Certificate, lower.Certificate}
	for range 20 {
		rand.Shuffle(len(heap), func(i, j int) { heap[i], heap[j] = heap[j], heap[i] })
		path := chain.Complete(leaf.Certificate, chain.NewPool(heap...), chain.NewPool(root.Certificate), testkit.Now)
		want := []string{leaf.SHA256, lower.SHA256, upper.SHA256, root.SHA256}
		if !path.Anchored || !slices.Equal(path.Fingerprints(), want) {
			t.Fatalf("path of %d, anchored %v", len(path.Certificates), path.Anchored)
		}
	}
}

func TestOfTwoCrossSignedPathsTheOneIsTakenThatIsTrustedAndValid(t *testing.T) {
	oldRoot := testkit.Root(t, "Old Root")
	newRoot := testkit.Root(t, "New Root")
	expired := func(c *x509.Certificate) { c.NotAfter = testkit.Now.AddDate(0, 0, -1) }
	cross := oldRoot.Cross(t, newRoot)
	issuing := newRoot.Below(t, "Issuing")
	leaf := issuing.Leaf(t, "gate.tidewrack.example")
	pool := chain.NewPool(cross.Certificate, issuing.Certificate, newRoot.Certificate, oldRoot.Certificate)

	viaOld := chain.Complete(leaf.Certificate, pool, chain.NewPool(oldRoot.Certificate), testkit.Now)
	if want := []string{leaf.SHA256, issuing.SHA256, cross.SHA256,
		oldRoot.SHA256}; !slices.Equal(viaOld.Fingerprints(), want) {
		t.Errorf("clients that hold the old root alone get a path of %d", len(viaOld.Certificates))
	}
	viaNew := chain.Complete(leaf.Certificate, pool, chain.NewPool(oldRoot.Certificate, newRoot.Certificate),
		testkit.Now)
	if viaNew.Root().SHA256 != newRoot.SHA256 {
		t.Error("the shorter way to the new root was not taken")
	}
	expiredCross := oldRoot.Cross(t, newRoot, expired)
	both := chain.NewPool(expiredCross.Certificate, cross.Certificate, issuing.Certificate)
	sound := chain.Complete(leaf.Certificate, both, chain.NewPool(oldRoot.Certificate), testkit.Now)
	if !chain.Valid(sound, testkit.Now) {
		t.Error("the path over the expired certificate was taken although a sound one is there")
	}
}

func TestAMissingIntermediateIsNamed(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	lower := root.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example", func(c *x509.Certificate) {
		c.IssuingCertificateURL = []string{"http://pki.tidewrack.example/lower.cer"}
	})
	path := chain.Complete(leaf.Certificate, chain.NewPool(root.Certificate), chain.NewPool(root.Certificate),
		testkit.Now)
	if path.Complete || path.Missing == nil {
		t.Fatal("a path with a hole is called complete")
	}
	if m := *path.Missing; m.Subject != "CN=Quay Lower" || m.KeyID != fmt.Sprintf("%x", lower.SubjectKeyId) ||
		len(m.URLs) != 1 {
		t.Errorf("missing: %v", m)
	}
	if want := fmt.Sprintf("“CN=Quay Lower” with key identifier %x (the certificate says it is at "+
		"http://pki.tidewrack.example/lower.cer)", lower.SubjectKeyId); path.Missing.String() != want {
		t.Errorf("it is told as %s", path.Missing)
	}
	if got := codes(chain.Judge(path, chain.Terms{At: testkit.Now})); !slices.Equal(got,
		[]finding.Code{finding.ChainIncomplete}) {
		t.Errorf("findings %v", got)
	}
}

func TestEachFaultOfAPathIsFound(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	other := testkit.Root(t, "Other Root")
	const name = "gate.tidewrack.example"
	cases := []struct {
		name     string
		build    func() (leaf testkit.Signer, pool []testkit.Signer)
		terms    chain.Terms
		want     []finding.Code
		notValid bool
	}{
		{"a good chain has no finding", func() (testkit.Signer, []testkit.Signer) { return root.Leaf(t, name), nil },
			chain.Terms{Names: []string{name}}, nil, false},
		{"a name that people use is missing", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name), nil
		},
			chain.Terms{Names: []string{name, "gate"}}, []finding.Code{finding.NameMissing}, false},
		{"the common name alone does not count", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) { c.DNSNames = nil }), nil
		}, chain.Terms{Names: []string{name}}, []finding.Code{finding.CommonNameOnly}, false},
		{"the common name is another one", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) {
				c.Subject.CommonName = "elsewhere.tidewrack.example"
			}), nil
		}, chain.Terms{Names: []string{name}}, []finding.Code{finding.CommonNameElse}, false},
		{"the leaf is for another key", func() (testkit.Signer, []testkit.Signer) { return root.Leaf(t, name), nil },
			chain.Terms{SPKI: other.RawSubjectPublicKeyInfo}, []finding.Code{finding.KeyDiffers}, false},
		{"the root is not trusted", func() (testkit.Signer, []testkit.Signer) {
			return other.Leaf(t, name), []testkit.Signer{other}
		},
			chain.Terms{}, []finding.Code{finding.AnchorUnknown}, true},
		{"the leaf has expired", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) { c.NotAfter = testkit.Now.AddDate(0, 0, -1) }), nil
		}, chain.Terms{}, []finding.Code{finding.Expired}, true},
		{"it is for clients, not servers", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) {
				c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
			}), nil
		}, chain.Terms{}, []finding.Code{finding.UsageWrong}, true},
		{"it is for servers alone, and the device is a client too", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) {
				c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
			}), nil
		}, chain.Terms{Client: true}, []finding.Code{finding.UsageWrong}, false},
		{"it is for both, and its issuer for servers alone", func() (testkit.Signer, []testkit.Signer) {
			web := root.Below(t, "Web", func(c *x509.Certificate) {
				c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
			})
			return web.Leaf(t, name, func(c *x509.Certificate) {
				c.ExtKeyUsage = append(c.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
			}), []testkit.Signer{web}
		}, chain.Terms{Client: true}, []finding.Code{finding.UsageWrong}, false},
		{"it is for both", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) {
				c.ExtKeyUsage = append(c.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
			}), nil
		}, chain.Terms{Client: true}, nil, false},
		{"a leaf signed another leaf", func() (testkit.Signer, []testkit.Signer) {
			bad := root.Leaf(t, "printer.tidewrack.example")
			return bad.Leaf(t, name), []testkit.Signer{bad}
		}, chain.Terms{}, []finding.Code{finding.NotAuthority, finding.NotAuthority}, true},
		{"there are more intermediates than allowed", func() (testkit.Signer, []testkit.Signer) {
			tight := root.Below(t, "Tight", func(c *x509.Certificate) { c.MaxPathLenZero = true })
			below := tight.Below(t, "Below")
			return below.Leaf(t, name), []testkit.Signer{tight, below}
		}, chain.Terms{}, []finding.Code{finding.PathTooLong}, true},
		{"an authority may not sign for the name", func() (testkit.Signer, []testkit.Signer) {
			ship := root.Below(t, "Ship", func(c *x509.Certificate) {
				c.PermittedDNSDomains = []string{"petrel.tidewrack.example"}
			})
			return ship.Leaf(t, name), []testkit.Signer{ship}
		}, chain.Terms{}, []finding.Code{finding.NameNotAllowed}, true},
		{"a strict reader refuses the leaf", func() (testkit.Signer, []testkit.Signer) {
			leaf := root.Leaf(t, name)
			odd, err := cert.Parse(root.Odd(t, leaf.Raw, []byte{0xa0, 3, 2, 1, 2}, []byte{0xa0, 3, 2, 1, 3}))
			if err != nil {
				t.Fatal(err)
			}
			return testkit.Signer{Certificate: odd, Key: leaf.Key}, nil
		}, chain.Terms{Names: []string{name}}, []finding.Code{finding.Malformed}, false},
		{"the key may not sign a handshake", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyAgreement }), nil
		}, chain.Terms{}, []finding.Code{finding.UsageWrong}, false},
		{"a server that may sign certificates", func() (testkit.Signer, []testkit.Signer) {
			return root.Leaf(t, name, func(c *x509.Certificate) {
				c.IsCA, c.KeyUsage = true, c.KeyUsage|x509.KeyUsageCertSign
			}), nil
		}, chain.Terms{}, []finding.Code{finding.AuthorityMarked}, false},
		{"the intermediate is for mail", func() (testkit.Signer, []testkit.Signer) {
			mail := root.Below(t, "Mail", func(c *x509.Certificate) {
				c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageEmailProtection}
			})
			return mail.Leaf(t, name), []testkit.Signer{mail}
		}, chain.Terms{}, []finding.Code{finding.UsageWrong}, false},
		{"the authority wants a policy named", func() (testkit.Signer, []testkit.Signer) {
			strict := root.Below(t, "Strict", func(c *x509.Certificate) {
				c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 36}, Critical: true,
					Value: []byte{0x30, 3, 0x80, 1, 0}}}
			})
			return strict.Leaf(t, name), []testkit.Signer{strict}
		}, chain.Terms{}, []finding.Code{finding.PolicyMissing}, false},
		{"nobody can look up whether it was revoked", func() (testkit.Signer, []testkit.Signer) {
			listed := root.Below(t, "Listed", func(c *x509.Certificate) {
				c.CRLDistributionPoints = []string{"http://ca.harbour.example/list"}
			})
			return listed.Leaf(t, name), []testkit.Signer{listed}
		}, chain.Terms{}, []finding.Code{finding.NoRevocation}, false},
		{"an intermediate ends before the leaf", func() (testkit.Signer, []testkit.Signer) {
			short := root.Below(t, "Short", func(c *x509.Certificate) { c.NotAfter = testkit.Now.AddDate(0, 0, 3) })
			return short.Leaf(t, name), []testkit.Signer{short}
		}, chain.Terms{}, []finding.Code{finding.IssuerEndsFirst}, false},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			leaf, pool := c.build()
			heap := chain.NewPool()
			for _, p := range pool {
				heap.Add(p.Certificate)
			}
			c.terms.At = testkit.Now
			path := chain.Complete(leaf.Certificate, heap, chain.NewPool(root.Certificate), testkit.Now)
			if got := codes(chain.Judge(path, c.terms)); !slices.Equal(got, append([]finding.Code{}, c.want...)) {
				t.Errorf("findings %v, want %v", got, c.want)
			}
			if got := chain.Valid(path, testkit.Now); got == c.notValid {
				t.Errorf("valid %v", got)
			}
		})
	}
}

func TestWhatABoxServesIsComparedWithThePath(t *testing.T) {
	root := testkit.Root(t, "Quay Root")
	upper := root.Below(t, "Quay Upper")
	lower := upper.Below(t, "Quay Lower")
	leaf := lower.Leaf(t, "gate.tidewrack.example")
	extra := testkit.Root(t, "Extra")
	path := chain.Complete(leaf.Certificate, chain.NewPool(upper.Certificate, lower.Certificate),
		chain.NewPool(root.Certificate), testkit.Now)
	for _, c := range []struct {
		served []testkit.Signer
		want   []finding.Code
	}{
		{[]testkit.Signer{leaf, lower, upper}, []finding.Code{}},
		{[]testkit.Signer{leaf, lower, upper, root}, []finding.Code{finding.RootServed}},
		{[]testkit.Signer{leaf, lower}, []finding.Code{finding.ChainNotServed}},
		{[]testkit.Signer{leaf, upper, lower}, []finding.Code{finding.ChainOrder}},
		{[]testkit.Signer{leaf, lower, upper, extra}, []finding.Code{finding.ChainSurplus}},
	} {
		var served []*cert.Certificate
		for _, s := range c.served {
			served = append(served, s.Certificate)
		}
		if got := codes(chain.Served(path, served)); !slices.Equal(got, c.want) {
			t.Errorf("%d served: findings %v, want %v", len(served), got, c.want)
		}
	}
}

// BenchmarkComplete prints how long completing and judging a chain takes
// against the floor: parsing the leaf and checking its one signature.
func BenchmarkComplete(b *testing.B) {
	root := testkit.Root(b, "Quay Root")
	lower := root.Below(b, "Quay Lower")
	pool, anchors := chain.NewPool(lower.Certificate), chain.NewPool(root.Certificate)
	var leaves [][]byte
	for i := range 200 {
		leaves = append(leaves, lower.Leaf(b, fmt.Sprintf("box-%d.tidewrack.example", i)).Raw)
	}
	begun := time.Now()
	for _, der := range leaves {
		c, err := cert.Parse(der)
		if err != nil || c.SignedBy(lower.Certificate) != nil {
			b.Fatal("the leaf does not hold")
		}
	}
	floor := float64(time.Since(begun)) / float64(len(leaves))
	b.ResetTimer()
	for i := range b.N {
		if i%len(leaves) == 0 {
			pool = chain.NewPool(lower.Certificate) // forgets what it knows of the leaves
		}
		c, err := cert.Parse(leaves[i%len(leaves)])
		if err != nil {
			b.Fatal(err)
		}
		path := chain.Complete(c, pool, anchors, testkit.Now)
		if len(chain.Judge(path, chain.Terms{At: testkit.Now})) > 0 {
			b.Fatal("the chain is not good")
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/floor, "x-parse-and-signature")
}

// A whole pile comes back: every leaf is read, found by its key among the
// requests, completed and judged. The floor is parsing each and checking one
// signature; the second run has fifty authorities of one name and different keys.
func BenchmarkPile(b *testing.B) {
	root := testkit.Root(b, "Quay Root")
	for _, run := range []struct {
		name        string
		authorities int
		subject     func(i int) string
	}{
		{"3-intermediates", 3, func(i int) string { return fmt.Sprintf("Quay Issuing %d", i) }},
		{"50-of-one-name", 50, func(int) string { return "Quay Issuing" }},
	} {
		b.Run(run.name, func(b *testing.B) {
			const leaves = 10_000
			var signers []testkit.Signer
			var text []byte
			for i := range run.authorities {
				signers = append(signers, root.Below(b, run.subject(i)))
				text = append(text, signers[i].PEM()...)
			}
			waiting := map[string]int{} // requests by their key
			var ders [][]byte
			for i := range leaves {
				leaf := signers[i%len(signers)].Leaf(b, fmt.Sprintf("box-%d.tidewrack.example", i))
				waiting[cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)] = i
				ders = append(ders, leaf.Raw)
				text = append(text, leaf.PEM()...)
			}
			for b.Loop() {
				b.StopTimer()
				begun := time.Now()
				for i, der := range ders {
					c, err := cert.Parse(der)
					if err != nil || c.SignedBy(signers[i%len(signers)].Certificate) != nil {
						b.Fatal("the leaf does not hold")
					}
				}
				floor := time.Since(begun)
				b.StartTimer()
				begun = time.Now()
				if n := takeIn(b, text, root, waiting); n != leaves {
					b.Fatalf("%d of %d leaves are good", n, leaves)
				}
				took := time.Since(begun)
				b.ReportMetric(float64(took.Microseconds())/leaves, "µs/certificate")
				b.ReportMetric(float64(took)/float64(floor), "x-parse-and-signature")
			}
		})
	}
}

// takeIn counts the leaves of a pile that answer a request and are good.
func takeIn(b *testing.B, text []byte, root testkit.Signer, waiting map[string]int) int {
	accounts, err := pile.Sort([]pile.File{{Content: text}}, pile.Options{})
	if err != nil {
		b.Fatal(err)
	}
	pool, anchors := chain.NewPool(), chain.NewPool(root.Certificate)
	all := pile.Certificates(accounts)
	for _, c := range all {
		if c.IsAuthority() {
			pool.Add(c)
		}
	}
	good := 0
	for _, c := range all {
		if _, ok := waiting[cert.Fingerprint(c.RawSubjectPublicKeyInfo)]; !ok {
			continue
		}
		path := chain.Complete(c, pool, anchors, testkit.Now)
		if len(chain.Judge(path, chain.Terms{At: testkit.Now, SPKI: c.RawSubjectPublicKeyInfo})) == 0 {
			good++
		}
	}
	return good
}
