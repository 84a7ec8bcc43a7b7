// Package access is the stand-in of the kind "access server": a node of a pair that lets people into a network: web
// pages, and EAP over RADIUS with a certificate of its own.
package access

import (
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"net/http"
	"time"

	"freshseal/core/pki/pack"
	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.AccessServer,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone", "one-node"},
		Web: accessServer})

// accessServer makes key and request for one use, and gives both away at once, the key locked;
// it keeps neither. Leaf and key come back to each node, the first one first.
func accessServer(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInJSON(r, mux, "/api/session", "X-Session")
	mux.HandleFunc("POST /api/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			parts.Asked
			Use, Passphrase string
		}
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		out, err := bothDownloads(r, in.Asked, in.Passphrase)
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		if r.Faulty().DropUpload {
			delete(out, "key")
		}
		standin.WriteJSON(w, http.StatusCreated, out)
	}))
	mux.HandleFunc("POST /api/trust", in(parts.TakeTrust(r)))
	node := func(do func(node *standin.Running, w http.ResponseWriter, call *http.Request) error) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			of := r
			if others := parts.Others(r); call.PathValue("node") != "first" && len(others) > 0 {
				of = others[0]
			}
			if err := do(of, w, call); err != nil {
				standin.RefuseJSON(w, err)
			}
		})
	}
	mux.HandleFunc("PUT /api/nodes/{node}/certificates/{use}",
		node(func(of *standin.Running, w http.ResponseWriter, call *http.Request) error {
			var in struct{ Certificate, Key, Passphrase string }
			if err := standin.ReadJSON(call, &in); err != nil {
				return err
			}
			chain, err := parts.Completed(r, []byte(in.Certificate))
			if err != nil || r.Faulty().FailTest {
				return errors.New("the certificate was refused: no trusted certificate signed it")
			}
			key, err := parts.Unlocked([]byte(in.Key), []byte(in.Passphrase))
			if err != nil {
				return err
			}
			if _, err := tls.X509KeyPair(chain, key); err != nil {
				return err
			}
			use := call.PathValue("use")
			for _, what := range []string{"chain", "key"} { // what was there before the last one is gone
				of.Root.Remove(standin.Inside(standin.AccessFile(use, "before", what)))
			}
			w.WriteHeader(http.StatusNoContent)
			return of.Lay(map[string][]byte{standin.AccessFile(use, "waits", "chain"): chain,
				standin.AccessFile(use, "waits", "key"): key})
		}))
	mux.HandleFunc("DELETE /api/nodes/{node}/certificates/{use}",
		node(func(of *standin.Running, w http.ResponseWriter, call *http.Request) error {
			for _, what := range []string{"chain", "key"} {
				of.Root.Remove(standin.Inside(standin.AccessFile(call.PathValue("use"), "waits", what)))
			}
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	mux.HandleFunc("GET /api/nodes/{node}/uses/{use}",
		node(func(of *standin.Running, w http.ResponseWriter, call *http.Request) error {
			use := call.PathValue("use")
			chain, _ := standin.InUse(use)
			standin.WriteJSON(w, http.StatusOK, map[string]string{"sha256": of.LeafIn(chain),
				"waits":    of.LeafIn(standin.AccessFile(use, "waits", "chain")),
				"previous": of.LeafIn(standin.AccessFile(use, "before", "chain"))})
			return nil
		}))
	mux.HandleFunc("POST /api/nodes/{node}/uses/{use}",
		node(func(of *standin.Running, w http.ResponseWriter, call *http.Request) error {
			w.WriteHeader(http.StatusAccepted)
			if r.Faulty().KeepServing || r.Faulty().OneNode && of != r {
				return nil
			}
			return useAccess(of, call.PathValue("use"), "waits", true)
		}))
	mux.HandleFunc("POST /api/nodes/{node}/uses/{use}/previous",
		node(func(of *standin.Running, w http.ResponseWriter, call *http.Request) error {
			w.WriteHeader(http.StatusAccepted)
			if useAccess(of, call.PathValue("use"), "before", false) != nil {
				return nil // nothing was changed
			}
			return nil
		}))
	return mux
}

// bothDownloads makes a key and a request, and gives both, the key locked.
func bothDownloads(r *standin.Running, a parts.Asked, passphrase string) (map[string]string, error) {
	der, err := r.NextRequest(a.Subject(), a.Names, a.Key)
	if err != nil {
		return nil, err
	}
	text, err := r.Root.ReadFile(standin.Inside(standin.AskedKey))
	if err != nil {
		return nil, err
	}
	r.Root.Remove(standin.Inside(standin.AskedKey)) // it leaves the box
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
	return map[string]string{"request": string(standin.PemOf("CERTIFICATE REQUEST", der)),
		"key": string(standin.PemOf(label, locked))}, nil
}

// useAccess puts the certificate of a state in use, and with keep the one from before aside.
// The service of that use restarts.
func useAccess(r *standin.Running, use, state string, keep bool) error {
	chain, err := r.Root.ReadFile(standin.Inside(standin.AccessFile(use, state, "chain")))
	if err != nil {
		return errors.New("there is none yet")
	}
	key, err := r.Root.ReadFile(standin.Inside(standin.AccessFile(use, state, "key")))
	if err != nil {
		return err
	}
	chainFile, keyFile := standin.InUse(use)
	oldChain, err := r.Root.ReadFile(standin.Inside(chainFile))
	if err != nil {
		return err
	}
	oldKey, err := r.Root.ReadFile(standin.Inside(keyFile))
	if err != nil {
		return err
	}
	if keep && string(oldChain) != string(chain) {
		if err := r.Lay(map[string][]byte{standin.AccessFile(use, "before", "chain"): oldChain,
			standin.AccessFile(use, "before", "key"): oldKey}); err != nil {
			return err
		}
	}
	if err := r.Lay(map[string][]byte{chainFile: chain, keyFile: key}); err != nil {
		return err
	}
	r.Work.Go(func() {
		serving := &r.Serving
		if use == "eap" {
			serving = &r.Eap
		}
		serving.Store(nil)
		time.Sleep(r.Restart)
		if use == "eap" {
			r.LoadEAP()
		} else {
			r.Load()
		}
	})
	return nil
}
