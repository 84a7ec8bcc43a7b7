// Package voice is the stand-in of the kind "voice manager": forms with hidden tokens; restarted over SSH.
package voice

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.VoiceManager, standin.Make{Faults: standin.WebFaults, Web: voiceManager,
	Commands: map[string]standin.Command{
		"voicectl": func(r *standin.Running, _ interp.HandlerContext, _, words []string) error {
			return voicectl(r, words)
		}},
	Power: func(r *standin.Running) error { return voicectl(r, []string{"restart", "web"}) }})

// voiceManager has purposes that must not be mixed up: web, phones and trunks. A root must be
// trusted before a leaf is taken, and the refusal names no reason. The page says only that
// the service must be restarted.
func voiceManager(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInForm(r, mux)
	mux.HandleFunc("POST /certificates/request", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		if call.FormValue("purpose") != "web" || call.FormValue("hash") != "SHA256" {
			standin.WritePage(w, http.StatusOK, "Certificates", "", "Not possible.", "")
			return
		}
		names := strings.Split(call.FormValue("names"), "\n")
		if _, err := r.NextRequest(parts.InForm(call, "common_name", "organization", "unit", "locality", "state",
			"country"), names, call.FormValue("bits")); err != nil {
			standin.WritePage(w, http.StatusOK, "Certificates", "", "Not possible.", "")
			return
		}
		standin.WritePage(w, http.StatusOK, "Certificates", "", "Request generated.", "")
	})))
	mux.HandleFunc("GET /certificates/request/{purpose}", in(func(w http.ResponseWriter, call *http.Request) {
		text, err := r.Root.ReadFile(standin.Inside(standin.NextRequest))
		if err != nil || call.PathValue("purpose") != "web" {
			http.NotFound(w, call)
			return
		}
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, "\ufeff"+strings.ReplaceAll(string(text), "\n", "\r\n\r\n"))
	}))
	mux.HandleFunc("GET /certificates/{purpose}", in(func(w http.ResponseWriter, call *http.Request) {
		if call.PathValue("purpose") != "web" {
			http.NotFound(w, call)
			return
		}
		r.Shows(standin.NextChain).ShowPage(w, "Certificates", "", "")
	}))
	mux.HandleFunc("POST /certificates/upload", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		content := parts.Uploaded(call, "file")
		said := "Not accepted."
		switch call.FormValue("purpose") {
		case "web-trust":
			if parts.KeepTrust(r, content) == nil {
				said = "Accepted."
			}
		case "web":
			chain, err := parts.Completed(r, content)
			if err == nil {
				err = r.Take(chain)
			}
			if err == nil {
				said = "Accepted. The service web must be restarted."
			}
		}
		standin.WritePage(w, http.StatusOK, "Certificates", "", said, "")
	})))
	mux.HandleFunc("POST /certificates/previous", in(parts.Tokened(r, func(w http.ResponseWriter, _ *http.Request) {
		if err := r.Root.Rename(standin.Inside(standin.BeforeChain), standin.Inside(standin.NextChain)); err == nil {
			r.Root.Rename(standin.Inside(standin.BeforeKey), standin.Inside(standin.NextKey))
		}
		standin.WritePage(w, http.StatusOK, "Certificates", "", "Accepted. The service web must be restarted.", "")
	})))
	return mux
}

// voicectl is the command that restarts a service of a voice manager.
func voicectl(r *standin.Running, words []string) error {
	if strings.Join(words, " ") != "restart web" {
		return errors.New("usage: voicectl restart SERVICE")
	}
	if _, err := r.Root.Stat(standin.Inside(standin.NextChain)); err != nil {
		return nil
	}
	return r.Use()
}
