// Package wireless is the stand-in of the kind "wireless manager": a request in DER, and no word about the leaf.
package wireless

import (
	"encoding/pem"
	"fmt"
	"net/http"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"
)

var _ = standin.Register(standin.WirelessManager,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone"},
		Web: wirelessManager})

// wirelessManager returns signed in to with each call. It makes a request in DER, wants the leaf alone,
// and answers the same to whatever is uploaded.
func wirelessManager(r *standin.Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return func(w http.ResponseWriter, call *http.Request) {
			if user, word, ok := call.BasicAuth(); !ok || !r.LetsIn(user, word) {
				w.Header().Set("WWW-Authenticate", `Basic realm="wireless"`)
				standin.Unauthorized(w, call)
				return
			}
			do(w, call)
		}
	}
	mux.HandleFunc("POST /ui/csr", in(func(w http.ResponseWriter, call *http.Request) {
		der, err := r.NextRequest(parts.InForm(call, "cn", "o", "ou", "l", "st", "c"),
			strings.Split(call.FormValue("names"), ";"), call.FormValue("key"))
		if err != nil {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/pkcs10")
		w.Write(der)
	}))
	mux.HandleFunc("POST /ui/trust", in(func(w http.ResponseWriter, call *http.Request) {
		parts.KeepTrust(r, parts.Uploaded(call, "file"))
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	mux.HandleFunc("POST /ui/upload", in(func(w http.ResponseWriter, call *http.Request) {
		content := parts.Uploaded(call, "file")
		if block, rest := pem.Decode(content); block != nil && len(strings.TrimSpace(string(rest))) == 0 {
			if chain, err := parts.Completed(r, content); err == nil && r.Take(chain) == nil {
				r.Use()
			}
		}
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	mux.HandleFunc("GET /ui/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		shown := r.Shows()
		fmt.Fprintf(w, "<html><body>In use %s<br>Previous %s</body></html>", shown.Now, shown.Previous)
	}))
	mux.HandleFunc("POST /ui/previous", in(func(w http.ResponseWriter, _ *http.Request) {
		r.GoBackWeb()
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	return mux
}
