// Package peer is the stand-in of the kind "traversal peer": one of several that check each other.
package peer

import (
	"errors"
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.TraversalPeer, standin.Make{Faults: standin.WebFaults, Web: traversalPeer})

// traversalPeer returns one of the peers of a cluster. Its key never leaves it. Peers check each
// other's certificates once that is switched to strict, which is refused until all have theirs.
func traversalPeer(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := parts.SignInJSON(r, mux, "/api/session", "X-Session")
	mux.HandleFunc("GET /api/system", in(func(w http.ResponseWriter, _ *http.Request) {
		host, domain, _ := strings.Cut(r.System, ".")
		if r.Faulty().OtherPrompt {
			host = "unnamed"
		}
		standin.WriteJSON(w, http.StatusOK, map[string]string{"host": host, "domain": domain, "name": host + "." +
			domain,
			"verification": parts.Remembered(r, "verification", "permissive")})
	}))
	mux.HandleFunc("POST /api/request", in(func(w http.ResponseWriter, call *http.Request) {
		var in parts.Asked
		if err := standin.ReadJSON(call, &in); err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		der, err := r.NextRequest(in.Subject(), in.Names, in.Key)
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		standin.WriteJSON(w, http.StatusCreated,
			map[string]any{"request": string(standin.PemOf("CERTIFICATE REQUEST", der)),
				"names": in.Names})
	}))
	mux.HandleFunc("GET /api/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		standin.WriteJSON(w, http.StatusOK, r.Shows().AsJSON())
	}))
	mux.HandleFunc("PUT /api/certificate", in(r.TakesJSON))
	mux.HandleFunc("POST /api/certificate/previous", in(r.GoesBack))
	mux.HandleFunc("PUT /api/verification", in(func(w http.ResponseWriter, call *http.Request) {
		var in struct{ Mode string }
		err := standin.ReadJSON(call, &in)
		for _, peer := range parts.Others(r) {
			if leaf := peer.Served(); err == nil && in.Mode == "strict" && (leaf == nil || parts.OwnIssuer(leaf)) {
				err = errors.New("a peer has no certificate of an authority yet")
			}
		}
		if err != nil {
			standin.WriteJSON(w, http.StatusConflict, map[string]string{"error": err.Error()})
			return
		}
		parts.Remember(r, "verification", in.Mode)
		standin.WriteJSON(w, http.StatusOK, in)
	}))
	return mux
}
