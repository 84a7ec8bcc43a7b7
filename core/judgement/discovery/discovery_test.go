package discovery_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"freshseal/core/judgement/discovery"
	"freshseal/core/pki/cert"
	"freshseal/core/testkit"
)

func usual(int) string { return "tls" }

func targets(p discovery.Plan, from int) (out []string) {
	for n, t := range p.From(from) {
		if n != from+len(out) {
			out = append(out, fmt.Sprintf("%d is out of its place", n))
		}
		out = append(out, fmt.Sprintf("%s %d", t.Address, t.Number))
	}
	return out
}

func TestAPlanIsWhatWasAskedForAndNoMore(t *testing.T) {
	for _, c := range []struct {
		ranges, except, ports string
		want                  string // targets, or a part of the error
	}{
		{"192.0.2.0/30", "", "443", "192.0.2.0 443,192.0.2.1 443,192.0.2.2 443,192.0.2.3 443"},
		{"192.0.2.3/30", "192.0.2.1-192.0.2.2", "443", "192.0.2.0 443,192.0.2.3 443"},
		{"192.0.2.7 192.0.2.7 192.0.2.7/32", "", "443 8443 443", "192.0.2.7 443,192.0.2.7 8443"},
		{"255.255.255.254-255.255.255.255", "", "1", "255.255.255.254 1,255.255.255.255 1"},
		{"0.0.0.0 255.255.255.255", "0.0.0.0/1", "1", "255.255.255.255 1"},
		{"2001:db8::fffe-2001:db8::1:1", "2001:db8::ffff", "443", "2001:db8::fffe 443,2001:db8::1:0 " +
			"443,2001:db8::1:1 443"},
		{"::ffff:192.0.2.1 192.0.2.2", "", "443", "192.0.2.1 443,192.0.2.2 443"},
		{"::ffff:192.0.2.0/126", "192.0.2.1-192.0.2.2", "443", "192.0.2.0 443,192.0.2.3 443"},
		{"192.0.2.0/30", "::ffff:192.0.2.0/127 ::ffff:192.0.2.2-::ffff:192.0.2.2", "443", "192.0.2.3 443"},
		{"::ffff:10.0.0.0/104", "", "443", "more than 1000000"},
		{"::ffff:0:0/95", "", "443", "more than the addresses of IPv4"},
		{"::1-::ffff:0:1", "", "443", "not a network"},
		{"Gate.Tidewrack.example 192.0.2.1", "", "25/smtp", "gate.tidewrack.example 25,192.0.2.1 25"},
		{"192.0.2.0/24", "192.0.2.0/24", "443", "nothing is left"},
		{"192.0.2.0/24", "mail.example", "443", "not a network"},
		{"10.0.0.0/8", "", "443", "more than 1000000"},
		{"::/0", "", "443", "more than 1000000"},
		{"::-ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "", "443", "more than 1000000"},
		{"192.0.2.0/16", "", "443 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15", "more than 1000000"},
		{"192.0.2.9-192.0.2.1", "", "443", "not a network"},
		{"192.0.2.1-2001:db8::1", "", "443", "not a network"},
		{"192.0.2.300", "", "443", "not a network"},
		{"192.0.2.0/33", "", "443", "not a network"},
		{"fe80::1%eth0", "", "443", "not a network"},
		{"*.tidewrack.example", "", "443", "not a network"},
		{"$(reboot)", "", "443", "not a network"},
		{"192.0.2.1", "", "0", "not a port"},
		{"192.0.2.1", "", "65536", "not a port"},
		{"192.0.2.1", "", "", "no port"},
		{"", "", "443", "no range"},
	} {
		p, err := discovery.Read(strings.Fields(c.ranges), strings.Fields(c.except), strings.Fields(c.ports), usual)
		if err != nil {
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("%q without %q: %v, want %s", c.ranges, c.except, err, c.want)
			}
			continue
		}
		got := targets(p, 0)
		if strings.Join(got, ",") != c.want || p.Count() != len(got) {
			t.Errorf("%q without %q: %v (%d), want %s", c.ranges, c.except, got, p.Count(), c.want)
		}
		for from := range got {
			if rest := targets(p, from); !slices.Equal(rest, got[from:]) {
				t.Errorf("%q from %d: %v", c.ranges, from, rest)
			}
		}
	}
}

// Ranges and exclusions are compared with sets of addresses.
func TestRandomPlans(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 13))
	word := func() (string, func(netip.Addr) bool) {
		a := netip.AddrFrom4([4]byte{192, 0, 2, byte(random.IntN(256))})
		switch random.IntN(3) {
		case 0:
			p := netip.PrefixFrom(a, 24+random.IntN(9))
			return p.String(), p.Contains
		case 1:
			b := netip.AddrFrom4([4]byte{192, 0, 2, byte(random.IntN(256))})
			if b.Less(a) {
				a, b = b, a
			}
			return a.String() + "-" + b.String(), func(x netip.Addr) bool {
				return x.Compare(a) >= 0 && x.Compare(b) <= 0
			}
		}
		return a.String(), func(x netip.Addr) bool { return x == a }
	}
	for range 2000 {
		var words [2][]string
		var in [2][]func(netip.Addr) bool
		for side := range words {
			for range random.IntN(5) + 1 - side {
				text, has := word()
				words[side], in[side] = append(words[side], text), append(in[side], has)
			}
		}
		var want []string
		for i := range 256 {
			a := netip.AddrFrom4([4]byte{192, 0, 2, byte(i)})
			has := func(f func(netip.Addr) bool) bool { return f(a) }
			if slices.ContainsFunc(in[0], has) && !slices.ContainsFunc(in[1], has) {
				want = append(want, a.String()+" 443")
			}
		}
		p, err := discovery.Read(words[0], words[1], []string{"443"}, usual)
		if got := targets(p, 0); len(want) > 0 && (err != nil || !slices.Equal(got, want)) || len(want) == 0 &&
			err == nil {
			t.Fatalf("%v without %v: %v %v, want %v", words[0], words[1], got, err, want)
		}
	}
}

func seen(address string, port int, sha256 string, names ...string) discovery.Seen {
	return discovery.Seen{Target: discovery.Target{Address: address, Port: discovery.Port{Number: port}},
		SHA256: sha256, Names: names, Subject: "CN=x"}
}

func factory(address string, port int, sha256, banner string) discovery.Seen {
	s := seen(address, port, sha256, "appliance.invalid")
	s.SelfSigned, s.Banner, s.Subject = true, banner, "CN=Corvane appliance,O=Corvane"
	return s
}

func TestWhatWasFoundMakesDevices(t *testing.T) {
	asked := seen("mail.tidewrack.example", 25, "m", "*.tidewrack.example")
	asked.ServerName = "mail.tidewrack.example"
	families := []discovery.Family{{"any-corvane", []discovery.Mark{{Subject: "*o=corvane*"}}},
		{"corvane-wan", []discovery.Mark{{Subject: "*O=Corvane*", Banner: "wan/*"}}},
		{"other", []discovery.Mark{{Banner: "*"}}}}
	var got []string
	for _, p := range discovery.Propose([]discovery.Seen{
		seen("192.0.2.1", 443, "a", "*.tidewrack.example", "gate.tidewrack.example"),
		seen("192.0.2.1", 636, "b", "dir.tidewrack.example"), seen("192.0.2.1", 7001, "a", "gate.tidewrack.example"),
		factory("192.0.2.2", 443, "f", "wan/3"), factory("192.0.2.3", 443, "f", ""),
		factory("192.0.2.3", 8443, "f", ""), factory("192.0.2.3", 443, "g", ""),
		seen("192.0.2.4", 443, "c", "pair.tidewrack.example"), seen("192.0.2.5", 443, "c", "pair.tidewrack.example"),
		seen("192.0.2.5", 993, "d", "box.local"),
		seen("192.0.2.6", 443, "x", "twice.tidewrack.example"), seen("192.0.2.7", 443, "y", "twice.tidewrack.example"),
		seen("2001:db8::1", 443, "z"), asked,
	}, families) {
		line := p.Name + " at " + p.Address + ":"
		for _, s := range p.Slots {
			line += fmt.Sprintf(" %s=%d", s.Name, s.Port)
			for _, m := range s.More {
				line += "+" + m.Address
			}
			if s.ServerName != p.Name {
				line += "(" + s.ServerName + ")"
			}
		}
		if p.Factory {
			line += " factory"
		}
		got = append(got, strings.TrimSpace(line+" "+strings.Join(p.Families, " ")))
	}
	want := []string{
		"gate.tidewrack.example at 192.0.2.1: web=443 tls-7001=7001 ldap=636",
		"192.0.2.2 at 192.0.2.2: web=443() factory corvane-wan any-corvane other",
		"192.0.2.3 at 192.0.2.3: web=443() web-8443=8443() web-443=443() factory any-corvane",
		"pair.tidewrack.example at 192.0.2.4: web=443+192.0.2.5 imap=993",
		"192.0.2.6 at 192.0.2.6: web=443(twice.tidewrack.example)",
		"192.0.2.7 at 192.0.2.7: web=443(twice.tidewrack.example)",
		"2001-db8--1 at 2001:db8::1: web=443()",
		"mail.tidewrack.example at mail.tidewrack.example: smtp=25",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestKnownDefaultsAreRecognized(t *testing.T) {
	maker := testkit.Root(t, "Brinewell Device CA 2")
	delivered := maker.Leaf(t, "BW-4711")
	own := testkit.Root(t, "Quay Root").Leaf(t, "gate.tidewrack.example")
	shared := testkit.Root(t, "Halyard")
	rules, err := discovery.ReadDefaults([]byte("defaults:\n  - {about: the Halyard box, sha256: " +
		strings.ToUpper(shared.SHA256) + "}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		certificate *cert.Certificate
		about       string
	}{{delivered.Certificate, "the Brinewell appliance"}, {own.Certificate, ""},
		{shared.Certificate, "the Halyard box"}, {testkit.Root(t, "localhost.localdomain").Certificate,
			"a name that no network has"}} {
		if d, _ := append(rules, discovery.Builtin...).Of(c.certificate); d.About != c.about ||
			d.Shared() != (c.about == "the Halyard box") {
			t.Errorf("%s: %+v, want %q", c.certificate.ShortName(), d, c.about)
		}
	}
	for text, want := range map[string]string{
		"defaults:\n - {about: x, subject: \"**\"}":      "fits every certificate",
		"defaults:\n - {subject: x}":                     "add about",
		"defaults:\n - {about: x, sha256: abc}":          "64 hexadecimal digits",
		"defaults:\n - {about: x, subjekt: y}":           "subjekt",
		"defaults: {about: x}":                           "not a list",
		strings.Repeat("[", 10_000):                      "not a list",
		"defaults:\n" + strings.Repeat(" - {}\n", 10001): "more than",
	} {
		if _, err := discovery.ReadDefaults([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v, want %s", text, err, want)
		}
	}
}
