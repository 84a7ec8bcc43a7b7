// Package cipher is the stand-in of the kind "encryption appliance": what is staged is deployed to its nodes.
package cipher

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.EncryptionAppliance,
	standin.Make{Faults: standin.And(standin.WebFaults, "one-node", "never-done", "other-prompt"),
		Web:      encryptionAppliance,
		Programs: map[string]standin.Program{"cipherdesk": cipherDesk}})

// encryptionAppliance stages subject, key, request and chain, shows whether each is valid,
// and deploys what is staged to its nodes, with a result for each.
func encryptionAppliance(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	parts.FactoryObject(r)
	in := parts.SignInJSON(r, mux, "/rest/login", "X-Login")
	mux.HandleFunc("PUT /rest/stage/subject", in(func(w http.ResponseWriter, call *http.Request) {
		var in parts.Asked
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		text, err := json.Marshal(in)
		if err == nil {
			err = parts.Remember(r, "subject", string(text))
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusOK, map[string]bool{"valid": true})
	}))
	mux.HandleFunc("POST /rest/trust", in(parts.TakeTrust(r)))
	mux.HandleFunc("POST /rest/stage/request", in(func(w http.ResponseWriter, call *http.Request) {
		var in parts.Asked
		err := standin.ReadJSON(call, &in)
		if err == nil {
			var defaults parts.Asked
			err = json.Unmarshal([]byte(parts.Remembered(r, "subject", "{}")), &defaults)
			defaults.CommonName = in.CommonName
			if err == nil {
				_, err = r.NextRequest(defaults.Subject(), in.Names, in.Key)
			}
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		r.Root.Remove(standin.Inside(standin.NextChain))
		text, _ := r.Root.ReadFile(standin.Inside(standin.NextRequest)) // just made
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"request": string(text)})
	}))
	mux.HandleFunc("PUT /rest/stage/chain", in(func(w http.ResponseWriter, call *http.Request) {
		content := parts.Uploaded(call, "chain")
		if content == nil {
			content = []byte(call.FormValue("chain"))
		}
		err := r.Take(content)
		standin.WriteJSON(w, http.StatusOK, map[string]any{"key": true, "request": true, "chain": err == nil})
	}))
	mux.HandleFunc("DELETE /rest/stage/chain", in(func(w http.ResponseWriter, _ *http.Request) {
		r.Root.Remove(standin.Inside(standin.NextChain))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("DELETE /rest/stage", in(func(w http.ResponseWriter, _ *http.Request) {
		for _, file := range []string{standin.NextChain, standin.NextRequest} {
			r.Root.Remove(standin.Inside(file))
		}
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /rest/exports", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Passphrase string }
		if standin.ReadJSON(call, &in) != nil || len(in.Passphrase) < 8 {
			standin.RefuseJSON(w, errors.New("the passphrase is too short"))
			return
		}
		id := strings.ToLower(rand.Text()[:6])
		chain, _ := r.Root.ReadFile(standin.Inside(standin.CertificateFile)) // what is served is there
		key, _ := r.Root.ReadFile(standin.Inside(standin.KeyFile))
		parts.KeepObject(r, "export-"+id, chain, key)
		parts.Remember(r, "export-"+id, in.Passphrase)
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"id": id})
	}))
	mux.HandleFunc("POST /rest/exports/{id}/restore", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Passphrase string }
		id := call.PathValue("id")
		chain, key, err := parts.Object(r, "export-"+id)
		if err != nil || standin.ReadJSON(call, &in) != nil || in.Passphrase != parts.Remembered(r, "export-"+id, "") {
			standin.RefuseJSON(w, errors.New("there is no such export, or it has another passphrase"))
			return
		}
		parts.Reach(r, chain, key)
		r.Lay(map[string][]byte{deployedChain: chain, deployedKey: key})
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /rest/exports/{id}/file", in(func(w http.ResponseWriter, call *http.Request) {
		chain, key, err := parts.Object(r, "export-"+call.PathValue("id"))
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		w.Header().Set("Content-Type", "application/octet-stream")
		fmt.Fprintf(w, "Lumsk export of %s\n%s%s", r.System, chain, key)
	}))
	mux.HandleFunc("POST /rest/deployments", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusAccepted, map[string]string{"id": parts.BeginTask(r, func() error {
			return deploy(r)
		})})
	}))
	mux.HandleFunc("GET /rest/deployments/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		state, percent := parts.TaskState(r, call.PathValue("id"))
		all := 1 + len(parts.Others(r))
		reached := map[bool]int{true: all - 1, false: all}[r.Faulty().OneNode]
		standin.WriteJSON(w, http.StatusOK, map[string]any{"state": state, "percent": percent,
			"text": fmt.Sprintf("%d of %d, %d unreachable%s", reached, all, all-reached,
				map[bool]string{true: ": standby"}[reached < all])})
	}))
	return mux
}

// deploy brings what is staged to all nodes.
func deploy(r *standin.Running) error {
	chain, err := r.Root.ReadFile(standin.Inside(standin.NextChain))
	if err != nil {
		return errors.New("nothing is staged")
	}
	key, err := r.Root.ReadFile(standin.Inside(standin.NextKey))
	if err != nil {
		return err
	}
	if !r.Faulty().KeepServing && !r.Faulty().OneNode {
		parts.Reach(r, chain, key)
	}
	return r.Lay(map[string][]byte{deployedChain: chain, deployedKey: key})
}

// What was deployed last; the console of the appliance takes it by its menu.
const (
	deployedChain = "/var/web/deployed.pem"
	deployedKey   = "/var/web/deployed.key"
)

// cipherDesk is the menu on the console of an encryption appliance, by which its own pages take what was deployed.
func cipherDesk(r *standin.Running, t *standin.Terminal) error {
	t.Say("Lumsk Cipher console\n")
	if r.Faulty().Silent {
		_, err := t.Line()
		return err
	}
	prompt := " 1) state of the nodes\n 2) certificate of this console\n 0) leave\nNumber: "
	if r.Faulty().OtherPrompt {
		prompt = " 1) Zustand\n 2) Zertifikat\n 0) Ende\nNummer: "
	}
	for {
		switch choice, err := t.Ask("\n" + prompt); {
		case err != nil:
			return err
		case choice == "0":
			return nil
		case choice == "2":
			chain, missing := r.Root.ReadFile(standin.Inside(deployedChain))
			key, _ := r.Root.ReadFile(standin.Inside(deployedKey)) // beside it
			if missing != nil {
				t.Say("Nothing was deployed yet.\n")
				continue
			}
			if yes, err := t.Ask("Use what was deployed for this console? (y/n) "); err != nil || yes != "y" {
				return err
			}
			r.Watched("use what was deployed", func() {
				if err = r.Lay(map[string][]byte{standin.NextChain: chain, standin.NextKey: key}); err == nil {
					err = r.Use()
				}
			})
			if err != nil {
				t.Say("Not used: %v\n", err)
				continue
			}
			t.Say("Used. The console restarts its pages.\n")
		default:
			t.Say("No such number.\n")
		}
	}
}
