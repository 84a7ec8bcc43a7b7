// Package signon is the stand-in of the kind "sign-on server": outstanding requests with an id, and processes that
// start one after another.
package signon

import (
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.SignOnServer, standin.Make{Faults: standin.And(standin.WebFaults, "never-done"),
	Web:      signOnServer,
	Commands: map[string]standin.Command{"portalctl": portalctl},
	Power: func(r *standin.Running) error {
		if _, staged := r.Root.Stat(standin.Inside(standin.NextChain)); staged == nil {
			return r.Use()
		}
		return r.Load()
	}})

// signOnServer stores its requests in a list of outstanding ones; a signed leaf is bound to its
// request by the id, with the uses that are ticked, and counts after a restart.
func signOnServer(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInJSON(r, mux, "/api/session", "X-Session")
	mux.HandleFunc("POST /api/trust", in(parts.TakeTrust(r)))
	mux.HandleFunc("POST /api/outstanding", in(func(w http.ResponseWriter, call *http.Request) {
		var in parts.Asked
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		if _, err := r.NextRequest(in.Subject(), in.Names, in.Key); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		id := strings.ToLower(rand.Text()[:8])
		parts.Remember(r, "outstanding", id)
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"id": id})
	}))
	outstanding := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			if call.PathValue("id") != parts.Remembered(r, "outstanding", "-") {
				standin.WriteJSON(w, http.StatusNotFound, map[string]string{"error": "no such request is outstanding"})
				return
			}
			do(w, call)
		})
	}
	mux.HandleFunc("GET /api/outstanding/{id}", outstanding(func(w http.ResponseWriter, _ *http.Request) {
		text, err := r.Root.ReadFile(standin.Inside(standin.NextRequest))
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusOK, map[string]string{"request": string(text)})
	}))
	mux.HandleFunc("PUT /api/outstanding/{id}", outstanding(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Certificate string
			Uses        []string
		}
		err := standin.ReadJSON(call, &in)
		if err == nil && len(in.Uses) == 0 {
			err = errors.New("tick a use")
		}
		var chain []byte
		if err == nil {
			chain, err = parts.Completed(r, []byte(in.Certificate))
		}
		if err == nil {
			err = r.Take(chain)
		}
		if err != nil {
			standin.RefuseJSON(w, errors.New("the certificate was refused"))
			return
		}
		parts.Remember(r, "uses", strings.Join(in.Uses, " "))
		standin.WriteJSON(w, http.StatusOK, map[string]string{"state": "bound; restart the server"})
	}))
	mux.HandleFunc("DELETE /api/outstanding/{id}/certificate",
		outstanding(func(w http.ResponseWriter, _ *http.Request) {
			r.Root.Remove(standin.Inside(standin.NextChain))
			w.WriteHeader(http.StatusNoContent)
		}))
	mux.HandleFunc("GET /api/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK, r.Shows(standin.NextChain).AsJSON())
	}))
	mux.HandleFunc("POST /api/previous", in(func(w http.ResponseWriter, _ *http.Request) {
		if err := r.Root.Rename(standin.Inside(standin.BeforeChain), standin.Inside(standin.NextChain)); err == nil {
			r.Root.Rename(standin.Inside(standin.BeforeKey), standin.Inside(standin.NextKey))
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	return mux
}

// portalctl restarts a sign-on server, and says how its processes stand.
func portalctl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	switch strings.Join(words, " ") {
	case "restart":
		parts.Remember(r, "restarted", fmt.Sprint(time.Now().UnixMilli()))
		if _, err := r.Root.Stat(standin.Inside(standin.NextChain)); err != nil {
			return nil
		}
		return r.Use()
	case "states":
		var at int64
		fmt.Sscan(parts.Remembered(r, "restarted", "0"), &at)
		up := time.Since(time.UnixMilli(at))
		for i, name := range []string{"database", "directory", "portal", "radius"} {
			state := "running"
			if up < r.Restart*time.Duration(i+1)/4 || r.Faulty().NeverDone && name == "radius" && at > 0 {
				state = "starting"
			}
			fmt.Fprintf(h.Stdout, "%s %s\n", name, state)
		}
		return nil
	}
	return errors.New("usage: portalctl restart | states")
}
