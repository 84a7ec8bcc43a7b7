// Package wan is the stand-in of the kind "wan controller": a JSON interface with a session and an anti-forgery
// header.
package wan

import (
	"errors"
	"net/http"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.WANController, standin.Make{Faults: standin.WebFaults, Web: wanController})

// wanController returns the interface of a controller for long lines. Its two certificates have
// names; what is imported is used after a restart, and the interface shows what it
// showed before until it is asked for something fresh.
func wanController(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /api/session", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if standin.ReadJSON(call, &in) != nil || !r.LetsIn(in.User, in.Password) {
			standin.Unauthorized(w, call)
			return
		}
		id, guard := r.Webs.Open()
		http.SetCookie(w, &http.Cookie{Name: "sid", Value: id, Path: "/", Secure: true, HttpOnly: true})
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"guard": guard})
	})
	in := func(do func(w http.ResponseWriter, call *http.Request)) http.HandlerFunc {
		return r.Guarded(standin.Cookie, standin.Header("X-Guard"), standin.Unauthorized, do)
	}
	mux.HandleFunc("DELETE /api/session", in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(standin.Cookie(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	named := func(do func(w http.ResponseWriter, call *http.Request)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			if call.PathValue("name") != "web" {
				standin.WriteJSON(w, http.StatusNotFound, map[string]string{"error": "no certificate is called that"})
				return
			}
			do(w, call)
		})
	}
	mux.HandleFunc("GET /api/certificates/{name}", named(func(w http.ResponseWriter, call *http.Request) {
		leaf := r.Served()
		if leaf == nil {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		shown := standin.Fingerprint(leaf)
		if call.URL.Query().Get("fresh") != "yes" {
			shown = shownFirst(&r.Webs, shown)
		}
		standin.WriteJSON(w, http.StatusOK, map[string]any{"name": "web", "sha256": shown,
			"previous": r.LeafIn(standin.BeforeChain),
			"pending":  r.Pending(), "ends": leaf.NotAfter, "organization": append(leaf.Subject.Organization, "")[0]})
	}))
	mux.HandleFunc("POST /api/certificates/{name}/requests", named(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			parts.Asked
			Days int
		}
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		if in.Days < 1 || in.Days > 397 {
			standin.RefuseJSON(w, errors.New("days: 1 to 397"))
			return
		}
		der, err := r.NextRequest(in.Subject(), in.Names, in.Key)
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusCreated,
			map[string]string{"request": string(standin.PemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("PUT /api/certificates/{name}", named(r.TakesJSON))
	mux.HandleFunc("POST /api/certificates/{name}/previous", named(r.GoesBack))
	return mux
}

// shownFirst returns what an interface goes on showing: the first that it showed.
func shownFirst(s *standin.WebState, now string) string {
	s.Lock.Lock()
	defer s.Lock.Unlock()
	if s.First == "" {
		s.First = now
	}
	return s.First
}
