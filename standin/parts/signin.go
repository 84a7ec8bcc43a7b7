package parts

import (
	"net/http"

	"freshseal/standin"
)

// SignInJSON adds a sign-in with JSON, whose token goes in a header, and a sign-out.
func SignInJSON(r *standin.Running, mux *http.ServeMux, at,
	name string) (in func(func(http.ResponseWriter, *http.Request)) http.HandlerFunc) {
	token := standin.Header(name)
	mux.HandleFunc("POST "+at, func(w http.ResponseWriter, call *http.Request) {
		var in struct{ User, Password string }
		if standin.ReadJSON(call, &in) != nil || !r.LetsIn(in.User, in.Password) {
			standin.Unauthorized(w, call)
			return
		}
		id, _ := r.Webs.Open()
		standin.WriteJSON(w, http.StatusCreated, map[string]string{"token": id})
	})
	in = func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.Guarded(token, nil, standin.Unauthorized, do)
	}
	mux.HandleFunc("DELETE "+at, in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(token(call))
		w.WriteHeader(http.StatusNoContent)
	}))
	return in
}
