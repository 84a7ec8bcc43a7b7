// Package manager is the stand-in of the kind "menu manager": everything happens in a text menu.
package manager

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"path"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.MenuManager,
	standin.Make{Faults: []string{"keeps-serving", "leaf-alone", "rolls-back", "drops-upload", "never-back", "silent",
		"other-prompt"}, Programs: map[string]standin.Program{"trustdesk": trustDesk},
		Commands: map[string]standin.Command{"hostwarden": hostwarden}})

// trustDesk is the text menu of a Pelorus manager: numbered choices in two levels, a
// question for each field, and a progress that may stand still. What it does not
// like it takes back by itself, late.
func trustDesk(r *standin.Running, t *standin.Terminal) error {
	t.Say("\x1b[2J\x1b[HPelorus Manager 4 - trust desk\n\n")
	if r.Faulty().Silent {
		_, err := t.Line() // the prompt never comes
		return err
	}
	prompt := "Password: "
	if r.Faulty().OtherPrompt {
		prompt = "Kennwort? "
	}
	for tries := 0; ; tries++ {
		word, err := t.AskSecret(prompt)
		if err != nil {
			return err
		}
		if word == r.Secret {
			break
		}
		t.Say("Not recognised.\n")
		if tries == 2 {
			return standin.ErrHungUp
		}
	}
	for {
		switch choice, err := t.Ask("\n 1) certificates\n 2) services\n q) leave\nChoice: "); {
		case err != nil:
			return err
		case choice == "q":
			return nil
		case choice == "1":
			if err := certificates(r, t); err != nil {
				return err
			}
		default:
			t.Say("There is no such choice.\n")
		}
	}
}

func certificates(r *standin.Running, t *standin.Terminal) error {
	for {
		choice, err := t.Ask("\n 1) make key and request\n 2) take in a signed certificate\n 3) go back to the " +
			"certificate before\n 4) show the certificates\n b) back\nChoice: ")
		switch {
		case err != nil:
			return err
		case choice == "b":
			return nil
		case choice == "1":
			err = makeRequest(r, t)
		case choice == "2":
			r.Watched("take in", func() { err = takeIn(r, t) })
		case choice == "3":
			r.Watched("go back", func() { err = goBack(r, t) })
		case choice == "4":
			t.Say("In use: %s\nAfter a restart: %s\nBefore: %s\n", standin.OrNone(standin.Fingerprint(r.Served())),
				standin.OrNone(r.LeafIn(standin.CertificateFile)), standin.OrNone(r.LeafIn(menuBefore)))
		default:
			t.Say("There is no such choice.\n")
		}
		if errors.Is(err, standin.ErrHungUp) {
			return err
		} else if err != nil {
			t.Say("It failed: %v\n", err)
		}
	}
}

func makeRequest(r *standin.Running, t *standin.Terminal) error {
	f, err := parts.Fields(t, [2]string{"E-mail", ""}, [2]string{"Country", ""}, [2]string{"State", ""},
		[2]string{"Locality", ""}, [2]string{"Organization", "Pelorus"}, [2]string{"Unit", ""},
		[2]string{"Common name", "manager.invalid"},
		[2]string{"Names, separated by commas", ""}, [2]string{"Addresses, separated by commas", ""},
		[2]string{"Kind of key: rsa or ec", "rsa"}, [2]string{"Folder to write into", "/var/tmp"})
	if err != nil {
		return err
	}
	if yes, err := t.Ask("Go on? y/n: "); err != nil || yes != "y" {
		return err
	}
	request, key, err := parts.NewRequest(f[9],
		parts.Answered(map[string]string{"E-mail": f[0], "Country": f[1], "State": f[2], "Locality": f[3],
			"Organization": f[4], "Unit": f[5], "Common name": f[6]}), parts.Words(f[7]), parts.Words(f[8]))
	if err != nil {
		return err
	}
	for name, content := range map[string][]byte{"machine.key": key, "machine.csr": request} {
		if err := r.Root.WriteFile(standin.Inside(path.Join(f[10], name)), content, 0o600); err != nil {
			return err
		}
	}
	t.Say("Written: %s/machine.csr and %s/machine.key\n", f[10], f[10])
	return nil
}

// What the certificate before is kept as.
const (
	menuBefore    = "/etc/webui/tls/before.pem"
	menuBeforeKey = "/etc/webui/tls/before.key"
)

func takeIn(r *standin.Running, t *standin.Terminal) error {
	f, err := parts.Fields(t, [2]string{"Path of the certificate with its chain", ""}, [2]string{"Path of the key", ""},
		[2]string{"Path of the root", ""})
	if err != nil {
		return err
	}
	var files [3][]byte
	for i, p := range f {
		if files[i], err = r.Root.ReadFile(standin.Inside(p)); err != nil {
			return err
		}
	}
	if yes, err := t.Ask("Replace the machine certificate and restart all services? y/n: "); err != nil || yes != "y" {
		return err
	}
	old := r.Serving.Load()
	t.Say("\r  0 %% checking")
	r.Takes(4)
	t.Say("\r 20 %% stopping services")
	r.Serving.Store(nil)
	r.Takes(4)
	fault := dislikes(files[0], files[1], files[2])
	if r.Faulty().RollBack {
		fault = "service 7 does not start"
	}
	t.Say("\r 55 %% starting services")
	r.Takes(2)
	if r.Faulty().Hang {
		_, err := t.Line()
		return err
	}
	if fault != "" {
		t.Say("\r 55 %% %s; rolling back\n", fault)
		r.Takes(2)
		r.Serving.Store(old)
		t.Say("Rolled back: the old certificate stays.\n")
		return nil
	}
	if err := swap(r, files[0], files[1]); err != nil {
		return err
	}
	if r.Faulty().KeepServing {
		r.Serving.Store(old)
	}
	t.Say("\r100 %% done                \nThe new certificate is in use.\n")
	return nil
}

// dislikes returns what is wrong with what is taken in, or "": the chain must be leaf,
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
func swap(r *standin.Running, certificate, key []byte) error {
	for from, to := range map[string]string{standin.CertificateFile: menuBefore, standin.KeyFile: menuBeforeKey} {
		content, err := r.Root.ReadFile(standin.Inside(from))
		if err != nil {
			return err
		}
		if err := r.Root.WriteFile(standin.Inside(to), content, 0o600); err != nil {
			return err
		}
	}
	return r.Meddle(certificate, key)
}

func goBack(r *standin.Running, t *standin.Terminal) error {
	certificate, err := r.Root.ReadFile(standin.Inside(menuBefore))
	if err != nil {
		t.Say("There is nothing to go back to.\n")
		return nil
	}
	key, err := r.Root.ReadFile(standin.Inside(menuBeforeKey))
	if err != nil {
		return err
	}
	r.Serving.Store(nil)
	r.Takes(2)
	if err := r.Meddle(certificate, key); err != nil {
		return err
	}
	t.Say("The certificate before is in use again.\n")
	return r.Root.Remove(standin.Inside(menuBefore))
}
