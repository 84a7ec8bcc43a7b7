package e2e

import (
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"freshseal/standin"
)

// What the policy says is asked for: who signs, which names, which key; and what
// the signer would refuse is left out instead of spoiling the request.
func TestThePolicyPlansTheRequest(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	address, _, _ := net.SplitHostPort(box.TLSAddr)
	peer := "lamp-4.northholm.tidewrack.example"
	s.addSimulated(peer, simulated(t, standin.Box{}), "correct horse")
	for _, device := range []string{name, peer} {
		s.ok("device", "edit", device, "--cluster", "lamps", "--cluster-role", "member")
	}
	s.fails(1, "no signer is given", "replace", name+"/web")
	s.fails(1, "no signer is called", "policy", "set", "fleet", "--signer", "nobody")
	s.ok("policy", "set", "fleet", "--signer", "bench", "--short-names", "--address-names", "--cluster-names",
		"--name-prefix", "sip", "--key", "ecdsa-p384")
	if list := s.ok("policy", "list"); !strings.Contains(list, "signer bench, key ecdsa-p384") {
		t.Errorf("the policy:\n%s", list)
	}
	var plan struct {
		Plan struct {
			Names   []string
			Key     string
			LeftOut map[string]string `json:"left_out"`
			Sources map[string]string
		}
	}
	s.json(&plan, "replace", name+"/web", "--rehearse")
	want := []string{name, "lamp-3", "sip.northholm.tidewrack.example", address, "lamps.northholm.tidewrack.example",
		peer}
	if !slices.Equal(plan.Plan.Names, want) || plan.Plan.Key != "ecdsa-p384" ||
		plan.Plan.Sources[peer] != "the policy: "+peer+", of the same cluster" {
		t.Errorf("planned is %+v", plan.Plan)
	}
	s.ok("signer", "set", "careful", "--wildcards", "--turnaround", "40")
	if text := s.ok("replace", name+"/web", "--rehearse", "--signer", "careful"); !strings.Contains(text, "left out "+
		address+": the policy: the slot's address: this signer signs no IP addresses") {
		t.Errorf("what is left out is not told:\n%s", text)
	}

	// Sealed; then the same key again, as the policy wants from now on.
	s.ok("replace", name+"/web", "--watch")
	first := s.served(name + "/web")
	s.ok("policy", "set", "fleet", "--renewal-key", "same")
	if text := s.ok("replace", name+"/web", "--rehearse"); !strings.Contains(text, "key: from the one in use") ||
		!strings.Contains(text, "take the key that is in use") || strings.Contains(text, "genpkey") {
		t.Errorf("the rehearsal with the same key:\n%s", text)
	}
	s.ok("replace", name+"/web", "--watch")
	if second := s.served(name + "/web"); second.key != first.key || second.sha256 == first.sha256 {
		t.Errorf("the key was to stay and the certificate to change: %+v, %+v", first, second)
	}
	if text := s.ok("replace", name+"/web", "--rehearse", "--key", "rsa-2048"); !strings.Contains(text, "genpkey") {
		t.Error("who names a key gets a new one")
	}

	// Asked again, it is a new key all the same: answers are told apart by it.
	h := newHarbour(t)
	s.ok("trust-group", "add", "fleet", h.at("root.pem"))
	s.ok("replace", name+"/web", "--signer", "desk")
	id := idOf(t, s, name)
	s.await(id, "waiting")
	late := packed(t, s, "desk")[0]
	if asked := must(t, "", "openssl", "req", "-in", late, "-noout", "-pubkey"); asked != first.key {
		t.Error("the request is not for the key in use")
	}
	s.ok("replacement", "ask-again", id, "--reason", "too many names", "--without", "lamp-3")
	s.fails(3, "it answers an earlier request of "+id, "intake", h.sign(late), h.chain())
	second := packed(t, s, "desk")[0]
	if asked := must(t, "", "openssl", "req", "-in", second, "-noout", "-pubkey"); asked == first.key {
		t.Error("asked again, the request is for the same key")
	}
	s.ok("intake", h.sign(second))
	s.await(id, "sealed")

	// A box that can do no better.
	s.fails(1, "a key of RSA 1024 is asked for", "replace", peer+"/web", "--key", "rsa-1024")
	s.fails(1, "single devices", "policy", "set", "fleet", "--weak-keys")
	s.ok("policy", "set", "device/"+peer, "--weak-keys")
	s.ok("replace", peer+"/web", "--key", "rsa-1024", "--watch")
	weak := s.show(peer + "/web")
	if weak.Condition != "fresh" || len(weak.Findings) != 1 || weak.Findings[0].Code != "weak-key" {
		t.Errorf("the weak box is %s: %+v", weak.Condition, weak.Findings)
	}

	// Who signs takes forty working days, which are taken off the act-by date.
	before := s.actBy(peer + "/web")
	s.ok("policy", "set", "device/"+peer, "--signer", "careful")
	if after := s.actBy(peer + "/web"); before.Sub(after) < 50*24*time.Hour {
		t.Errorf("act by %s, and with a slow signer by %s", before, after)
	}

	// A month in which nobody works comes on top, and a ship that is in port once a month.
	s.ok("site", "add", "Quay")
	s.ok("device", "edit", peer, "--site", "Quay")
	slow := s.actBy(peer + "/web")
	off := write(t, filepath.Join(t.TempDir(), "holidays.ics"),
		"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Tidewrack//EN\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTART;VALUE=DATE:"+
			slow.AddDate(0, 0, 5).Format("20060102")+
			"\r\nDTEND;VALUE=DATE:"+slow.AddDate(0, 0, 36).Format("20060102")+"\r\nSUMMARY:the yard is "+
			"shut\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")
	if shown := s.ok("site", "edit", "Quay", "--holidays", off); !strings.Contains(shown, "the yard is shut") {
		t.Error(shown)
	}
	shut := s.actBy(peer + "/web")
	if days := slow.Sub(shut).Hours() / 24; days < 28 || days > 34 {
		t.Errorf("act by %s, and with a month off by %s", slow, shut)
	}
	s.ok("site", "edit", "Quay", "--present", "DTSTART:20260101T060000Z RRULE:FREQ=MONTHLY;BYMONTHDAY=1 DURATION:PT12H")
	if port := s.actBy(peer + "/web"); !port.Before(shut) || port.Hour() != 6 {
		t.Errorf("act by %s, and for a ship by %s", shut, port)
	}
	s.fails(1, "no all-day event", "site", "edit", "Quay", "--holidays",
		write(t, filepath.Join(t.TempDir(), "none.ics"), "BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n"))
	s.ok("site", "edit", "Quay", "--holidays", "", "--present", "")
	if again := s.actBy(peer + "/web"); !again.Equal(slow) {
		t.Errorf("act by %s without them, and %s before", again, slow)
	}
}

// leaf is what a slot serves: its fingerprint and its public key.
type leaf struct{ sha256, key string }

func (s *server) served(slot string) leaf {
	s.t.Helper()
	var out struct {
		Chain []struct{ SHA256, PEM string }
	}
	s.json(&out, "slot", "show", slot)
	return leaf{out.Chain[0].SHA256, must(s.t, out.Chain[0].PEM, "openssl", "x509", "-noout", "-pubkey")}
}

func (s *server) actBy(slot string) time.Time {
	s.t.Helper()
	var out struct {
		ActBy time.Time `json:"act_by"`
	}
	s.json(&out, "slot", "show", slot)
	return out.ActBy
}

// What is planned is asked for, with every name from where it comes; what a family cannot carry and the signer
// demands is refused before the device is touched, and all of it at once.
func TestTheRequestCarriesWhatWasPlanned(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir())
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("device", "edit", name, "--node", "lamp-9.northholm.tidewrack.example=127.20.80.9")
	s.ok("policy", "set", "fleet", "--signer", "bench", "--name-prefix", "sip", "--service-domain",
		"tidewrack.example", "--node-wildcard")
	var plan struct {
		Plan struct {
			Names   []string
			Subject struct {
				CommonName string `json:"common_name"`
			}
			Sources map[string]string
		}
	}
	const further = "calls.northholm.tidewrack.example"
	for range 2 {
		s.json(&plan, "replace", name+"/web", "--rehearse", "--name", further)
		for _, want := range []string{name, further, "*.northholm.tidewrack.example",
			"sip.northholm.tidewrack.example", "sip.tidewrack.example"} {
			if !slices.Contains(plan.Plan.Names, want) {
				t.Errorf("%s is not planned: %v", want, plan.Plan.Names)
			}
		}
		if slices.Contains(plan.Plan.Names, "lamp-9.northholm.tidewrack.example") ||
			plan.Plan.Subject.CommonName != name {
			t.Errorf("a node is named beside its wildcard, or a further name moved the common name: %+v", plan.Plan)
		}
		s.json(&plan, "replace", name+"/web", "--rehearse", "--common-name", further)
		if plan.Plan.Subject.CommonName != further || !slices.Contains(plan.Plan.Names, further) ||
			plan.Plan.Names[0] != further && !slices.Contains(plan.Plan.Names, name) {
			t.Errorf("the common name that was asked for: %+v", plan.Plan)
		}
	}
	// A page that asks for a name alone carries no subject.
	var asked atomic.Pointer[[]string]
	page := webKind(t, standin.Box{Kind: standin.HostWithPage, Watch: seen(&asked)})
	s.addWeb("host.tidewrack.example", "host-with-page", page)
	s.ok("signer", "set", "harbour-ca", "--field", "organization", "--field", "state")
	s.ok("site", "add", "Mainquay")
	s.ok("site", "edit", "Mainquay", "--organization", "Tidewrack Ferries", "--locality", "Mainquay", "--state",
		"Quayshire")
	s.ok("device", "edit", "host.tidewrack.example", "--site", "Mainquay")
	asked.Store(&[]string{})
	out := s.fails(1, "organization", "replace", "host.tidewrack.example/web", "--signer", "harbour-ca")
	if !strings.Contains(out.stderr, "state") || len(*asked.Load()) > 0 {
		t.Errorf("not all that is missing is named at once, or the device was asked %v:\n%s", *asked.Load(), out.stderr)
	}
	s.fails(1, "has no place for the unit", "replace", "host.tidewrack.example/web", "--signer", "bench", "--unit",
		"consoles")
	if out := s.ok("replace", "host.tidewrack.example/web", "--signer", "bench", "--rehearse"); !strings.Contains(out,
		"no organization Tidewrack Ferries") {
		t.Errorf("the rehearsal does not say what is left out:\n%s", out)
	}
	// Several slots at once are for families that serve all of them.
	s.ok("slot", "add", "host.tidewrack.example/other", "--at", "9443")
	access := webKind(t, standin.Box{Kind: standin.WANController})
	s.addWeb("pair.tidewrack.example", "access-control-pair", access, "--slot", "eap=9444", "--setting",
		"export_word=salt of the export")
	s.fails(1, "works on one slot at a time", "replace", "pair.tidewrack.example/web,eap", "--signer", "bench",
		"--rehearse")
}
