package standin

import (
	"errors"
	"net/http"
	"time"
)

// WANController has a JSON interface with a session and an anti-forgery header.
const WANController Kind = "wan controller"

func init() { webKinds[WANController] = wanController }

// wanController is the interface of a controller for long lines. Its two certificates have
// names; what is imported is used after a restart, and the interface shows what it
// showed before until it is asked for something fresh.
func wanController(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /api/session", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if readJSON(call, &in) != nil || !r.letsIn(in.User, in.Password) {
			unauthorized(w, call)
			return
		}
		id, guard := r.webs.open()
		http.SetCookie(w, &http.Cookie{Name: "sid", Value: id, Path: "/", Secure: true, HttpOnly: true})
		writeJSON(w, http.StatusCreated, map[string]string{"guard": guard})
	})
	in := func(do func(w http.ResponseWriter, call *http.Request)) http.HandlerFunc {
		return r.guarded(cookie, header("X-Guard"), unauthorized, do)
	}
	mux.HandleFunc("DELETE /api/session", in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(cookie(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	named := func(do func(w http.ResponseWriter, call *http.Request)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			if call.PathValue("name") != "web" {
				writeJSON(w, http.StatusNotFound, map[string]string{"error": "no certificate is called that"})
				return
			}
			do(w, call)
		})
	}
	mux.HandleFunc("GET /api/certificates/{name}", named(func(w http.ResponseWriter, call *http.Request) {
		leaf := r.served()
		if leaf == nil {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		shown := fingerprint(leaf)
		if call.URL.Query().Get("fresh") != "yes" {
			shown = r.webs.shown(shown)
		}
		writeJSON(w, http.StatusOK, map[string]any{"name": "web", "sha256": shown, "previous": r.leafIn(beforeChain),
			"pending": r.pending(), "ends": leaf.NotAfter, "organization": append(leaf.Subject.Organization, "")[0]})
	}))
	mux.HandleFunc("POST /api/certificates/{name}/requests", named(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			asked
			Days int
		}
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		if in.Days < 1 || in.Days > 397 {
			refuseJSON(w, errors.New("days: 1 to 397"))
			return
		}
		der, err := r.nextRequest(in.subject(), in.Names, in.Key)
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusCreated, map[string]string{"request": string(pemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("PUT /api/certificates/{name}", named(r.takesJSON))
	mux.HandleFunc("POST /api/certificates/{name}/previous", named(r.goesBack))
	return mux
}

// shown is what an interface goes on showing: the first that it showed.
func (s *webState) shown(now string) string {
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.first == "" {
		s.first = now
	}
	return s.first
}

func some(text string) []string {
	if text == "" {
		return nil
	}
	return []string{text}
}

// progress is how much of a task is done, in percent: it takes a while, and for ever with
// that fault.
func (r *Running) progress(began time.Time) int {
	if r.faulty().NeverDone {
		return 40
	}
	return min(100, 1+int(100*time.Since(began)/max(r.Restart, time.Millisecond)))
}
