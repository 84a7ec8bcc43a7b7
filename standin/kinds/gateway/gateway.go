// Package gateway is the stand-in of the kind "reporting gateway": listeners that are bound to a name and a
// certificate.
package gateway

import (
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.ReportingGateway, standin.Make{Faults: standin.WebFaults, Web: reportingGateway})

// reportingGateway has listeners, each bound to a host name and a certificate.
func reportingGateway(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	parts.FactoryObject(r)
	in := parts.SignInForm(r, mux)
	mux.HandleFunc("GET /reports", in(func(w http.ResponseWriter, _ *http.Request) {
		if parts.Remembered(r, "console", "") == "broken" {
			standin.WritePage(w, http.StatusInternalServerError, "Console", "", "No listener", "")
			return
		}
		standin.WritePage(w, http.StatusOK, "Console", "", "Reports of the week", "")
	}))
	mux.HandleFunc("POST /requests", in(func(w http.ResponseWriter, call *http.Request) {
		der, err := r.NextRequest(parts.InForm(call, "host", "organization", "unit", "locality", "state", "country"),
			strings.Split(call.FormValue("names"), ","), call.FormValue("key"))
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusCreated,
			map[string]string{"request": string(standin.PemOf("CERTIFICATE REQUEST", der))})
	}))
	mux.HandleFunc("GET /listeners/{name}", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK, map[string]string{"host": "", "address": "any",
			"certificate": parts.Remembered(r, "bound", "factory")})
	}))
	mux.HandleFunc("PUT /certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		key, err := r.Root.ReadFile(standin.Inside(standin.AskedKey))
		if err == nil {
			err = parts.KeepObject(r, call.PathValue("name"), []byte(call.FormValue("pem")), key)
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}))
	mux.HandleFunc("DELETE /certificates/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		parts.RemoveObject(r, call.PathValue("name"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("PUT /listeners/{name}", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Host, Address, Certificate string }
		err := standin.ReadJSON(call, &in)
		if err == nil {
			if err = parts.UseObject(r, in.Certificate); err == nil {
				err = parts.Remember(r, "bound", in.Certificate)
			}
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		if r.Faulty().PlainStays {
			parts.Remember(r, "console", map[bool]string{true: "", false: "broken"}[in.Certificate == "factory"])
		}
		standin.WriteJSON(w, http.StatusOK, in)
	}))
	return mux
}
