// Package building is the stand-in of the kind "building controller": a key store, and a supervisor that must trust
// it.
package building

import (
	"net/http"

	"freshseal/core/pki/pile"
	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.BuildingController, standin.Make{Faults: standin.WebFaults, Web: buildingController})

// buildingController stores its key in a store with entries; its web service is told which
// entry it uses. Its supervisor keeps its link to it only while it trusts its root.
func buildingController(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	parts.FactoryObject(r)
	in := parts.SignInForm(r, mux)
	mux.HandleFunc("POST /keystore/{alias}", in(func(w http.ResponseWriter, call *http.Request) {
		accounts, err := pile.Sort([]pile.File{{Name: "store", Content: parts.Uploaded(call, "store")}},
			pile.Options{Passphrases: []string{call.FormValue("passphrase")}})
		keys := pile.Keys(accounts)
		if err != nil || len(keys) != 1 {
			standin.WriteJSON(w, http.StatusBadRequest, map[string]string{"error": "the store cannot be opened"})
			return
		}
		key, err := parts.PemOfKey(keys[0])
		if err == nil {
			var chain []byte
			for _, c := range pile.Certificates(accounts) {
				chain = append(chain, standin.PemOf("CERTIFICATE", c.Raw)...)
			}
			err = parts.KeepObject(r, call.PathValue("alias"), chain, key)
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("POST /keystore/{alias}/request", in(func(w http.ResponseWriter, call *http.Request) {
		var wanted parts.Asked
		if err := standin.ReadJSON(call, &wanted); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		parts.AnswerRequest(r, w, wanted, "/var/web/store-"+call.PathValue("alias"))
	}))
	mux.HandleFunc("PUT /keystore/{alias}/chain", in(func(w http.ResponseWriter, call *http.Request) {
		key, err := r.Root.ReadFile(standin.Inside("/var/web/store-" + call.PathValue("alias")))
		if err == nil {
			parts.RemoveObject(r, call.PathValue("alias"))
			err = parts.KeepObject(r, call.PathValue("alias"), parts.Uploaded(call, "chain"), key)
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("DELETE /keystore/{alias}/chain", in(func(w http.ResponseWriter, call *http.Request) {
		parts.RemoveObject(r, call.PathValue("alias"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("DELETE /keystore/{alias}", in(func(w http.ResponseWriter, call *http.Request) {
		if call.PathValue("alias") == parts.Remembered(r, "entry", "factory") {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": "the entry is used by the " +
				"web service"})
			return
		}
		parts.RemoveObject(r, call.PathValue("alias"))
		r.Root.Remove(standin.Inside("/var/web/store-" + call.PathValue("alias")))
		w.WriteHeader(http.StatusNoContent)
	}))
	serveUse(r, mux, in)
	return mux
}

// supervisor is the file of the roots that the supervisor trusts.
const supervisor = "/var/web/supervisor.pem"

// serveUse answers which entry the web service uses, who trusts what, and whether the link to the supervisor is up.
func serveUse(r *standin.Running, mux *http.ServeMux,
	in func(func(http.ResponseWriter, *http.Request)) http.HandlerFunc) {
	mux.HandleFunc("GET /web", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK, map[string]string{"entry": parts.Remembered(r, "entry", "factory")})
	}))
	mux.HandleFunc("PUT /web", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Entry string }
		err := standin.ReadJSON(call, &in)
		if err == nil {
			if err = parts.UseObject(r, in.Entry); err == nil {
				err = parts.Remember(r, "entry", in.Entry)
			}
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("POST /trust/{who}", in(func(w http.ResponseWriter, call *http.Request) {
		to := parts.TrustFile
		if call.PathValue("who") == "supervisor" {
			to = supervisor
		}
		if r.Faulty().OneNode && to == supervisor {
			w.WriteHeader(http.StatusCreated) // and forgets it
			return
		}
		kept, _ := r.Root.ReadFile(standin.Inside(to)) // none, before the first
		r.Lay(map[string][]byte{to: append(kept, parts.Uploaded(call, "root")...)})
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("GET /link", in(func(w http.ResponseWriter, _ *http.Request) {
		state := "down"
		_, trusted := r.Root.Stat(standin.Inside(supervisor))
		if leaf := r.Served(); leaf != nil && (parts.OwnIssuer(leaf) || trusted == nil) {
			state = "up"
		}
		standin.WriteJSON(w, http.StatusOK, map[string]string{"supervisor": state})
	}))
	mux.HandleFunc("GET /export", in(func(w http.ResponseWriter, _ *http.Request) {
		chain, key, err := parts.Object(r, parts.Remembered(r, "entry", "factory"))
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		if r.Faulty().PlainStays {
			chain = append(chain, key...)
		}
		w.Header().Set("Content-Type", "application/x-pem-file")
		w.Write(chain)
	}))
}
