package chain_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"net"
	"net/url"
	"slices"
	"testing"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/testkit"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// directory is a name of one organization and, where given, one unit in it.
func directory(t *testing.T, o string, unit ...string) []byte {
	t.Helper()
	raw, err := asn1.Marshal(pkix.Name{Organization: []string{o}, OrganizationalUnit: unit}.ToRDNSequence())
	if err != nil {
		t.Fatal(err)
	}
	return raw
}

// subtrees is the extension with one permitted or excluded GeneralName.
func subtrees(t *testing.T, excluded bool, kind tags.Tag, value []byte) pkix.Extension {
	t.Helper()
	side := tags.Tag(0)
	if excluded {
		side = 1
	}
	var b cryptobyte.Builder
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1(side.Constructed().ContextSpecific(), func(b *cryptobyte.Builder) {
			b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
				b.AddASN1(kind, func(b *cryptobyte.Builder) { b.AddBytes(value) })
			})
		})
	})
	der, err := b.Bytes()
	if err != nil {
		t.Fatal(err)
	}
	return pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 30}, Critical: true, Value: der}
}

// A case for each sentence of RFC 5280, section 4.2.1.10. Above the leaf stand an
// authority with constraints and an intermediate of the organization Tidewrack.
func TestNameConstraintsAsTheStandardSays(t *testing.T) {
	const host = "gate.tidewrack.example"
	mail, dns, uri, dir := tags.Tag(1).ContextSpecific(), tags.Tag(2).ContextSpecific(),
		tags.Tag(6).ContextSpecific(), tags.Tag(4).ContextSpecific().Constructed()
	text := func(s string) []byte { return []byte(s) }
	address := func(raw string) testkit.Change { return func(c *x509.Certificate) { c.EmailAddresses = []string{raw} } }
	at := func(raw string) testkit.Change {
		return func(c *x509.Certificate) {
			u, err := url.Parse(raw)
			if err != nil {
				t.Fatal(err)
			}
			c.URIs = []*url.URL{u}
		}
	}
	of := func(o string, unit ...string) testkit.Change {
		return func(c *x509.Certificate) { c.Subject = pkix.Name{Organization: []string{o}, OrganizationalUnit: unit} }
	}
	plain := func(*x509.Certificate) {}
	for _, c := range []struct {
		about      string
		constraint pkix.Extension
		leaf       testkit.Change
		allowed    bool
	}{
		{"DNS: labels added to the left", subtrees(t, false, dns, text("tidewrack.example")), plain, true},
		{"DNS: the name itself", subtrees(t, false, dns, text(host)), plain, true},
		{"DNS: not part of a label", subtrees(t, false, dns, text("wrack.example")), plain, false},
		{"DNS: excluded, whatever is permitted", subtrees(t, true, dns, text("example")), plain, false},
		{"a kind of name that the leaf has not", subtrees(t, false, mail, text("harbour.example")), plain, true},
		{"mail: all mailboxes of a host", subtrees(t, false, mail, text("tidewrack.example")),
			address("keeper@TIDEWRACK.example"), true},
		{"mail: a host is not its domain", subtrees(t, false, mail, text("tidewrack.example")),
			address("keeper@mail.tidewrack.example"), false},
		{"mail: a period means the domain below", subtrees(t, false, mail, text(".tidewrack.example")),
			address("keeper@mail.tidewrack.example"), true},
		{"mail: and not the host itself", subtrees(t, false, mail, text(".tidewrack.example")),
			address("keeper@tidewrack.example"), false},
		{"mail: one mailbox", subtrees(t, false, mail, text("keeper@tidewrack.example")),
			address("keeper@tidewrack.example"), true},
		{"mail: another mailbox", subtrees(t, false, mail, text("keeper@tidewrack.example")),
			address("mate@tidewrack.example"), false},
		{"mail: excluded", subtrees(t, true, mail, text("tidewrack.example")), address("keeper@tidewrack.example"),
			false},
		{"URI: one host", subtrees(t, false, uri, text("gate.tidewrack.example")),
			at("https://gate.tidewrack.example/x"), true},
		{"URI: a host is not its domain", subtrees(t, false, uri, text("tidewrack.example")),
			at("https://gate.tidewrack.example/x"), false},
		{"URI: a period means the domain below", subtrees(t, false, uri, text(".tidewrack.example")),
			at("https://gate.tidewrack.example:8443/"), true},
		{"URI: and not the domain itself", subtrees(t, false, uri, text(".tidewrack.example")),
			at("https://tidewrack.example/"), false},
		{"URI: without a host name it is refused", subtrees(t, false, uri, text(".tidewrack.example")),
			at("urn:tidewrack"), false},
		{"URI: an address is refused", subtrees(t, true, uri, text("other.example")), at("https://192.0.2.1/"), false},
		{"URI: excluded", subtrees(t, true, uri, text("gate.tidewrack.example")),
			at("https://gate.tidewrack.example/x"), false},
		{"directory: the beginning of the subject", subtrees(t, false, dir, directory(t, "Tidewrack")),
			of("TIDEWRACK", "Gates"), true},
		{"directory: another organization", subtrees(t, false, dir, directory(t, "Tidewrack")), of("Harbour"), false},
		{"directory: the subject is shorter", subtrees(t, false, dir, directory(t, "Tidewrack", "Gates")),
			of("Tidewrack"), false},
		{"directory: excluded", subtrees(t, true, dir, directory(t, "Tidewrack", "Gates")), of("Tidewrack", "gates"),
			false},
		{"directory: an empty subject is not constrained", subtrees(t, true, dir, directory(t, "Harbour")),
			func(c *x509.Certificate) {
				c.Subject = pkix.Name{}
			}, true},
		{"a kind that is not read here stays an unknown rule", subtrees(t, false, tags.Tag(8).ContextSpecific(),
			[]byte{0x2a, 3}), plain, false},
	} {
		root := testkit.Root(t, "Root")
		bound := root.Below(t, "Bound", func(x *x509.Certificate) {
			x.ExtraExtensions = []pkix.Extension{c.constraint}
		})
		middle := bound.Below(t, "Middle", of("Tidewrack"))
		leaf := middle.Leaf(t, host, c.leaf)
		if found := judged(t, root, leaf, bound, middle); (len(found) == 0) != c.allowed {
			t.Errorf("%s: %v", c.about, found)
		}
	}
}

func judged(t *testing.T, root, leaf testkit.Signer, middle ...testkit.Signer) []finding.Code {
	t.Helper()
	pool, anchors := chain.NewPool(root.Certificate), chain.NewPool(root.Certificate)
	for _, m := range middle {
		pool.Add(m.Certificate)
	}
	path := chain.Complete(leaf.Certificate, pool, anchors, testkit.Now)
	if !path.Complete {
		t.Fatalf("no path: %v", path.Missing)
	}
	var codes []finding.Code
	for _, f := range chain.Judge(path, chain.Terms{At: testkit.Now}) {
		if f.Code == finding.NameNotAllowed || f.Code == finding.UnknownRule {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// Constraints are not applied to self-issued intermediates, but to a leaf of the
// same name as its issuer; and they reach through intermediates.
func TestConstraintsAndSelfIssuedCertificates(t *testing.T) {
	root := testkit.Root(t, "Root")
	only := func(o string) testkit.Change {
		return func(c *x509.Certificate) {
			c.ExtraExtensions = []pkix.Extension{subtrees(t, false, tags.Tag(4).ContextSpecific().Constructed(),
				directory(t, o))}
		}
	}
	named := func(o string) testkit.Change {
		return func(c *x509.Certificate) { c.Subject = pkix.Name{Organization: []string{o}} }
	}
	bound := root.Below(t, "x", named("Harbour"), only("Tidewrack"))
	rolled := bound.Below(t, "x", named("HARBOUR")) // a new key under the same name
	if found := judged(t, root, rolled.Leaf(t, "a.example", named("Tidewrack")), bound, rolled); len(found) > 0 {
		t.Errorf("a self-issued intermediate is constrained: %v", found)
	}
	if found := judged(t, root, rolled.Leaf(t, "a.example", named("Harbour")), bound, rolled); !slices.Contains(found,
		finding.NameNotAllowed) {
		t.Error("a leaf of its issuer's name is not constrained")
	}
	other := bound.Below(t, "x", named("Elsewhere"))
	if found := judged(t, root, other.Leaf(t, "a.example", named("Tidewrack")), bound, other); !slices.Contains(found,
		finding.NameNotAllowed) {
		t.Error("an intermediate of a name that is not permitted is accepted")
	}
	ranged := root.Below(t, "Ranged", func(c *x509.Certificate) {
		c.PermittedIPRanges = []*net.IPNet{{IP: net.IPv4(192, 0, 2, 0).To4(), Mask: net.CIDRMask(24, 32)}}
	})
	for ip, ok := range map[string]bool{"192.0.2.9": true, "198.51.100.9": false} {
		leaf := ranged.Leaf(t, "a.example", func(c *x509.Certificate) { c.IPAddresses = []net.IP{net.ParseIP(ip)} })
		if found := judged(t, root, leaf, ranged); (len(found) == 0) != ok {
			t.Errorf("%s: %v", ip, found)
		}
	}
}

// Names that differ in case, blanks and string type chain all the same.
func TestAChainByNamesThatAreEqualAndNotTheSame(t *testing.T) {
	root := testkit.Root(t, "Tidewrack Root")
	leaf := root.Leaf(t, "gate.tidewrack.example")
	odd := root.Odd(t, leaf.Raw, []byte("Tidewrack Root"), []byte("TIDEWRACK ROOT"))
	accounts := parsedCert(t, odd)
	path := chain.Complete(accounts, chain.NewPool(root.Certificate), chain.NewPool(root.Certificate), testkit.Now)
	if !path.Anchored {
		t.Errorf("the issuer is not found: %v", path.Missing)
	}
}

func parsedCert(t *testing.T, der []byte) *cert.Certificate {
	t.Helper()
	c, err := cert.Parse(der)
	if err != nil {
		t.Fatal(err)
	}
	return c
}
