package standin

import (
	"bytes"
	"crypto/x509"
	"errors"
	"net/http"
	"strings"

	"freshseal/core/pki/pile"
)

// Boxes that others rely on.
const (
	TraversalPeer      Kind = "traversal peer"      // one of several that check each other
	BuildingController Kind = "building controller" // a key store, and a supervisor that must trust it
)

func init() {
	webKinds[TraversalPeer] = traversalPeer
	webKinds[BuildingController] = buildingController
}

// traversalPeer is one of the peers of a cluster. Its key never leaves it. Peers check each
// other's certificates once that is switched to strict, which is refused until all have theirs.
func traversalPeer(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.tokens(mux, "/api/session", "X-Session")
	mux.HandleFunc("GET /api/system", in(func(w http.ResponseWriter, _ *http.Request) {
		host, domain, _ := strings.Cut(r.System, ".")
		if r.faulty().OtherPrompt {
			host = "unnamed"
		}
		writeJSON(w, http.StatusOK, map[string]string{"host": host, "domain": domain, "name": host + "." + domain,
			"verification": r.remembered("verification", "permissive")})
	}))
	mux.HandleFunc("POST /api/request", in(func(w http.ResponseWriter, call *http.Request) {
		var in asked
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		der, err := r.nextRequest(in.subject(), in.Names, in.Key)
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusCreated, map[string]any{"request": string(pemOf("CERTIFICATE REQUEST", der)),
			"names": in.Names})
	}))
	mux.HandleFunc("GET /api/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, r.shows().asJSON())
	}))
	mux.HandleFunc("PUT /api/certificate", in(r.takesJSON))
	mux.HandleFunc("POST /api/certificate/previous", in(r.goesBack))
	mux.HandleFunc("PUT /api/verification", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Mode string }
		err := readJSON(call, &in)
		for _, peer := range r.others() {
			if leaf := peer.served(); err == nil && in.Mode == "strict" && (leaf == nil || ownIssuer(leaf)) {
				err = errors.New("a peer has no certificate of an authority yet")
			}
		}
		if err != nil {
			writeJSON(w, http.StatusConflict, map[string]string{"error": err.Error()})
			return
		}
		r.remember("verification", in.Mode)
		writeJSON(w, http.StatusOK, in)
	}))
	return mux
}

// buildingController keeps its key in a store with entries; its web service is told which
// entry it uses. Its supervisor keeps its link to it only while it trusts its root.
func buildingController(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	r.factoryObject()
	in := r.signInForm(mux)
	const supervisor = "/var/web/supervisor.pem"
	mux.HandleFunc("POST /keystore/{alias}", in(func(w http.ResponseWriter, call *http.Request) {
		accounts, err := pile.Sort([]pile.File{{Name: "store", Content: uploaded(call, "store")}},
			pile.Options{Passphrases: []string{call.FormValue("passphrase")}})
		keys := pile.Keys(accounts)
		if err != nil || len(keys) != 1 {
			writeJSON(w, http.StatusBadRequest, map[string]string{"error": "the store cannot be opened"})
			return
		}
		key, err := pemOfKey(keys[0])
		if err == nil {
			var chain []byte
			for _, c := range pile.Certificates(accounts) {
				chain = append(chain, pemOf("CERTIFICATE", c.Raw)...)
			}
			err = r.keepObject(call.PathValue("alias"), chain, key)
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("POST /keystore/{alias}/request", in(func(w http.ResponseWriter, call *http.Request) {
		var wanted asked
		if err := readJSON(call, &wanted); err != nil {
			refuseJSON(w, err)
			return
		}
		r.answerRequest(w, wanted, "/var/web/store-"+call.PathValue("alias"))
	}))
	mux.HandleFunc("PUT /keystore/{alias}/chain", in(func(w http.ResponseWriter, call *http.Request) {
		key, err := r.root.ReadFile(inside("/var/web/store-" + call.PathValue("alias")))
		if err == nil {
			r.removeObject(call.PathValue("alias"))
			err = r.keepObject(call.PathValue("alias"), uploaded(call, "chain"), key)
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("DELETE /keystore/{alias}/chain", in(func(w http.ResponseWriter, call *http.Request) {
		r.removeObject(call.PathValue("alias"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("DELETE /keystore/{alias}", in(func(w http.ResponseWriter, call *http.Request) {
		if call.PathValue("alias") == r.remembered("entry", "factory") {
			writeJSON(w, http.StatusConflict, map[string]string{"error": "the entry is used by the web service"})
			return
		}
		r.removeObject(call.PathValue("alias"))
		r.root.Remove(inside("/var/web/store-" + call.PathValue("alias")))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /web", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"entry": r.remembered("entry", "factory")})
	}))
	mux.HandleFunc("PUT /web", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Entry string }
		err := readJSON(call, &in)
		if err == nil {
			if err = r.useObject(in.Entry); err == nil {
				err = r.remember("entry", in.Entry)
			}
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("POST /trust/{who}", in(func(w http.ResponseWriter, call *http.Request) {
		to := trustFile
		if call.PathValue("who") == "supervisor" {
			to = supervisor
		}
		if r.faulty().OneNode && to == supervisor {
			w.WriteHeader(http.StatusCreated) // and forgets it
			return
		}
		kept, _ := r.root.ReadFile(inside(to)) // none, before the first
		r.lay(map[string][]byte{to: append(kept, uploaded(call, "root")...)})
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("GET /link", in(func(w http.ResponseWriter, _ *http.Request) {
		state := "down"
		_, trusted := r.root.Stat(inside(supervisor))
		if leaf := r.served(); leaf != nil && (ownIssuer(leaf) || trusted == nil) {
			state = "up"
		}
		writeJSON(w, http.StatusOK, map[string]string{"supervisor": state})
	}))
	mux.HandleFunc("GET /export", in(func(w http.ResponseWriter, _ *http.Request) {
		chain, key, err := r.object(r.remembered("entry", "factory"))
		if err != nil {
			refuseJSON(w, err)
			return
		}
		if r.faulty().PlainStays {
			chain = append(chain, key...)
		}
		w.Header().Set("Content-Type", "application/x-pem-file")
		w.Write(chain)
	}))
	return mux
}

// ownIssuer says that a certificate is one that its box made itself.
func ownIssuer(c *x509.Certificate) bool { return bytes.Equal(c.RawIssuer, c.RawSubject) }
