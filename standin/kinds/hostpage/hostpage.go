// Package hostpage is the stand-in of the kind "host with page": takes a certificate at once.
package hostpage

import (
	"crypto/x509/pkix"
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.HostWithPage, standin.Make{Faults: standin.WebFaults, Web: hostWithPage})

// hostWithPage makes a request for its name or its address, and what it takes in is served
// at once.
func hostWithPage(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInForm(r, mux)
	mux.HandleFunc("POST /manage/request", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		name := call.FormValue("name")
		if call.FormValue("for") == "address" {
			name = call.FormValue("address")
		}
		der, err := r.NextRequest(pkix.Name{CommonName: name}, []string{name}, "2048")
		if err != nil {
			standin.WritePage(w, http.StatusBadRequest, "Host", "", err.Error(), "")
			return
		}
		standin.WritePage(w, http.StatusOK, "Host", "", "", string(standin.PemOf("CERTIFICATE REQUEST", der)))
	})))
	mux.HandleFunc("GET /manage", in(func(w http.ResponseWriter, _ *http.Request) {
		r.Shows().ShowPage(w, "Host", "", "")
	}))
	mux.HandleFunc("POST /manage/import", in(parts.Tokened(r, func(w http.ResponseWriter, call *http.Request) {
		var err error
		if pressed := call.FormValue("previous"); pressed == "yes" {
			err = r.GoBackWeb()
		} else if err = r.Take([]byte(strings.ReplaceAll(call.FormValue("pem"), "\r\n", "\n"))); err == nil {
			err = r.Use()
		}
		if err != nil {
			standin.WritePage(w, http.StatusUnprocessableEntity, "Host", "", "The certificate was refused.", "")
			return
		}
		standin.WritePage(w, http.StatusOK, "Host", "", "Imported.", "")
	})))
	return mux
}
