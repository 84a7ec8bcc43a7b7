package standin

import (
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
)

// serverBoard is managed by Redfish (DMTF DSP0266): a session, and the actions of its
// CertificateService, whose addresses are to be taken from it.
func serverBoard(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	const root, slot = "/redfish/v1", "/redfish/v1/Managers/board/NetworkProtocol/HTTPS/Certificates"
	token := header("X-Auth-Token")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.guarded(token, nil, unauthorized, do)
	}
	mux.HandleFunc("POST "+root+"/SessionService/Sessions", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ UserName, Password string }
		if readJSON(call, &in) != nil || !r.letsIn(in.UserName, in.Password) {
			unauthorized(w, call)
			return
		}
		id, _ := r.webs.open()
		w.Header().Set("X-Auth-Token", id)
		w.Header().Set("Location", root+"/SessionService/Sessions/s"+id[:6])
		writeJSON(w, http.StatusCreated, map[string]string{"Id": "s" + id[:6]})
	})
	mux.HandleFunc("DELETE "+root+"/SessionService/Sessions/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET "+root+"/CertificateService", in(func(w http.ResponseWriter, _ *http.Request) {
		action := func(name string) map[string]string {
			return map[string]string{"target": root + "/CertificateService/Actions/CertificateService." + name}
		}
		writeJSON(w, http.StatusOK,
			map[string]any{"Id": "CertificateService",
				"Actions": map[string]any{"#CertificateService.GenerateCSR": action("GenerateCSR"),
					"#CertificateService.ReplaceCertificate": action("ReplaceCertificate")}})
	}))
	mux.HandleFunc("POST "+root+"/CertificateService/Actions/CertificateService.GenerateCSR",
		in(func(w http.ResponseWriter, call *http.Request) {
			var in struct {
				CertificateCollection struct {
					ID string `json:"@odata.id"`
				}
				CommonName, Organization, OrganizationalUnit       string
				Country, State, City, KeyPairAlgorithm, KeyCurveId string
				AlternativeNames                                   []string
			}
			decoder := json.NewDecoder(call.Body)
			decoder.DisallowUnknownFields()
			if err := decoder.Decode(&in); err != nil || in.CertificateCollection.ID != slot ||
				in.KeyPairAlgorithm != "TPM_ALG_ECDSA" {
				writeJSON(w, http.StatusBadRequest,
					map[string]any{"error": map[string]string{"code": "Base.1.15.ActionParameterValueError",
						"message": fmt.Sprint("a parameter is not supported: ", err)}})
				return
			}
			der, err := r.nextRequest(pkix.Name{CommonName: in.CommonName, Organization: some(in.Organization),
				OrganizationalUnit: some(in.OrganizationalUnit), Country: some(in.Country), Province: some(in.State),
				Locality: some(in.City)}, in.AlternativeNames, "")
			if err != nil {
				refuseJSON(w, err)
				return
			}
			writeJSON(w, http.StatusOK, map[string]any{"CSRString": string(pemOf("CERTIFICATE REQUEST", der)),
				"CertificateCollection": in.CertificateCollection})
		}))
	mux.HandleFunc("POST "+root+"/CertificateService/Actions/CertificateService.ReplaceCertificate",
		in(func(w http.ResponseWriter, call *http.Request) {
			var in struct {
				CertificateString, CertificateType string
				CertificateUri                     struct {
					ID string `json:"@odata.id"`
				}
			}
			err := readJSON(call, &in)
			if err == nil && (in.CertificateType != "PEMchain" || in.CertificateUri.ID != slot+"/1") {
				err = errors.New("a parameter is not supported")
			}
			if err == nil {
				err = r.take([]byte(in.CertificateString))
			}
			if err != nil {
				writeJSON(w, http.StatusBadRequest, map[string]any{"error": map[string]string{"message": err.Error()}})
				return
			}
			id := r.begin(r.use)
			w.Header().Set("Location", root+"/TaskService/TaskMonitors/"+id)
			writeJSON(w, http.StatusAccepted, map[string]string{"@odata.id": root + "/TaskService/Tasks/" + id,
				"TaskState": "Running"})
		}))
	mux.HandleFunc("GET "+root+"/TaskService/TaskMonitors/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		switch state, percent := r.stands(call.PathValue("id")); state {
		case "running":
			writeJSON(w, http.StatusAccepted, map[string]any{"TaskState": "Running", "PercentComplete": percent})
		case "done":
			w.WriteHeader(http.StatusNoContent)
		default:
			writeJSON(w, http.StatusBadRequest,
				map[string]any{"error": map[string]string{"message": "the task ended with an error"}})
		}
	}))
	return mux
}
