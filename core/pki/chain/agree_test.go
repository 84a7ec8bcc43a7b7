package chain_test

import (
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"net"
	"testing"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/testkit"
)

// crypto/x509 is asked about hundreds of made-up hierarchies, with cross-signed,
// expired, limited and wrong authorities in them: what it finds valid is valid
// here, and nothing else is.
func TestWhatIsValidIsWhatCryptoX509FindsValid(t *testing.T) {
	const seed = 20261123
	random := rand.New(rand.NewPCG(seed, 1))
	one := func(in int) bool { return random.IntN(in) == 0 }
	fault := func(c *x509.Certificate) {
		switch random.IntN(14) {
		case 0:
			c.NotAfter = testkit.Now.AddDate(0, 0, -1)
		case 1:
			c.NotBefore = testkit.Now.AddDate(0, 0, 1)
		case 2:
			c.MaxPathLenZero = c.IsCA
		case 3:
			if c.IsCA {
				c.MaxPathLen = 1
			}
		case 4:
			if c.IsCA {
				c.PermittedDNSDomains, c.PermittedDNSDomainsCritical = []string{"tidewrack.example"}, true
			}
		case 5:
			if c.IsCA {
				c.ExcludedDNSDomains, c.PermittedDNSDomainsCritical = []string{"saltmere.tidewrack.example"}, true
			}
		case 6:
			if c.IsCA {
				_, quay, _ := net.ParseCIDR("192.0.2.0/24")
				c.PermittedIPRanges, c.PermittedDNSDomainsCritical = []*net.IPNet{quay}, true
			}
		case 7:
			if c.IsCA && one(2) {
				c.IsCA = false
			}
		case 8:
			if c.IsCA && one(2) {
				c.KeyUsage = x509.KeyUsageDigitalSignature
			}
		}
	}
	valid := 0
	const rounds = 400
	for round := range rounds {
		roots := []testkit.Signer{testkit.Root(t, "Root A"), testkit.Root(t, "Root B")}
		authorities := append([]testkit.Signer{}, roots...)
		var heap []*cert.Certificate
		for i := range 1 + random.IntN(5) {
			above := authorities[random.IntN(len(authorities))]
			var made testkit.Signer
			if one(4) && len(authorities) > 2 {
				made = above.Cross(t, authorities[2+random.IntN(len(authorities)-2)], fault)
			} else {
				made = above.Below(t, fmt.Sprintf("Issuing %d", i), fault)
			}
			authorities, heap = append(authorities, made), append(heap, made.Certificate)
		}
		leaf := authorities[random.IntN(len(authorities))].Leaf(t, "gate.mainquay.tidewrack.example", fault,
			func(c *x509.Certificate) {
				if one(3) {
					c.DNSNames = append(c.DNSNames, "gate.saltmere.tidewrack.example")
				}
				if one(4) {
					c.DNSNames = append(c.DNSNames, "gate.elsewhere.example")
				}
				if one(4) {
					c.IPAddresses = []net.IP{net.IPv4(192, 0, 2, 9)}
				}
				if one(6) {
					c.IPAddresses = []net.IP{net.IPv4(198, 51, 100, 9)}
				}
			})
		trusted := roots[:1+random.IntN(2)]
		options := x509.VerifyOptions{Roots: x509.NewCertPool(), Intermediates: x509.NewCertPool(),
			CurrentTime: testkit.Now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}}
		anchors := chain.NewPool()
		for _, r := range trusted {
			options.Roots.AddCert(r.X509())
			anchors.Add(r.Certificate)
		}
		for _, c := range heap {
			options.Intermediates.AddCert(c.X509())
		}
		random.Shuffle(len(heap), func(i, j int) { heap[i], heap[j] = heap[j], heap[i] })
		_, err := leaf.X509().Verify(options)
		path := chain.Complete(leaf.Certificate, chain.NewPool(heap...), anchors, testkit.Now)
		if got := chain.Valid(path, testkit.Now); got != (err == nil) {
			t.Errorf("seed %d, round %d: here valid is %v, and crypto/x509 says %v; the path has %d, %v", seed, round,
				got, err, len(path.Certificates), chain.Judge(path, chain.Terms{At: testkit.Now}))
		}
		if err == nil {
			valid++
		}
	}
	if valid < rounds/5 || valid > rounds*4/5 {
		t.Errorf("%d of %d are valid: the hierarchies show too little", valid, rounds)
	}
}
