// Package balancer is the stand-in of the kind "load balancer": named objects, a test listener, and a pair that is
// synchronised.
package balancer

import (
	"crypto/tls"
	"errors"
	"net/http"
	"slices"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.LoadBalancer, standin.Make{Faults: standin.And(standin.WebFaults, "one-node"),
	Web: loadBalancer})

// loadBalancer has certificates, keys and profiles as named objects; a listener uses a profile.
// Its standby gets what is changed when the pair is synchronised, from the one that changed.
func loadBalancer(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	parts.FactoryObject(r)
	in := parts.SignInJSON(r, mux, "/mgmt/session", "X-Session")
	mux.HandleFunc("POST /mgmt/objects/{kind}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Name, PEM, Passphrase, Certificate, Key string }
		kind := call.PathValue("kind")
		err := standin.ReadJSON(call, &in)
		if _, taken := r.Root.Stat(standin.Inside(part + kind + "-" + in.Name)); err == nil && taken == nil {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": "the name is in use"})
			return
		}
		content := []byte(in.PEM)
		switch {
		case err != nil:
		case kind == "keys":
			content, err = parts.Unlocked(content, []byte(in.Passphrase))
		case kind == "profiles":
			// compared with the key below
			chain, _ := r.Root.ReadFile(standin.Inside(part + "certificates-" + in.Certificate))
			key, _ := r.Root.ReadFile(standin.Inside(part + "keys-" + in.Key))
			content, err = []byte(in.Certificate), parts.KeepObject(r, in.Name, chain, key)
		}
		if err == nil {
			err = r.Lay(map[string][]byte{part + kind + "-" + in.Name: content})
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"name": in.Name})
	}))
	clearObjects(r, mux, in)
	servePair(r, mux, in)
	return mux
}

// part is how the files of objects begin; the kind and the name come behind it.
const part = "/var/web/part-"

// clearObjects answers what makes requests for objects and removes them.
func clearObjects(r *standin.Running, mux *http.ServeMux,
	in func(func(http.ResponseWriter, *http.Request)) http.HandlerFunc) {
	mux.HandleFunc("POST /mgmt/objects/requests", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Name string
			parts.Asked
		}
		err := standin.ReadJSON(call, &in)
		if _, taken := r.Root.Stat(standin.Inside(part + "keys-" + in.Name)); err == nil && taken == nil {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": "the name is in use"})
			return
		}
		if err == nil {
			parts.AnswerRequest(r, w, in.Asked, part+"keys-"+in.Name)
			return
		}
		standin.RefuseJSON(w, err)
	}))
	mux.HandleFunc("DELETE /mgmt/objects/{kind}/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		kind, name := call.PathValue("kind"), call.PathValue("name")
		if kind == "profiles" {
			parts.RemoveObject(r, name)
		}
		r.Root.Remove(standin.Inside(part + kind + "-" + name))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /mgmt/objects/{kind}/clean", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct {
			Prefix string
			Keep   int
		}
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		names := named(r, part+call.PathValue("kind")+"-"+in.Prefix)
		for _, name := range names[:max(0, len(names)-in.Keep)] {
			r.Root.Remove(standin.Inside(name))
		}
		standin.WriteJSON(w, http.StatusOK, map[string]int{"left": min(len(names), in.Keep)})
	}))
}

// servePair answers what binds profiles to listeners, and what makes the standby the same.
func servePair(r *standin.Running, mux *http.ServeMux,
	in func(func(http.ResponseWriter, *http.Request)) http.HandlerFunc) {
	mux.HandleFunc("GET /mgmt/listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		standin.WriteJSON(w, http.StatusOK,
			map[string]string{"profile": parts.Remembered(r, "listener-"+call.PathValue("name"), "factory")})
	}))
	mux.HandleFunc("PUT /mgmt/listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Profile string }
		err := standin.ReadJSON(call, &in)
		if err == nil && call.PathValue("name") == "test" {
			err = trial(r, in.Profile)
		} else if err == nil {
			err = parts.UseObject(r, in.Profile)
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		parts.Remember(r, "listener-"+call.PathValue("name"), in.Profile)
		standin.WriteJSON(w, http.StatusOK, in)
	}))
	mux.HandleFunc("GET /mgmt/pair", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK,
			map[string]string{"role": map[bool]string{true: "standby", false: "active"}[r.Faulty().Silent]})
	}))
	mux.HandleFunc("POST /mgmt/pair/copies", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ From string }
		chain, key, err := parts.Object(r, parts.Remembered(r, "listener-web", "factory"))
		if standin.ReadJSON(call, &in) != nil || err != nil {
			standin.RefuseJSON(w, errors.New("from: here, there"))
			return
		}
		if in.From == "here" && !r.Faulty().OneNode && !r.Faulty().KeepServing {
			parts.Reach(r, chain, key)
		}
		w.WriteHeader(http.StatusNoContent)
	}))
}

// trial has the test listener use a profile; factory takes it off again.
func trial(r *standin.Running, profile string) error {
	if profile == "factory" {
		r.Tested.Store(nil)
		return nil
	}
	chain, key, err := parts.Object(r, profile)
	if err != nil {
		return err
	}
	if r.Faulty().FailTest {
		return errors.New("the certificate was refused")
	}
	pair, err := tls.X509KeyPair(chain, key)
	if err == nil && !r.Faulty().PlainStays {
		r.Tested.Store(&pair)
	}
	return err
}

// named returns the files that begin with a prefix, oldest first.
func named(r *standin.Running, prefix string) []string {
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
		first, _ := r.Root.Stat(standin.Inside(a))
		second, _ := r.Root.Stat(standin.Inside(b))
		return first.ModTime().Compare(second.ModTime())
	})
	return out
}
