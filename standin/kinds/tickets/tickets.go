// Package tickets is the stand-in of the kind "ticket office": JSON, with a task for each change.
package tickets

import (
	"crypto/x509/pkix"
	"net/http"
	"strconv"
	"sync"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.TicketOffice, standin.Make{Faults: standin.And(standin.WebFaults, "never-done"),
	Web: ticketOffice})

// ticketOffice has a task for each thing that it is asked to do.
func ticketOffice(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	type task struct {
		began  time.Time
		result map[string]string
	}
	var lock sync.Mutex
	var tasks []task
	begin := func(w http.ResponseWriter, result map[string]string) {
		lock.Lock()
		defer lock.Unlock()
		tasks = append(tasks, task{time.Now(), result})
		standin.WriteJSON(w, http.StatusAccepted, map[string]string{"task": strconv.Itoa(len(tasks))})
	}
	in := parts.SignInJSON(r, mux, "/v2/tokens", "X-Office-Token")
	mux.HandleFunc("GET /v2/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		out := r.Shows().AsJSON()
		out["pending"] = r.Pending()
		standin.WriteJSON(w, http.StatusOK, out)
	}))
	mux.HandleFunc("GET /v2/tasks/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		lock.Lock()
		defer lock.Unlock()
		n, _ := strconv.Atoi(call.PathValue("id"))
		if n < 1 || n > len(tasks) {
			standin.WriteJSON(w, http.StatusNotFound, map[string]string{"error": "no such task"})
			return
		}
		done := parts.Progress(r, tasks[n-1].began)
		out := map[string]any{"state": "running", "percent": done}
		if done == 100 {
			out["state"] = "done"
			for key, value := range tasks[n-1].result {
				out[key] = value
			}
		}
		standin.WriteJSON(w, http.StatusOK, out)
	}))
	mux.HandleFunc("POST /v2/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Name, Organization string
			Names              []string
		}
		err := standin.ReadJSON(call, &in)
		var der []byte
		if err == nil {
			der, err = r.NextRequest(pkix.Name{CommonName: in.Name, Organization: standin.Some(in.Organization)},
				in.Names, "")
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		begin(w, map[string]string{"request": string(standin.PemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("POST /v2/imports", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Chain string }
		err := standin.ReadJSON(call, &in)
		if err == nil {
			err = r.Take([]byte(in.Chain))
		}
		if err != nil {
			begin(w, map[string]string{"state": "failed", "error": err.Error()})
			return
		}
		if err := r.Use(); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		begin(w, nil)
	}))
	mux.HandleFunc("POST /v2/reversals", in(func(w http.ResponseWriter, _ *http.Request) {
		if err := r.GoBackWeb(); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		begin(w, nil)
	}))
	return mux
}
