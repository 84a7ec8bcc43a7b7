// Package firewall is the stand-in of the kind "firewall": a key that goes in a header; what is chosen counts once it
// is committed.
package firewall

import (
	"net/http"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.Firewall,
	standin.Make{Faults: standin.And(standin.WebFaults, "one-node", "never-done"),
		Web: firewall})

// firewall takes certificate and locked key under a new name; the one that is chosen for its
// administration counts once it is committed, and its standby gets it by itself.
func firewall(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	parts.FactoryObject(r)
	key := standin.Header("X-Api-Key")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.Guarded(key, nil, standin.Unauthorized, do)
	}
	mux.HandleFunc("POST /api/key", func(w http.ResponseWriter, call *http.Request) {
		if !r.LetsIn(call.PostFormValue("user"), call.PostFormValue("password")) {
			standin.Unauthorized(w, call)
			return
		}
		id, _ := r.Webs.Open()
		standin.WriteJSON(w, http.StatusOK, map[string]string{"key": id})
	})
	mux.HandleFunc("DELETE /api/key", in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(key(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /api/certificates", in(func(w http.ResponseWriter, call *http.Request) {
		opened, err := parts.Unlocked(parts.Uploaded(call, "key"), []byte(call.FormValue("passphrase")))
		if err == nil {
			err = parts.KeepObject(r, call.FormValue("name"), parts.Uploaded(call, "certificate"), opened)
		}
		if err != nil {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": err.Error()})
			return
		}
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"name": call.FormValue("name")})
	}))
	mux.HandleFunc("DELETE /api/certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		if parts.Remembered(r, "chosen", "factory") == call.PathValue("name") {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": "it is chosen"})
			return
		}
		parts.RemoveObject(r, call.PathValue("name"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /api/administration", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK, map[string]string{"certificate": parts.Remembered(r, "chosen", "factory")})
	}))
	mux.HandleFunc("PUT /api/administration", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Certificate string }
		err := standin.ReadJSON(call, &in)
		if err == nil {
			if _, _, err = parts.Object(r, in.Certificate); err == nil {
				err = parts.Remember(r, "chosen", in.Certificate)
			}
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("POST /api/commits", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusAccepted, map[string]string{"id": parts.BeginTask(r, func() error {
			return commit(r)
		})})
	}))
	mux.HandleFunc("GET /api/commits/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := parts.TaskState(r, call.PathValue("id"))
		standin.WriteJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent})
	}))
	return mux
}

// commit puts what was chosen into use, here and on the standby.
func commit(r *standin.Running) error {
	name := parts.Remembered(r, "chosen", "factory")
	if err := parts.UseObject(r, name); err != nil {
		return err
	}
	standby := (*standin.Running)(nil)
	if r.Hosts != nil {
		standby = r.Hosts("standby")
	}
	if standby == nil || r.Faulty().KeepServing || r.Faulty().OneNode {
		return nil
	}
	chain, key, err := parts.Object(r, name)
	if err != nil {
		return err
	}
	r.Work.Go(func() {
		time.Sleep(r.Restart)
		standby.Meddle(chain, key)
	})
	return nil
}
