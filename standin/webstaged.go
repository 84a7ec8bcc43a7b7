package standin

import (
	"crypto/rand"
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// Boxes with outstanding requests, staged changes and pairs.
const (
	// outstanding requests with an id, and processes that start one after another
	SignOnServer        Kind = "sign-on server"
	EncryptionAppliance Kind = "encryption appliance" // what is staged is deployed to its nodes
	LoadBalancer        Kind = "load balancer"        // named objects, a test listener, and a pair that is synchronised
)

func init() {
	webKinds[SignOnServer] = signOnServer
	webKinds[EncryptionAppliance] = encryptionAppliance
	webKinds[LoadBalancer] = loadBalancer
}

// tokens adds a sign-in with JSON, whose token goes in a header, and a sign-out.
func (r *Running) tokens(mux *http.ServeMux, at,
	name string) (in func(func(http.ResponseWriter, *http.Request)) http.HandlerFunc) {
	token := header(name)
	mux.HandleFunc("POST "+at, func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if readJSON(call, &in) != nil || !r.letsIn(in.User, in.Password) {
			unauthorized(w, call)
			return
		}
		id, _ := r.webs.open()
		writeJSON(w, http.StatusCreated, map[string]string{"token": id})
	})
	in = func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.guarded(token, nil, unauthorized, do)
	}
	mux.HandleFunc("DELETE "+at, in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	return in
}

// asked is what a request in JSON asks for.
type asked struct {
	CommonName, Organization, Unit, Locality, State, Country, Email, Key string
	Names                                                                []string
}

func (a asked) subject() pkix.Name {
	return pkix.Name{CommonName: a.CommonName, Organization: some(a.Organization), OrganizationalUnit: some(a.Unit),
		Locality: some(a.Locality), Province: some(a.State), Country: some(a.Country), ExtraNames: mailed(a.Email)}
}

// takeTrust takes a root or an intermediate, PEM in JSON, into the box's trust.
func (r *Running) takeTrust(w http.ResponseWriter, call *http.Request) {
	var in struct{ PEM string }
	err := readJSON(call, &in)
	if err == nil {
		err = r.keepTrust([]byte(in.PEM))
	}
	if err != nil {
		refuseJSON(w, err)
		return
	}
	w.WriteHeader(http.StatusCreated)
}

// answerRequest makes a key, which is kept in a file, and answers with the request for it.
func (r *Running) answerRequest(w http.ResponseWriter, a asked, keyFile string) {
	_, err := r.nextRequest(a.subject(), a.Names, a.Key)
	if err != nil {
		refuseJSON(w, err)
		return
	}
	text, _ := r.root.ReadFile(inside(nextRequest)) // just made
	key, _ := r.root.ReadFile(inside(askedKey))
	if err := r.lay(map[string][]byte{keyFile: key}); err != nil {
		refuseJSON(w, err)
		return
	}
	writeJSON(w, http.StatusCreated, map[string]string{"request": string(text)})
}

// inForm is what a request in a form asks for: its fields have the names of commonName, organization, unit, locality,
// state and country.
func inForm(call *http.Request, commonName, organization, unit, locality, state, country string) pkix.Name {
	return asked{CommonName: call.FormValue(commonName), Organization: call.FormValue(organization),
		Unit: call.FormValue(unit), Locality: call.FormValue(locality), State: call.FormValue(state),
		Country: call.FormValue(country)}.subject()
}

// signOnServer keeps its requests in a list of outstanding ones; a signed leaf is bound to its
// request by the id, with the uses that are ticked, and counts after a restart.
func signOnServer(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.tokens(mux, "/api/session", "X-Session")
	mux.HandleFunc("POST /api/trust", in(r.takeTrust))
	mux.HandleFunc("POST /api/outstanding", in(func(w http.ResponseWriter, call *http.Request) {
		var in asked
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		if _, err := r.nextRequest(in.subject(), in.Names, in.Key); err != nil {
			refuseJSON(w, err)
			return
		}
		id := strings.ToLower(rand.Text()[:8])
		r.remember("outstanding", id)
		writeJSON(w, http.StatusCreated, map[string]string{"id": id})
	}))
	outstanding := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return in(func(w http.ResponseWriter, call *http.Request) {
			if call.PathValue("id") != r.remembered("outstanding", "-") {
				writeJSON(w, http.StatusNotFound, map[string]string{"error": "no such request is outstanding"})
				return
			}
			do(w, call)
		})
	}
	mux.HandleFunc("GET /api/outstanding/{id}", outstanding(func(w http.ResponseWriter, _ *http.Request) {
		text, err := r.root.ReadFile(inside(nextRequest))
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"request": string(text)})
	}))
	mux.HandleFunc("PUT /api/outstanding/{id}", outstanding(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Certificate string
			Uses        []string
		}
		err := readJSON(call, &in)
		if err == nil && len(in.Uses) == 0 {
			err = errors.New("tick a use")
		}
		var chain []byte
		if err == nil {
			chain, err = r.completed([]byte(in.Certificate))
		}
		if err == nil {
			err = r.take(chain)
		}
		if err != nil {
			refuseJSON(w, errors.New("the certificate was refused"))
			return
		}
		r.remember("uses", strings.Join(in.Uses, " "))
		writeJSON(w, http.StatusOK, map[string]string{"state": "bound; restart the server"})
	}))
	mux.HandleFunc("DELETE /api/outstanding/{id}/certificate",
		outstanding(func(w http.ResponseWriter, _ *http.Request) {
			r.root.Remove(inside(nextChain))
			w.WriteHeader(http.StatusNoContent)
		}))
	mux.HandleFunc("GET /api/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK, r.shows(nextChain).asJSON())
	}))
	mux.HandleFunc("POST /api/previous", in(func(w http.ResponseWriter, _ *http.Request) {
		if err := r.root.Rename(inside(beforeChain), inside(nextChain)); err == nil {
			r.root.Rename(inside(beforeKey), inside(nextKey))
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	return mux
}

// portalctl restarts a sign-on server, and says how its processes stand.
func (r *Running) portalctl(h interp.HandlerContext, _, words []string) error {
	switch strings.Join(words, " ") {
	case "restart":
		r.remember("restarted", fmt.Sprint(time.Now().UnixMilli()))
		if _, err := r.root.Stat(inside(nextChain)); err != nil {
			return nil
		}
		return r.use()
	case "states":
		var at int64
		fmt.Sscan(r.remembered("restarted", "0"), &at)
		up := time.Since(time.UnixMilli(at))
		for i, name := range []string{"database", "directory", "portal", "radius"} {
			state := "running"
			if up < r.Restart*time.Duration(i+1)/4 || r.faulty().NeverDone && name == "radius" && at > 0 {
				state = "starting"
			}
			fmt.Fprintf(h.Stdout, "%s %s\n", name, state)
		}
		return nil
	}
	return errors.New("usage: portalctl restart | states")
}

// encryptionAppliance stages subject, key, request and chain, shows whether each is valid,
// and deploys what is staged to its nodes, with a result for each.
func encryptionAppliance(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	r.factoryObject()
	in := r.tokens(mux, "/rest/login", "X-Login")
	mux.HandleFunc("PUT /rest/stage/subject", in(func(w http.ResponseWriter, call *http.Request) {
		var in asked
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		text, err := json.Marshal(in)
		if err == nil {
			err = r.remember("subject", string(text))
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusOK, map[string]bool{"valid": true})
	}))
	mux.HandleFunc("POST /rest/trust", in(r.takeTrust))
	mux.HandleFunc("POST /rest/stage/request", in(func(w http.ResponseWriter, call *http.Request) {
		var in asked
		err := readJSON(call, &in)
		if err == nil {
			var defaults asked
			err = json.Unmarshal([]byte(r.remembered("subject", "{}")), &defaults)
			defaults.CommonName = in.CommonName
			if err == nil {
				_, err = r.nextRequest(defaults.subject(), in.Names, in.Key)
			}
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		r.root.Remove(inside(nextChain))
		text, _ := r.root.ReadFile(inside(nextRequest)) // just made
		writeJSON(w, http.StatusCreated, map[string]string{"request": string(text)})
	}))
	mux.HandleFunc("PUT /rest/stage/chain", in(func(w http.ResponseWriter, call *http.Request) {
		content := uploaded(call, "chain")
		if content == nil {
			content = []byte(call.FormValue("chain"))
		}
		err := r.take(content)
		writeJSON(w, http.StatusOK, map[string]any{"key": true, "request": true, "chain": err == nil})
	}))
	mux.HandleFunc("DELETE /rest/stage/chain", in(func(w http.ResponseWriter, _ *http.Request) {
		r.root.Remove(inside(nextChain))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("DELETE /rest/stage", in(func(w http.ResponseWriter, _ *http.Request) {
		for _, file := range []string{nextChain, nextRequest} {
			r.root.Remove(inside(file))
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /rest/exports", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Passphrase string }
		if readJSON(call, &in) != nil || len(in.Passphrase) < 8 {
			refuseJSON(w, errors.New("the passphrase is too short"))
			return
		}
		id := strings.ToLower(rand.Text()[:6])
		chain, _ := r.root.ReadFile(inside(CertificateFile)) // what is served is there
		key, _ := r.root.ReadFile(inside(KeyFile))
		r.keepObject("export-"+id, chain, key)
		r.remember("export-"+id, in.Passphrase)
		writeJSON(w, http.StatusCreated, map[string]string{"id": id})
	}))
	mux.HandleFunc("POST /rest/exports/{id}/restore", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Passphrase string }
		id := call.PathValue("id")
		chain, key, err := r.object("export-" + id)
		if err != nil || readJSON(call, &in) != nil || in.Passphrase != r.remembered("export-"+id, "") {
			refuseJSON(w, errors.New("there is no such export, or it has another passphrase"))
			return
		}
		r.reach(chain, key)
		r.lay(map[string][]byte{deployedChain: chain, deployedKey: key})
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /rest/exports/{id}/file", in(func(w http.ResponseWriter, call *http.Request) {
		chain, key, err := r.object("export-" + call.PathValue("id"))
		if err != nil {
			refuseJSON(w, err)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		fmt.Fprintf(w, "Lumsk export of %s\n%s%s", r.System, chain, key)
	}))
	mux.HandleFunc("POST /rest/deployments", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusAccepted, map[string]string{"id": r.begin(r.deploy)})
	}))
	mux.HandleFunc("GET /rest/deployments/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := r.stands(call.PathValue("id"))
		all := 1 + len(r.others())
		reached := map[bool]int{true: all - 1, false: all}[r.faulty().OneNode]
		writeJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent,
			"text": fmt.Sprintf("%d of %d, %d unreachable%s", reached, all, all-reached,
				map[bool]string{true: ": standby"}[reached < all])})
	}))
	return mux
}

// others are the further nodes of a box, by the names that tests and the demo give them.
func (r *Running) others() (out []*Running) {
	if r.Hosts == nil {
		return nil
	}
	if one := r.Hosts("standby"); one != nil {
		out = append(out, one)
	}
	return out
}

// deploy brings what is staged to all nodes.
func (r *Running) deploy() error {
	chain, err := r.root.ReadFile(inside(nextChain))
	if err != nil {
		return errors.New("nothing is staged")
	}
	key, err := r.root.ReadFile(inside(nextKey))
	if err != nil {
		return err
	}
	if !r.faulty().KeepServing && !r.faulty().OneNode {
		r.reach(chain, key)
	}
	return r.lay(map[string][]byte{deployedChain: chain, deployedKey: key})
}

// What was deployed last; the console of the appliance takes it by its menu.
const (
	deployedChain = "/var/web/deployed.pem"
	deployedKey   = "/var/web/deployed.key"
)

// cipherDesk is the menu on the console of an encryption appliance, by which its own pages take what was deployed.
func (r *Running) cipherDesk(t *terminal) error {
	t.say("Lumsk Cipher console\n")
	if r.faulty().Silent {
		_, err := t.line()
		return err
	}
	prompt := " 1) state of the nodes\n 2) certificate of this console\n 0) leave\nNumber: "
	if r.faulty().OtherPrompt {
		prompt = " 1) Zustand\n 2) Zertifikat\n 0) Ende\nNummer: "
	}
	for {
		switch choice, err := t.ask("\n" + prompt); {
		case err != nil:
			return err
		case choice == "0":
			return nil
		case choice == "2":
			chain, missing := r.root.ReadFile(inside(deployedChain))
			key, _ := r.root.ReadFile(inside(deployedKey)) // beside it
			if missing != nil {
				t.say("Nothing was deployed yet.\n")
				continue
			}
			if yes, err := t.ask("Use what was deployed for this console? (y/n) "); err != nil || yes != "y" {
				return err
			}
			r.watched("use what was deployed", func() {
				if err = r.lay(map[string][]byte{nextChain: chain, nextKey: key}); err == nil {
					err = r.use()
				}
			})
			if err != nil {
				t.say("Not used: %v\n", err)
				continue
			}
			t.say("Used. The console restarts its pages.\n")
		default:
			t.say("No such number.\n")
		}
	}
}

// reach puts a certificate onto the other nodes.
func (r *Running) reach(chain, key []byte) {
	for _, other := range r.others() {
		other.Meddle(chain, key)
	}
}
