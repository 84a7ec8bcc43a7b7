package parts

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io"
	"net/http"

	"freshseal/standin"
)

const TrustFile = "/var/web/trust.pem"

// SignInForm adds a page to sign in with, whose form has a hidden token, and a page to leave
// by. Who is not signed in is led to it.
func SignInForm(r *standin.Running, mux *http.ServeMux) (in func(do func(http.ResponseWriter,
	*http.Request)) http.HandlerFunc) {
	mux.HandleFunc("GET /sign-in", func(w http.ResponseWriter, _ *http.Request) {
		id, _ := r.Webs.Open()
		r.Webs.Close(id)
		http.SetCookie(w, &http.Cookie{Name: "form", Value: id, Path: "/"})
		title := "Sign in"
		if r.Faulty().OtherPrompt {
			title = "Anmelden"
		}
		standin.WritePage(w, http.StatusOK, title, "t-"+id, "", "")
	})
	mux.HandleFunc("POST /sign-in", func(w http.ResponseWriter, call *http.Request) {
		form, err := call.Cookie("form")
		if err != nil || call.PostFormValue("token") != "t-"+form.Value {
			standin.WritePage(w, http.StatusForbidden, "Sign in", "", "The form has expired.", "")
			return
		}
		if !r.LetsIn(call.PostFormValue("name"), call.PostFormValue("word")) {
			standin.WritePage(w, http.StatusOK, "Sign in", "", "That is not right.", "")
			return
		}
		id, _ := r.Webs.Open()
		http.SetCookie(w, &http.Cookie{Name: "sid", Value: id, Path: "/", HttpOnly: true})
		http.Redirect(w, call, "/home", http.StatusSeeOther)
	})
	in = func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.Guarded(standin.Cookie, nil, func(w http.ResponseWriter, call *http.Request) {
			http.Redirect(w, call, "/sign-in", http.StatusSeeOther)
		}, do)
	}
	mux.HandleFunc("GET /home", in(func(w http.ResponseWriter, call *http.Request) {
		guard, _ := r.Webs.Knows(standin.Cookie(call))
		standin.WritePage(w, http.StatusOK,
			map[bool]string{false: "Welcome", true: "Willkommen"}[r.Faulty().OtherPrompt],
			guard, "", "")
	}))
	mux.HandleFunc("POST /leave", in(func(w http.ResponseWriter, call *http.Request) {
		r.Webs.Close(standin.Cookie(call))
		http.Redirect(w, call, "/sign-in", http.StatusSeeOther)
	}))
	return in
}

// Tokened are calls whose form must carry the session's hidden token.
func Tokened(r *standin.Running, do func(http.ResponseWriter, *http.Request)) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, call *http.Request) {
		guard, _ := r.Webs.Knows(standin.Cookie(call))
		if call.FormValue("token") != guard || r.Webs.Once(r.Faulty().StaleToken, "stale token") {
			standin.WritePage(w, http.StatusForbidden, "Certificates", guard, "The form has expired.", "")
			return
		}
		do(w, call)
	}
}

// Uploaded returns a file of a form.
func Uploaded(call *http.Request, field string) []byte {
	file, _, err := call.FormFile(field)
	if err != nil {
		return nil
	}
	defer file.Close()
	content, _ := io.ReadAll(file) // bounded by the call's size
	return content
}

// KeepTrust adds a certificate to those that the box trusts.
func KeepTrust(r *standin.Running, content []byte) error {
	if block, _ := pem.Decode(content); block == nil {
		return errors.New("no certificate")
	}
	kept, _ := r.Root.ReadFile(standin.Inside(TrustFile)) // none, before the first
	return r.Lay(map[string][]byte{TrustFile: append(kept, content...)})
}

// Completed returns a leaf with what the box trusts behind it, as it serves it; an error where
// no root that it trusts is at its end.
func Completed(r *standin.Running, leaf []byte) ([]byte, error) {
	block, _ := pem.Decode(leaf)
	if block == nil {
		return nil, errors.New("no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	kept, _ := r.Root.ReadFile(standin.Inside(TrustFile)) // none, before the first
	roots, middle := x509.NewCertPool(), x509.NewCertPool()
	for rest := append(kept, leaf...); ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if each, err := x509.ParseCertificate(block.Bytes); err == nil && each.CheckSignatureFrom(each) == nil {
			roots.AddCert(each)
		} else if err == nil {
			middle.AddCert(each)
		}
	}
	paths, err := c.Verify(x509.VerifyOptions{CurrentTime: r.Now(), Roots: roots, Intermediates: middle,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, each := range paths[0][:len(paths[0])-1] {
		out = append(out, standin.PemOf("CERTIFICATE", each.Raw)...)
	}
	return out, nil
}

// OwnIssuer reports whether a certificate is one that its box made itself.
func OwnIssuer(c *x509.Certificate) bool { return bytes.Equal(c.RawIssuer, c.RawSubject) }

// TakeTrust takes a root or an intermediate, PEM in JSON, into the box's trust.
func TakeTrust(r *standin.Running) http.HandlerFunc {
	return func(w http.ResponseWriter, call *http.Request) {
		var in struct{ PEM string }
		err := standin.ReadJSON(call, &in)
		if err == nil {
			err = KeepTrust(r, []byte(in.PEM))
		}
		if err != nil {
			standin.RefuseJSON(w, err)
			return
		}
		w.WriteHeader(http.StatusCreated)
	}
}
