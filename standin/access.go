package standin

import (
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"net/http"
	"time"

	"freshseal/core/pki/pack"
)

// AccessServer is a node of a pair that lets people and devices into a network: it serves web
// pages, and EAP over RADIUS with a certificate of its own.
const AccessServer Kind = "access server"

func init() { webKinds[AccessServer] = accessServer }

// eapFile is where the box keeps what it serves over EAP, and its places in a state of one use:
// what waits, and what was served before.
func accessFile(use, state, what string) string {
	return "/var/access/" + use + "-" + state + "-" + what + ".pem"
}

// accessServer makes key and request for one use, and gives both away at once, the key locked;
// it keeps neither. Leaf and key come back to each node, the first one first.
func accessServer(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.tokens(mux, "/api/session", "X-Session")
	mux.HandleFunc("POST /api/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			asked
			Use, Passphrase string
		}
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		out, err := r.bothDownloads(in.asked, in.Passphrase)
		if err != nil {
			refuseJSON(w, err)
			return
		}
		if r.faulty().DropUpload {
			delete(out, "key")
		}
		writeJSON(w, http.StatusCreated, out)
	}))
	mux.HandleFunc("POST /api/trust", in(r.takeTrust))
	node := func(do func(node *Running, w http.ResponseWriter, call *http.Request) error) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			of := r
			if others := r.others(); call.PathValue("node") != "first" && len(others) > 0 {
				of = others[0]
			}
			if err := do(of, w, call); err != nil {
				refuseJSON(w, err)
			}
		})
	}
	mux.HandleFunc("PUT /api/nodes/{node}/certificates/{use}",
		node(func(of *Running, w http.ResponseWriter, call *http.Request) error {
			var in struct{ Certificate, Key, Passphrase string }
			if err := readJSON(call, &in); err != nil {
				return err
			}
			chain, err := r.completed([]byte(in.Certificate))
			if err != nil || r.faulty().FailTest {
				return errors.New("the certificate was refused: no trusted certificate signed it")
			}
			key, err := unlocked([]byte(in.Key), []byte(in.Passphrase))
			if err != nil {
				return err
			}
			if _, err := tls.X509KeyPair(chain, key); err != nil {
				return err
			}
			use := call.PathValue("use")
			for _, what := range []string{"chain", "key"} { // what was there before the last one is gone
				of.root.Remove(inside(accessFile(use, "before", what)))
			}
			w.WriteHeader(http.StatusNoContent)
			return of.lay(map[string][]byte{accessFile(use, "waits", "chain"): chain,
				accessFile(use, "waits", "key"): key})
		}))
	mux.HandleFunc("DELETE /api/nodes/{node}/certificates/{use}",
		node(func(of *Running, w http.ResponseWriter, call *http.Request) error {
			for _, what := range []string{"chain", "key"} {
				of.root.Remove(inside(accessFile(call.PathValue("use"), "waits", what)))
			}
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	mux.HandleFunc("GET /api/nodes/{node}/uses/{use}",
		node(func(of *Running, w http.ResponseWriter, call *http.Request) error {
			use := call.PathValue("use")
			chain, _ := inUse(use)
			writeJSON(w, http.StatusOK, map[string]string{"sha256": of.leafIn(chain),
				"waits":    of.leafIn(accessFile(use, "waits", "chain")),
				"previous": of.leafIn(accessFile(use, "before", "chain"))})
			return nil
		}))
	mux.HandleFunc("POST /api/nodes/{node}/uses/{use}",
		node(func(of *Running, w http.ResponseWriter, call *http.Request) error {
			w.WriteHeader(http.StatusAccepted)
			if r.faulty().KeepServing || r.faulty().OneNode && of != r {
				return nil
			}
			return of.useAccess(call.PathValue("use"), "waits", true)
		}))
	mux.HandleFunc("POST /api/nodes/{node}/uses/{use}/previous",
		node(func(of *Running, w http.ResponseWriter, call *http.Request) error {
			w.WriteHeader(http.StatusAccepted)
			if of.useAccess(call.PathValue("use"), "before", false) != nil {
				return nil // nothing was changed
			}
			return nil
		}))
	return mux
}

// bothDownloads makes a key and a request, and gives both, the key locked.
func (r *Running) bothDownloads(a asked, passphrase string) (map[string]string, error) {
	der, err := r.nextRequest(a.subject(), a.Names, a.Key)
	if err != nil {
		return nil, err
	}
	text, err := r.root.ReadFile(inside(askedKey))
	if err != nil {
		return nil, err
	}
	r.root.Remove(inside(askedKey)) // it leaves the box
	block, _ := pem.Decode(text)
	made, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	key, ok := made.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key cannot sign")
	}
	label, locked, err := pack.KeyDER(pack.Options{KeyForm: pack.PKCS8Locked, Passphrase: passphrase}, key)
	if err != nil {
		return nil, err
	}
	return map[string]string{"request": string(pemOf("CERTIFICATE REQUEST", der)),
		"key": string(pemOf(label, locked))}, nil
}

// inUse are the files that a use serves.
func inUse(use string) (chain, key string) {
	if use == "eap" {
		return "/etc/access/eap/chain.pem", "/etc/access/eap/key.pem"
	}
	return CertificateFile, KeyFile
}

// useAccess puts the certificate of a state in use, and with keep the one from before aside.
// The service of that use restarts.
func (r *Running) useAccess(use, state string, keep bool) error {
	chain, err := r.root.ReadFile(inside(accessFile(use, state, "chain")))
	if err != nil {
		return errors.New("there is none yet")
	}
	key, err := r.root.ReadFile(inside(accessFile(use, state, "key")))
	if err != nil {
		return err
	}
	chainFile, keyFile := inUse(use)
	oldChain, err := r.root.ReadFile(inside(chainFile))
	if err != nil {
		return err
	}
	oldKey, err := r.root.ReadFile(inside(keyFile))
	if err != nil {
		return err
	}
	if keep && string(oldChain) != string(chain) {
		if err := r.lay(map[string][]byte{accessFile(use, "before", "chain"): oldChain,
			accessFile(use, "before", "key"): oldKey}); err != nil {
			return err
		}
	}
	if err := r.lay(map[string][]byte{chainFile: chain, keyFile: key}); err != nil {
		return err
	}
	r.work.Go(func() {
		serving := &r.serving
		if use == "eap" {
			serving = &r.eap
		}
		serving.Store(nil)
		time.Sleep(r.Restart)
		if use == "eap" {
			r.loadEAP()
		} else {
			r.load()
		}
	})
	return nil
}

// loadEAP reads what is served over EAP; the first time it is a certificate of the box's own.
func (r *Running) loadEAP() error {
	chainFile, keyFile := inUse("eap")
	chain, err := r.root.ReadFile(inside(chainFile))
	if err != nil {
		var none *Authority
		certificate, key, err := none.Issue(Wanted{Subject: pkix.Name{Organization: []string{"Lumsk"},
			CommonName: "Lumsk access"}, Names: []string{"access.invalid"}, Begins: -day, Ends: 6 * 365 * day},
			orSystem(r.Random), time.Now())
		if err != nil {
			return err
		}
		if err := r.lay(map[string][]byte{chainFile: certificate, keyFile: key}); err != nil {
			return err
		}
		chain = certificate
	}
	key, err := r.root.ReadFile(inside(keyFile))
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err != nil {
		return err
	}
	if r.faulty().LeafAlone {
		pair.Certificate = pair.Certificate[:1]
	}
	r.eap.Store(&pair)
	return nil
}

// startEAP turns EAP on, of a box that has a secret which it shares with network devices.
func (r *Running) startEAP() error {
	if r.Shared == "" {
		return nil
	}
	if err := r.loadEAP(); err != nil {
		return err
	}
	var err error
	if r.radius, err = startRADIUS(r.Address, r.RADIUSPort, r.Shared, r.eap.Load); err != nil {
		return err
	}
	r.RADIUSAddr = r.radius.conn.LocalAddr().String()
	r.work.Go(r.radius.serve)
	return nil
}
