package standin

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"net"
	"path"
	"strings"

	"freshseal/core/pki/cert"
)

// trustDesk is the text menu of a Pelorus manager: numbered choices in two levels, a
// question for each field, and a progress that may stand still. What it does not
// like it takes back by itself, late.
func (r *Running) trustDesk(t *terminal) error {
	t.say("\x1b[2J\x1b[HPelorus Manager 4 - trust desk\n\n")
	if r.faulty().Silent {
		_, err := t.line() // the prompt never comes
		return err
	}
	prompt := "Password: "
	if r.faulty().OtherPrompt {
		prompt = "Kennwort? "
	}
	for tries := 0; ; tries++ {
		word, err := t.secret(prompt)
		if err != nil {
			return err
		}
		if word == r.Secret {
			break
		}
		t.say("Not recognised.\n")
		if tries == 2 {
			return errHungUp
		}
	}
	for {
		switch choice, err := t.ask("\n 1) certificates\n 2) services\n q) leave\nChoice: "); {
		case err != nil:
			return err
		case choice == "q":
			return nil
		case choice == "1":
			if err := r.certificates(t); err != nil {
				return err
			}
		default:
			t.say("There is no such choice.\n")
		}
	}
}

func (r *Running) certificates(t *terminal) error {
	for {
		choice, err := t.ask("\n 1) make key and request\n 2) take in a signed certificate\n 3) go back to the " +
			"certificate before\n 4) show the certificates\n b) back\nChoice: ")
		switch {
		case err != nil:
			return err
		case choice == "b":
			return nil
		case choice == "1":
			err = r.makeRequest(t)
		case choice == "2":
			r.watched("take in", func() { err = r.takeIn(t) })
		case choice == "3":
			r.watched("go back", func() { err = r.goBack(t) })
		case choice == "4":
			t.say("In use: %s\nAfter a restart: %s\nBefore: %s\n", orNone(fingerprint(r.served())),
				orNone(r.leafIn(CertificateFile)), orNone(r.leafIn(menuBefore)))
		default:
			t.say("There is no such choice.\n")
		}
		if errors.Is(err, errHungUp) {
			return err
		} else if err != nil {
			t.say("It failed: %v\n", err)
		}
	}
}

// fields asks several questions; an empty answer takes what stands in brackets.
func (t *terminal) fields(questions ...[2]string) ([]string, error) {
	out := make([]string, len(questions))
	for i, q := range questions {
		answer, err := t.ask(q[0] + " [" + q[1] + "]: ")
		if err != nil {
			return nil, err
		}
		if out[i] = answer; answer == "" {
			out[i] = q[1]
		}
	}
	return out, nil
}

func (r *Running) makeRequest(t *terminal) error {
	f, err := t.fields([2]string{"E-mail", ""}, [2]string{"Country", ""}, [2]string{"State", ""},
		[2]string{"Locality", ""}, [2]string{"Organization", "Pelorus"}, [2]string{"Unit", ""},
		[2]string{"Common name", "manager.invalid"},
		[2]string{"Names, separated by commas", ""}, [2]string{"Addresses, separated by commas", ""},
		[2]string{"Kind of key: rsa or ec", "rsa"}, [2]string{"Folder to write into", "/var/tmp"})
	if err != nil {
		return err
	}
	if yes, err := t.ask("Go on? y/n: "); err != nil || yes != "y" {
		return err
	}
	request, key, err := newRequest(f[9],
		answered(map[string]string{"E-mail": f[0], "Country": f[1], "State": f[2], "Locality": f[3],
			"Organization": f[4], "Unit": f[5], "Common name": f[6]}), words(f[7]), words(f[8]))
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{"machine.key": key, "machine.csr": request} {
		if err := r.root.WriteFile(inside(path.Join(f[10], name)), content, 0o600); err != nil {
			return err
		}
	}
	t.say("Written: %s/machine.csr and %s/machine.key\n", f[10], f[10])
	return nil
}

func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// answered is the subject that answers to a form's questions make; what was left empty is left out.
func answered(answers map[string]string) pkix.Name {
	out := pkix.Name{CommonName: answers["Common name"]}
	for question, to := range map[string]*[]string{"Organization": &out.Organization, "Unit": &out.OrganizationalUnit,
		"Locality": &out.Locality, "State": &out.Province, "Country": &out.Country} {
		if answers[question] != "" {
			*to = []string{answers[question]}
		}
	}
	out.ExtraNames = mailed(answers["E-mail"])
	return out
}

// newRequest makes a key and a request (RFC 2986), both as PEM.
func newRequest(kind string, subject pkix.Name, names, addresses []string) (request, key []byte, err error) {
	var made crypto.Signer
	if kind == "ec" {
		made, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	} else {
		made, err = rsa.GenerateKey(rand.Reader, 2048)
	}
	if err != nil {
		return nil, nil, err
	}
	wanted := x509.CertificateRequest{Subject: subject, DNSNames: names}
	for _, a := range addresses {
		ip := net.ParseIP(a)
		if ip == nil {
			return nil, nil, errors.New(a + " is no address")
		}
		wanted.IPAddresses = append(wanted.IPAddresses, ip)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &wanted, made)
	if err != nil {
		return nil, nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(made)
	return pemOf("CERTIFICATE REQUEST", der), pemOf("PRIVATE KEY", pkcs8), err
}

// What the certificate before is kept as.
const (
	menuBefore    = "/etc/webui/tls/before.pem"
	menuBeforeKey = "/etc/webui/tls/before.key"
)

func (r *Running) takeIn(t *terminal) error {
	f, err := t.fields([2]string{"Path of the certificate with its chain", ""}, [2]string{"Path of the key", ""},
		[2]string{"Path of the root", ""})
	if err != nil {
		return err
	}
	var files [3][]byte
	for i, p := range f {
		if files[i], err = r.root.ReadFile(inside(p)); err != nil {
			return err
		}
	}
	if yes, err := t.ask("Replace the machine certificate and restart all services? y/n: "); err != nil || yes != "y" {
		return err
	}
	old := r.serving.Load()
	t.say("\r  0 %% checking")
	r.takes(4)
	t.say("\r 20 %% stopping services")
	r.serving.Store(nil)
	r.takes(4)
	fault := dislikes(files[0], files[1], files[2])
	if r.faulty().RollBack {
		fault = "service 7 does not start"
	}
	t.say("\r 55 %% starting services")
	r.takes(2)
	if r.faulty().Hang {
		_, err := t.line()
		return err
	}
	if fault != "" {
		t.say("\r 55 %% %s; rolling back\n", fault)
		r.takes(2)
		r.serving.Store(old)
		t.say("Rolled back: the old certificate stays.\n")
		return nil
	}
	if err := r.swap(files[0], files[1]); err != nil {
		return err
	}
	if r.faulty().KeepServing {
		r.serving.Store(old)
	}
	t.say("\r100 %% done                \nThe new certificate is in use.\n")
	return nil
}

// dislikes says what is wrong with what is taken in, or "": the chain must be leaf,
// issuing, subordinate, root in this order, with LF alone, and the key must be the leaf's.
func dislikes(chain, key, root []byte) string {
	if bytes.Contains(chain, []byte("\r")) || bytes.Contains(chain, []byte("\n\n")) {
		return "the chain has line ends that are not understood"
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err != nil {
		return "the key is another one's"
	}
	for i := range pair.Certificate[1:] {
		child, err1 := x509.ParseCertificate(pair.Certificate[i])
		parent, err2 := x509.ParseCertificate(pair.Certificate[i+1])
		if err1 != nil || err2 != nil || child.CheckSignatureFrom(parent) != nil {
			return "the chain is out of order"
		}
	}
	last := pair.Certificate[len(pair.Certificate)-1]
	if block, _ := pem.Decode(root); block == nil || !bytes.Equal(block.Bytes, last) {
		return "the chain does not end in the root"
	}
	return ""
}

// swap puts another certificate and key in use, and keeps those from before.
func (r *Running) swap(certificate, key []byte) error {
	for from, to := range map[string]string{CertificateFile: menuBefore, KeyFile: menuBeforeKey} {
		content, err := r.root.ReadFile(inside(from))
		if err != nil {
			return err
		}
		if err := r.root.WriteFile(inside(to), content, 0o600); err != nil {
			return err
		}
	}
	return r.Meddle(certificate, key)
}

func (r *Running) goBack(t *terminal) error {
	certificate, err := r.root.ReadFile(inside(menuBefore))
	if err != nil {
		t.say("There is nothing to go back to.\n")
		return nil
	}
	key, err := r.root.ReadFile(inside(menuBeforeKey))
	if err != nil {
		return err
	}
	r.serving.Store(nil)
	r.takes(2)
	if err := r.Meddle(certificate, key); err != nil {
		return err
	}
	t.say("The certificate before is in use again.\n")
	return r.root.Remove(inside(menuBefore))
}

// mailed is what a subject has beside its usual fields where a form asks for a mail address.
func mailed(address string) []pkix.AttributeTypeAndValue {
	if address == "" {
		return nil
	}
	return []pkix.AttributeTypeAndValue{cert.EmailAttribute(address)}
}
