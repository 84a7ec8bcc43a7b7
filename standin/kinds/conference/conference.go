// Package conference is the stand-in of the kind "conference bridge": leaf and intermediates apart; HTTPS is switched
// on.
package conference

import (
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.ConferenceBridge, standin.Make{Faults: standin.WebFaults, Web: conferenceBridge})

// conferenceBridge takes leaf and intermediates in two uploads; its pages use them only once
// HTTPS is switched on for everybody, and after a press of the restart button.
func conferenceBridge(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInForm(r, mux)
	const switched, part = "/var/web/https", "/var/web/part-"
	mux.HandleFunc("GET /tls", in(func(w http.ResponseWriter, _ *http.Request) {
		on := "off"
		if _, err := r.Root.Stat(standin.Inside(switched)); err == nil {
			on = "on"
		}
		shown := r.Shows()
		if staged := r.LeafIn(part + "leaf"); staged != "" {
			shown.Next = staged
		}
		shown.ShowPage(w, "TLS", "", "HTTPS for everybody: "+on)
	}))
	discard := func() {
		r.Root.Remove(standin.Inside(part + "leaf"))
		r.Root.Remove(standin.Inside(part + "intermediates"))
	}
	mux.HandleFunc("POST /tls/discard", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		discard()
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /tls/switch", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		if call.FormValue("https") == "on" {
			r.Lay(map[string][]byte{switched: []byte("on")})
		} else {
			r.Root.Remove(standin.Inside(switched))
		}
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /tls/request", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		der, err := r.NextRequest(parts.InForm(call, "cn", "o", "ou", "l", "st", "c"),
			strings.Fields(call.FormValue("san")), call.FormValue("key"))
		if err != nil {
			standin.WritePage(w, http.StatusBadRequest, "TLS", "", err.Error(), "")
			return
		}
		standin.WritePage(w, http.StatusOK, "TLS", "", "", string(standin.PemOf("CERTIFICATE REQUEST", der)))
	})))
	mux.HandleFunc("POST /tls/upload/{part}", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		if err := r.Lay(map[string][]byte{part + call.PathValue("part"): parts.Uploaded(call, "pem")}); err != nil {
			standin.WritePage(w, http.StatusBadRequest, "TLS", "", err.Error(), "")
			return
		}
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /restart", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		leaf, _ := r.Root.ReadFile(standin.Inside(part + "leaf")) // nothing to take if one is missing
		middle, _ := r.Root.ReadFile(standin.Inside(part + "intermediates"))
		_, err := r.Root.Stat(standin.Inside(switched))
		if call.FormValue("previous") == "yes" {
			err = r.GoBackWeb()
		} else if err == nil && len(leaf) > 0 {
			if err = r.Take(append(leaf, middle...)); err == nil {
				discard() // what was staged is in use
				err = r.Use()
			}
		}
		if err != nil {
			standin.WritePage(w, http.StatusConflict, "Restart", "", "It does not restart: the certificate "+
				"was refused", "")
			return
		}
		standin.WritePage(w, http.StatusOK, "Restart", "", "Restarting.", "")
	})))
	return mux
}
