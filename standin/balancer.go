package standin

import (
	"crypto/tls"
	"errors"
	"net/http"
	"slices"
	"strings"
)

// loadBalancer has certificates, keys and profiles as named objects; a listener uses a profile.
// Its standby gets what is changed when the pair is synchronised, from the one that changed.
func loadBalancer(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	r.factoryObject()
	in := r.tokens(mux, "/mgmt/session", "X-Session")
	part := "/var/web/part-"
	mux.HandleFunc("POST /mgmt/objects/{kind}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Name, PEM, Passphrase, Certificate, Key string }
		kind := call.PathValue("kind")
		err := readJSON(call, &in)
		if _, taken := r.root.Stat(inside(part + kind + "-" + in.Name)); err == nil && taken == nil {
			writeJSON(w, http.StatusConflict, map[string]string{"error": "the name is in use"})
			return
		}
		content := []byte(in.PEM)
		switch {
		case err != nil:
		case kind == "keys":
			content, err = unlocked(content, []byte(in.Passphrase))
		case kind == "profiles":
			chain, _ := r.root.ReadFile(inside(part + "certificates-" + in.Certificate)) // compared with the key below
			key, _ := r.root.ReadFile(inside(part + "keys-" + in.Key))
			content, err = []byte(in.Certificate), r.keepObject(in.Name, chain, key)
		}
		if err == nil {
			err = r.lay(map[string][]byte{part + kind + "-" + in.Name: content})
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		writeJSON(w, http.StatusCreated, map[string]string{"name": in.Name})
	}))
	mux.HandleFunc("POST /mgmt/objects/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Name string
			asked
		}
		err := readJSON(call, &in)
		if _, taken := r.root.Stat(inside(part + "keys-" + in.Name)); err == nil && taken == nil {
			writeJSON(w, http.StatusConflict, map[string]string{"error": "the name is in use"})
			return
		}
		if err == nil {
			r.answerRequest(w, in.asked, part+"keys-"+in.Name)
			return
		}
		refuseJSON(w, err)
	}))
	mux.HandleFunc("DELETE /mgmt/objects/{kind}/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		kind, name := call.PathValue("kind"), call.PathValue("name")
		if kind == "profiles" {
			r.removeObject(name)
		}
		r.root.Remove(inside(part + kind + "-" + name))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /mgmt/listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		writeJSON(w, http.StatusOK,
			map[string]string{"profile": r.remembered("listener-"+call.PathValue("name"), "factory")})
	}))
	mux.HandleFunc("PUT /mgmt/listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Profile string }
		err := readJSON(call, &in)
		if err == nil && call.PathValue("name") == "test" {
			err = r.trial(in.Profile)
		} else if err == nil {
			err = r.useObject(in.Profile)
		}
		if err != nil {
			refuseJSON(w, err)
			return
		}
		r.remember("listener-"+call.PathValue("name"), in.Profile)
		writeJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("GET /mgmt/pair", in(func(w http.ResponseWriter, _ *http.Request) {
		writeJSON(w, http.StatusOK,
			map[string]string{"role": map[bool]string{true: "standby", false: "active"}[r.faulty().Silent]})
	}))
	mux.HandleFunc("POST /mgmt/pair/copies", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ From string }
		chain, key, err := r.object(r.remembered("listener-web", "factory"))
		if readJSON(call, &in) != nil || err != nil {
			refuseJSON(w, errors.New("from: here, there"))
			return
		}
		if in.From == "here" && !r.faulty().OneNode && !r.faulty().KeepServing {
			r.reach(chain, key)
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /mgmt/objects/{kind}/clean", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Prefix string
			Keep   int
		}
		if err := readJSON(call, &in); err != nil {
			refuseJSON(w, err)
			return
		}
		names := r.named(part + call.PathValue("kind") + "-" + in.Prefix)
		for _, name := range names[:max(0, len(names)-in.Keep)] {
			r.root.Remove(inside(name))
		}
		writeJSON(w, http.StatusOK, map[string]int{"left": min(len(names), in.Keep)})
	}))
	return mux
}

// trial has the test listener use a profile; factory takes it off again.
func (r *Running) trial(profile string) error {
	if profile == "factory" {
		r.tested.Store(nil)
		return nil
	}
	chain, key, err := r.object(profile)
	if err != nil {
		return err
	}
	if r.faulty().FailTest {
		return errors.New("the certificate was refused")
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err == nil && !r.faulty().PlainStays {
		r.tested.Store(&pair)
	}
	return err
}

// named are the files that begin with a prefix, oldest first.
func (r *Running) named(prefix string) []string {
	all, err := r.Holds(prefix[:strings.LastIndex(prefix, "/")])
	if err != nil {
		return nil
	}
	var out []string
	for name := range all {
		if strings.HasPrefix(name, prefix) {
			out = append(out, name)
		}
	}
	slices.SortFunc(out, func(a, b string) int {
		first, _ := r.root.Stat(inside(a))
		second, _ := r.root.Stat(inside(b))
		return first.ModTime().Compare(second.ModTime())
	})
	return out
}
