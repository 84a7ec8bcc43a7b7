// Package hostmanager is the stand-in of the kind "host manager": signs for the hosts under it, as a task.
package hostmanager

import (
	"crypto/rand"
	"crypto/x509/pkix"
	"errors"
	"net/http"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.HostManager,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "session-lost", "never-done", "stays-in-maintenance"},
		Web: hostManager})

// hostManager makes key and certificate of each host under it, signed by an authority of its
// own; maintenance and renewal are calls.
func hostManager(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	token := standin.Header("X-Session")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.Guarded(token, nil, standin.Unauthorized, do)
	}
	mux.HandleFunc("POST /api/session", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if standin.ReadJSON(call, &in) != nil || !r.LetsIn(in.User, in.Password) {
			standin.Unauthorized(w, call)
			return
		}
		id, _ := r.Webs.Open()
		w.Header().Set("X-Session", id)
		w.WriteHeader(http.StatusCreated)
	})
	mux.HandleFunc("DELETE /api/session", in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /api/authority", in(func(w http.ResponseWriter, _ *http.Request) {
		authority, err := parts.Authority(r)
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusOK, map[string]string{"certificate": string(authority.PEM())})
	}))
	host := func(do func(w http.ResponseWriter, call *http.Request, name string,
		host *standin.Running)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			name := call.PathValue("name")
			if r.Hosts == nil || r.Hosts(name) == nil {
				standin.WriteJSON(w, http.StatusNotFound, map[string]string{"error": "no host is called that"})
				return
			}
			do(w, call, name, r.Hosts(name))
		})
	}
	mux.HandleFunc("GET /api/hosts/{name}",
		host(func(w http.ResponseWriter, _ *http.Request, name string, _ *standin.Running) {
			standin.WriteJSON(w, http.StatusOK,
				map[string]string{"name": name,
					"link":        map[bool]string{true: "broken", false: "connected"}[r.Faulty().Silent],
					"maintenance": parts.Remembered(r, "maintenance-"+name, "off"),
					"task":        parts.Remembered(r, "task-"+name, "0")})
		}))
	mux.HandleFunc("POST /api/hosts/{name}/maintenance",
		host(func(w http.ResponseWriter, call *http.Request, name string, _ *standin.Running) {
			var in struct{ On bool }
			if standin.ReadJSON(call, &in) != nil || !in.On && r.Faulty().StaysInMaintenance {
				standin.RefuseJSON(w, errors.New("the host does not leave maintenance"))
				return
			}
			parts.Remember(r, "maintenance-"+name, map[bool]string{true: "on", false: "off"}[in.On])
			standin.WriteJSON(w, http.StatusOK, in)
		}))
	mux.HandleFunc("POST /api/hosts/{name}/renewals",
		host(func(w http.ResponseWriter, _ *http.Request, name string, host *standin.Running) {
			if parts.Remembered(r, "maintenance-"+name, "off") != "on" {
				standin.RefuseJSON(w, errors.New("the host is not in maintenance"))
				return
			}
			task := parts.BeginTask(r, func() error { return renew(r, name, host) })
			parts.Remember(r, "task-"+name, task)
			standin.WriteJSON(w, http.StatusAccepted, map[string]string{"task": task})
		}))
	mux.HandleFunc("GET /api/tasks/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := parts.TaskState(r, call.PathValue("id"))
		standin.WriteJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent,
			"text": map[string]string{"failed": "the host is busy"}[state]})
	}))
	return mux
}

// renew gives a host another key and certificate.
func renew(r *standin.Running, name string, host *standin.Running) error {
	if r.Faulty().FailTest {
		return errors.New("the host is busy")
	}
	if r.Faulty().KeepServing {
		return nil
	}
	authority, err := parts.Authority(r)
	if err != nil {
		return err
	}
	if r.Faulty().RollBack {
		authority = nil // the host made itself another one meanwhile
	}
	certificate, key, err := authority.Issue(standin.Wanted{Subject: pkix.Name{Organization: []string{"Pelorus"},
		CommonName: name}, Names: []string{name}, Begins: -time.Hour, Ends: 365 * standin.Day}, rand.Reader, time.Now())
	if err != nil {
		return err
	}
	return host.Meddle(certificate, key)
}

// InWebMaintenance reports whether a host manager has a host in maintenance.
func InWebMaintenance(r *standin.Running, host string) bool {
	return parts.Remembered(r, "maintenance-"+host, "off") == "on"
}
