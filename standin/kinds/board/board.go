// Package board is the stand-in of the kind "server board": Redfish.
package board

import (
	"crypto/x509/pkix"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.ServerBoard, standin.Make{Faults: standin.And(standin.WebFaults, "never-done"),
	Web: serverBoard})

// serverBoard is managed by Redfish (DMTF DSP0266): a session, and the actions of its
// CertificateService, whose addresses are to be taken from it.
func serverBoard(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	const root, slot = "/redfish/v1", "/redfish/v1/Managers/board/NetworkProtocol/HTTPS/Certificates"
	token := standin.Header("X-Auth-Token")
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.Guarded(token, nil, standin.Unauthorized, do)
	}
	mux.HandleFunc("POST "+root+"/SessionService/Sessions", func(w http.ResponseWriter, call *http.Request) {
		var in struct{ UserName, Password string }
		if standin.ReadJSON(call, &in) != nil || !r.LetsIn(in.UserName, in.Password) {
			standin.Unauthorized(w, call)
			return
		}
		id, _ := r.Webs.Open()
		w.Header().Set("X-Auth-Token", id)
		w.Header().Set("Location", root+"/SessionService/Sessions/s"+id[:6])
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"Id": "s" + id[:6]})
	})
	mux.HandleFunc("DELETE "+root+"/SessionService/Sessions/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET "+root+"/CertificateService", in(func(w http.ResponseWriter, _ *http.Request) {
		action := func(name string) map[string]string {
			return map[string]string{"target": root + "/CertificateService/Actions/CertificateService." + name}
		}
		standin.WriteJSON(w, http.StatusOK,
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
				standin.WriteJSON(w, http.StatusBadRequest,
					map[string]any{"error": map[string]string{"code": "Base.1.15.ActionParameterValueError",
						"message": fmt.Sprint("a parameter is not supported: ", err)}})
				return
			}
			der, err := r.NextRequest(pkix.Name{CommonName: in.CommonName, Organization: standin.Some(in.Organization),
				OrganizationalUnit: standin.Some(in.OrganizationalUnit), Country: standin.Some(in.Country),
				Province: standin.Some(in.State),
				Locality: standin.Some(in.City)}, in.AlternativeNames, "")
			if err != nil {
				standin.RefuseJSON(w, err)
				return
			}
			standin.WriteJSON(w, http.StatusOK,
				map[string]any{"CSRString": string(standin.PemOf("CERTIFICATE REQUEST", der)),
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
			err := standin.ReadJSON(call, &in)
			if err == nil && (in.CertificateType != "PEMchain" || in.CertificateUri.ID != slot+"/1") {
				err = errors.New("a parameter is not supported")
			}
			if err == nil {
				err = r.Take([]byte(in.CertificateString))
			}
			if err != nil {
				standin.WriteJSON(w, http.StatusBadRequest,
					map[string]any{"error": map[string]string{"message": err.Error()}})
				return
			}
			id := parts.BeginTask(r, r.Use)
			w.Header().Set("Location", root+"/TaskService/TaskMonitors/"+id)
			standin.WriteJSON(w, http.StatusAccepted, map[string]string{"@odata.id": root + "/TaskService/Tasks/" + id,
				"TaskState": "Running"})
		}))
	mux.HandleFunc("GET "+root+"/TaskService/TaskMonitors/{id}", in(func(w http.ResponseWriter, call *http.Request) {
		switch state, percent := parts.TaskState(r, call.PathValue("id")); state {
		case "running":
			standin.WriteJSON(w, http.StatusAccepted,
				map[string]any{"TaskState": "Running", "PercentComplete": percent})
		case "done":
			w.WriteHeader(http.StatusNoContent)
		default:
			standin.WriteJSON(w, http.StatusBadRequest,
				map[string]any{"error": map[string]string{"message": "the task ended with an error"}})
		}
	}))
	return mux
}
