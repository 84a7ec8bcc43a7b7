package standin

import (
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"freshseal/core/pki/pile"
)

// Boxes with JSON.
const (
	// a key that goes in a header; what is chosen counts once it is committed
	Firewall         Kind = "firewall"
	HostManager      Kind = "host manager"      // signs for the hosts under it, as a task
	ServerBoard      Kind = "server board"      // Redfish
	ReportingGateway Kind = "reporting gateway" // listeners that are bound to a name and a certificate
)

func init() {
	webKinds[Firewall] = firewall
	webKinds[HostManager] = hostManager
	webKinds[ServerBoard] = serverBoard
	webKinds[ReportingGateway] = reportingGateway
}

// task is something that takes a while.
type task struct {
	began time.Time
	ended bool
	err   error
}

// begin begins a task, which ends by itself, and returns its number.
func (r *Running) begin(ends func() error) string {
	r.webs.lock.Lock()
	defer r.webs.lock.Unlock()
	if r.webs.tasks == nil {
		r.webs.tasks = map[string]*task{}
	}
	id, t := fmt.Sprint(100+len(r.webs.tasks)), &task{began: time.Now()}
	r.webs.tasks[id] = t
	if f := r.faulty(); !f.NeverDone && !f.Forgets {
		r.work.Go(func() {
			time.Sleep(r.Restart)
			err := ends()
			r.webs.lock.Lock()
			defer r.webs.lock.Unlock()
			t.ended, t.err = true, err
		})
	}
	return id
}

// stands is how a task stands: running, done or failed, and how much of it is done.
func (r *Running) stands(id string) (state string, percent int) {
	r.webs.lock.Lock()
	defer r.webs.lock.Unlock()
	t := r.webs.tasks[id]
	switch {
	case t == nil || r.faulty().Forgets:
		return "unknown", 0
	case !t.ended:
		return "running", min(99, r.progress(t.began))
	case t.err != nil:
		return "failed", 100
	}
	return "done", 100
}

const objects = "/var/web/objects/"

// keepObject keeps a certificate with its key under a name of its own.
func (r *Running) keepObject(name string, chain, key []byte) error {
	if _, err := r.root.Stat(inside(objects + name + ".crt")); err == nil {
		return errors.New("the name is in use")
	}
	if _, err := tls.X509KeyPair(chain, key); err != nil {
		return err
	}
	return r.lay(map[string][]byte{objects + name + ".crt": chain, objects + name + ".key": key})
}

func (r *Running) removeObject(name string) {
	r.root.Remove(inside(objects + name + ".crt"))
	r.root.Remove(inside(objects + name + ".key"))
}

// useObject has the box serve the certificate of that name; factory is the delivered one.
func (r *Running) useObject(name string) error {
	chain, key, err := r.object(name)
	if err != nil {
		return err
	}
	if r.faulty().FailTest && !r.isUsual(chain) {
		return errors.New("the certificate was refused")
	}
	if err := r.lay(map[string][]byte{nextChain: chain, nextKey: key}); err != nil {
		return err
	}
	return r.use()
}

func (r *Running) object(name string) (chain, key []byte, err error) {
	if chain, err = r.root.ReadFile(inside(objects + name + ".crt")); err != nil {
		return nil, nil, fmt.Errorf("no certificate is called %s", name)
	}
	key, err = r.root.ReadFile(inside(objects + name + ".key"))
	return chain, key, err
}

// factoryObject keeps what a box was delivered with under the name factory.
func (r *Running) factoryObject() {
	if _, err := r.root.Stat(inside(objects + "factory.crt")); err == nil {
		return
	}
	chain, err := r.root.ReadFile(inside(CertificateFile))
	if err != nil {
		return
	}
	key, err := r.root.ReadFile(inside(KeyFile))
	if err == nil {
		r.lay(map[string][]byte{objects + "factory.crt": chain, objects + "factory.key": key})
	}
}

// remembered is a word that a box keeps, such as which certificate is chosen.
func (r *Running) remembered(name, usual string) string {
	text, err := r.root.ReadFile(inside("/var/web/" + name))
	if err != nil {
		return usual
	}
	return string(text)
}

func (r *Running) remember(name, text string) error {
	return r.lay(map[string][]byte{"/var/web/" + name: []byte(text)})
}

func unlocked(key, passphrase []byte) ([]byte, error) {
	accounts, err := pile.Sort([]pile.File{{Name: "key", Content: key}},
		pile.Options{Passphrases: []string{string(passphrase)}})
	if err != nil {
		return nil, err
	}
	for _, opened := range pile.Keys(accounts) {
		return pemOfKey(opened)
	}
	return nil, errors.New("the key cannot be opened")
}

func pemOfKey(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	return pemOf("PRIVATE KEY", der), err
}

// firewall takes certificate and locked key under a new name; the one that is chosen for its
// administration counts once it is committed, and its standby gets it by itself.
func firewall(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	r.factoryObject()
	key := header("X-Api-Key")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.guarded(key, nil, unauthorized, do)
	}
	mux.HandleFunc("POST /api/key", func(w http.ResponseWriter, call *http.Request) {
		if !r.letsIn(call.PostFormValue("user"), call.PostFormValue("password")) {
			unauthorized(w, call)
			return
		}
		id, _ := r.webs.open()
		writeJSON(w, http.StatusOK, map[string]string{"key": id})
	})
	mux.HandleFunc("DELETE /api/key", in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(key(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /api/certificates", in(func(w http.ResponseWriter, call *http.Request) {
		opened, err := unlocked(uploaded(call, "key"), []byte(call.FormValue("passphrase")))
		if err == nil {
			err = r.keepObject(call.FormValue("name"), uploaded(call, "certificate"), opened)
		}
		if err != nil {
			writeJSON(w, http.StatusConflict, map[string]string{"error": err.Error()})
			return
		}
		writeJSON(w, http.StatusCreated, map[string]string{"name": call.FormValue("name")})
	}))
	mux.HandleFunc("DELETE /api/certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		if r.remembered("chosen", "factory") == call.PathValue("name") {
			writeJSON(w, http.StatusConflict, map[string]string{"error": "it is chosen"})
			return
		}
		r.removeObject(call.PathValue("name"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /api/administration", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"certificate": r.remembered("chosen", "factory")})
	}))
	mux.HandleFunc("PUT /api/administration", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Certificate string }
		err := readJSON(call, &in)
		if err == nil {
			if _, _, err = r.object(in.Certificate); err == nil {
				err = r.remember("chosen", in.Certificate)
			}
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("POST /api/commits", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusAccepted, map[string]string{"id": r.begin(r.commit)})
	}))
	mux.HandleFunc("GET /api/commits/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := r.stands(call.PathValue("id"))
		writeJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent})
	}))
	return mux
}

// commit puts what was chosen into use, here and on the standby.
func (r *Running) commit() error {
	name := r.remembered("chosen", "factory")
	if err := r.useObject(name); err != nil {
		return err
	}
	standby := (*Running)(nil)
	if r.Hosts != nil {
		standby = r.Hosts("standby")
	}
	if standby == nil || r.faulty().KeepServing || r.faulty().OneNode {
		return nil
	}
	chain, key, err := r.object(name)
	if err != nil {
		return err
	}
	r.work.Go(func() {
		time.Sleep(r.Restart)
		standby.Meddle(chain, key)
	})
	return nil
}

// hostManager makes key and certificate of each host under it, signed by an authority of its
// own; maintenance and renewal are calls.
func hostManager(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	token := header("X-Session")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.guarded(token, nil, unauthorized, do)
	}
	mux.HandleFunc("POST /api/session", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if readJSON(call, &in) != nil || !r.letsIn(in.User, in.Password) {
			unauthorized(w, call)
			return
		}
		id, _ := r.webs.open()
		w.Header().Set("X-Session", id)
		w.WriteHeader(http.StatusCreated)
	})
	mux.HandleFunc("DELETE /api/session", in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /api/authority", in(func(w http.ResponseWriter, _ *http.Request) {
		authority, err := r.authority()
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"certificate": string(authority.PEM())})
	}))
	host := func(do func(w http.ResponseWriter, call *http.Request, name string, host *Running)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			name := call.PathValue("name")
			if r.Hosts == nil || r.Hosts(name) == nil {
				writeJSON(w, http.StatusNotFound, map[string]string{"error": "no host is called that"})
				return
			}
			do(w, call, name, r.Hosts(name))
		})
	}
	mux.HandleFunc("GET /api/hosts/{name}", host(func(w http.ResponseWriter, _ *http.Request, name string, _ *Running) {
		writeJSON(w, http.StatusOK,
			map[string]string{"name": name,
				"link":        map[bool]string{true: "broken", false: "connected"}[r.faulty().Silent],
				"maintenance": r.remembered("maintenance-"+name, "off"), "task": r.remembered("task-"+name, "0")})
	}))
	mux.HandleFunc("POST /api/hosts/{name}/maintenance",
		host(func(w http.ResponseWriter, call *http.Request, name string, _ *Running) {
			var in struct{ On bool }
			if readJSON(call, &in) != nil || !in.On && r.faulty().StaysInMaintenance {
				refuseJSON(w, errors.New("the host does not leave maintenance"))
				return
			}
			r.remember("maintenance-"+name, map[bool]string{true: "on", false: "off"}[in.On])
			writeJSON(w, http.StatusOK, in)
		}))
	mux.HandleFunc("POST /api/hosts/{name}/renewals",
		host(func(w http.ResponseWriter, _ *http.Request, name string, host *Running) {
			if r.remembered("maintenance-"+name, "off") != "on" {
				refuseJSON(w, errors.New("the host is not in maintenance"))
				return
			}
			task := r.begin(func() error { return r.renew(name, host) })
			r.remember("task-"+name, task)
			writeJSON(w, http.StatusAccepted, map[string]string{"task": task})
		}))
	mux.HandleFunc("GET /api/tasks/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := r.stands(call.PathValue("id"))
		writeJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent,
			"text": map[string]string{"failed": "the host is busy"}[state]})
	}))
	return mux
}

// renew gives a host another key and certificate.
func (r *Running) renew(name string, host *Running) error {
	if r.faulty().FailTest {
		return errors.New("the host is busy")
	}
	if r.faulty().KeepServing {
		return nil
	}
	authority, err := r.authority()
	if err != nil {
		return err
	}
	if r.faulty().RollBack {
		authority = nil // the host made itself another one meanwhile
	}
	certificate, key, err := authority.Issue(Wanted{Subject: pkix.Name{Organization: []string{"Pelorus"},
		CommonName: name}, Names: []string{name}, Begins: -time.Hour, Ends: 365 * day}, rand.Reader, time.Now())
	if err != nil {
		return err
	}
	return host.Meddle(certificate, key)
}

// InWebMaintenance says that a host manager has a host in maintenance.
func (r *Running) InWebMaintenance(host string) bool {
	return r.remembered("maintenance-"+host, "off") == "on"
}

// reportingGateway has listeners, each bound to a host name and a certificate.
func reportingGateway(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	r.factoryObject()
	in := r.signInForm(mux)
	mux.HandleFunc("GET /reports", in(func(w http.ResponseWriter, _ *http.Request) {
		if r.remembered("console", "") == "broken" {
			writePage(w, http.StatusInternalServerError, "Console", "", "No listener", "")
			return
		}
		writePage(w, http.StatusOK, "Console", "", "Reports of the week", "")
	}))
	mux.HandleFunc("POST /requests", in(func(w http.ResponseWriter, call *http.Request) {
		der, err := r.nextRequest(inForm(call, "host", "organization", "unit", "locality", "state", "country"),
			strings.Split(call.FormValue("names"), ","), call.FormValue("key"))
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusCreated, map[string]string{"request": string(pemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("GET /listeners/{name}", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, map[string]string{"host": "", "address": "any",
			"certificate": r.remembered("bound", "factory")})
	}))
	mux.HandleFunc("PUT /certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		key, err := r.root.ReadFile(inside(askedKey))
		if err == nil {
			err = r.keepObject(call.PathValue("name"), []byte(call.FormValue("pem")), key)
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("DELETE /certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		r.removeObject(call.PathValue("name"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("PUT /listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Host, Address, Certificate string }
		err := readJSON(call, &in)
		if err == nil {
			if err = r.useObject(in.Certificate); err == nil {
				err = r.remember("bound", in.Certificate)
			}
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		if r.faulty().PlainStays {
			r.remember("console", map[bool]string{true: "", false: "broken"}[in.Certificate == "factory"])
		}
		writeJSON(w, http.StatusOK, in)
	}))
	return mux
}
