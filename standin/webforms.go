package standin

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"strings"
)

// Boxes with forms.
const (
	VoiceManager     Kind = "voice manager"     // forms with hidden tokens; restarted over SSH
	ConferenceBridge Kind = "conference bridge" // leaf and intermediates apart; HTTPS is switched on
	WirelessManager  Kind = "wireless manager"  // a request in DER, and no word about the leaf
	HostWithPage     Kind = "host with page"    // takes a certificate at once
)

func init() {
	webKinds[VoiceManager] = voiceManager
	webKinds[ConferenceBridge] = conferenceBridge
	webKinds[WirelessManager] = wirelessManager
	webKinds[HostWithPage] = hostWithPage
}

const trustFile = "/var/web/trust.pem"

var formPage = template.Must(template.New(
	"").Parse(`<!doctype html><html lang="en"><title>{{.Title}}</title><body><h1>{{.Title}}</h1>
{{with .Said}}<p class="said">{{.}}</p>{{end}}{{with .Shows}}<p class="now">{{.Now}}</p><p class="next">{{.Next}}</p><p class="previous">{{.Previous}}</p>{{end}}<form method="post"><input type="hidden" name="token" value="{{.Token}}"><button>Send</button></form>{{with .Text}}<pre>{{.}}</pre>{{end}}</body></html>
`))

// form is what stands on a page.
type form struct {
	Title, Token, Said, Text string
	Shows                    *shows
}

func writePage(w http.ResponseWriter, status int, title, token, said, text string) {
	writeForm(w, status, form{Title: title, Token: token, Said: said, Text: text})
}

func writeForm(w http.ResponseWriter, status int, f form) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	formPage.Execute(w, f)
}

// signInForm adds a page to sign in with, whose form has a hidden token, and a page to leave
// by. Who is not signed in is led to it.
func (r *Running) signInForm(mux *http.ServeMux) (in func(do func(http.ResponseWriter,
	*http.Request)) http.HandlerFunc) {
	mux.HandleFunc("GET /sign-in", func(w http.ResponseWriter, _ *http.Request) {
		id, _ := r.webs.open()
		r.webs.close(id)
		http.SetCookie(w, &http.Cookie{Name: "form", Value: id, Path: "/"})
		title := "Sign in"
		if r.faulty().OtherPrompt {
			title = "Anmelden"
		}
		writePage(w, http.StatusOK, title, "t-"+id, "", "")
	})
	mux.HandleFunc("POST /sign-in", func(w http.ResponseWriter, call *http.Request) {
		form, err := call.Cookie("form")
		if err != nil || call.PostFormValue("token") != "t-"+form.Value {
			writePage(w, http.StatusForbidden, "Sign in", "", "The form has expired.", "")
			return
		}
		if !r.letsIn(call.PostFormValue("name"), call.PostFormValue("word")) {
			writePage(w, http.StatusOK, "Sign in", "", "That is not right.", "")
			return
		}
		id, _ := r.webs.open()
		http.SetCookie(w, &http.Cookie{Name: "sid", Value: id, Path: "/", HttpOnly: true})
		http.Redirect(w, call, "/home", http.StatusSeeOther)
	})
	in = func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return r.guarded(cookie, nil, func(w http.ResponseWriter, call *http.Request) {
			http.Redirect(w, call, "/sign-in", http.StatusSeeOther)
		}, do)
	}
	mux.HandleFunc("GET /home", in(func(w http.ResponseWriter, call *http.Request) {
		guard, _ := r.webs.knows(cookie(call))
		writePage(w, http.StatusOK, map[bool]string{false: "Welcome", true: "Willkommen"}[r.faulty().OtherPrompt],
			guard, "", "")
	}))
	mux.HandleFunc("POST /leave", in(func(w http.ResponseWriter, call *http.Request) {
		r.webs.close(cookie(call))
		http.Redirect(w, call, "/sign-in", http.StatusSeeOther)
	}))
	return in
}

// tokened are calls whose form must carry the session's hidden token.
func (r *Running) tokened(do func(http.ResponseWriter, *http.Request)) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, call *http.Request) {
		guard, _ := r.webs.knows(cookie(call))
		if call.FormValue("token") != guard || r.webs.once(r.faulty().StaleToken, "stale token") {
			writePage(w, http.StatusForbidden, "Certificates", guard, "The form has expired.", "")
			return
		}
		do(w, call)
	}
}

// uploaded is a file of a form.
func uploaded(call *http.Request, field string) []byte {
	file, _, err := call.FormFile(field)
	if err != nil {
		return nil
	}
	defer file.Close()
	content, _ := io.ReadAll(file) // bounded by the call's size
	return content
}

// keepTrust adds a certificate to those that the box trusts.
func (r *Running) keepTrust(content []byte) error {
	if block, _ := pem.Decode(content); block == nil {
		return errors.New("no certificate")
	}
	kept, _ := r.root.ReadFile(inside(trustFile)) // none, before the first
	return r.lay(map[string][]byte{trustFile: append(kept, content...)})
}

// completed is a leaf with what the box trusts behind it, as it serves it; an error where
// no root that it trusts is at its end.
func (r *Running) completed(leaf []byte) ([]byte, error) {
	block, _ := pem.Decode(leaf)
	if block == nil {
		return nil, errors.New("no certificate")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, err
	}
	kept, _ := r.root.ReadFile(inside(trustFile)) // none, before the first
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
	paths, err := c.Verify(x509.VerifyOptions{CurrentTime: r.now(), Roots: roots, Intermediates: middle,
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, each := range paths[0][:len(paths[0])-1] {
		out = append(out, pemOf("CERTIFICATE", each.Raw)...)
	}
	return out, nil
}

// voiceManager has purposes that must not be mixed up: web, phones and trunks. A root must be
// trusted before a leaf is taken, and the refusal names no reason. The page says only that
// the service must be restarted.
func voiceManager(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.signInForm(mux)
	mux.HandleFunc("POST /certificates/request", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		if call.FormValue("purpose") != "web" || call.FormValue("hash") != "SHA256" {
			writePage(w, http.StatusOK, "Certificates", "", "Not possible.", "")
			return
		}
		names := strings.Split(call.FormValue("names"), "\n")
		if _, err := r.nextRequest(inForm(call, "common_name", "organization", "unit", "locality", "state",
			"country"), names, call.FormValue("bits")); err != nil {
			writePage(w, http.StatusOK, "Certificates", "", "Not possible.", "")
			return
		}
		writePage(w, http.StatusOK, "Certificates", "", "Request generated.", "")
	})))
	mux.HandleFunc("GET /certificates/request/{purpose}", in(func(w http.ResponseWriter, call *http.Request) {
		text, err := r.root.ReadFile(inside(nextRequest))
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
		r.shows(nextChain).showPage(w, "Certificates", "", "")
	}))
	mux.HandleFunc("POST /certificates/upload", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		content := uploaded(call, "file")
		said := "Not accepted."
		switch call.FormValue("purpose") {
		case "web-trust":
			if r.keepTrust(content) == nil {
				said = "Accepted."
			}
		case "web":
			chain, err := r.completed(content)
			if err == nil {
				err = r.take(chain)
			}
			if err == nil {
				said = "Accepted. The service web must be restarted."
			}
		}
		writePage(w, http.StatusOK, "Certificates", "", said, "")
	})))
	mux.HandleFunc("POST /certificates/previous", in(r.tokened(func(w http.ResponseWriter, _ *http.Request) {
		if err := r.root.Rename(inside(beforeChain), inside(nextChain)); err == nil {
			r.root.Rename(inside(beforeKey), inside(nextKey))
		}
		writePage(w, http.StatusOK, "Certificates", "", "Accepted. The service web must be restarted.", "")
	})))
	return mux
}

// voicectl is the command that restarts a service of a voice manager.
func (r *Running) voicectl(words []string) error {
	if strings.Join(words, " ") != "restart web" {
		return errors.New("usage: voicectl restart SERVICE")
	}
	if _, err := r.root.Stat(inside(nextChain)); err != nil {
		return nil
	}
	return r.use()
}

// conferenceBridge takes leaf and intermediates in two uploads; its pages use them only once
// HTTPS is switched on for everybody, and after a press of the restart button.
func conferenceBridge(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.signInForm(mux)
	const switched, part = "/var/web/https", "/var/web/part-"
	mux.HandleFunc("GET /tls", in(func(w http.ResponseWriter, _ *http.Request) {
		on := "off"
		if _, err := r.root.Stat(inside(switched)); err == nil {
			on = "on"
		}
		shown := r.shows()
		if staged := r.leafIn(part + "leaf"); staged != "" {
			shown.Next = staged
		}
		shown.showPage(w, "TLS", "", "HTTPS for everybody: "+on)
	}))
	discard := func() {
		r.root.Remove(inside(part + "leaf"))
		r.root.Remove(inside(part + "intermediates"))
	}
	mux.HandleFunc("POST /tls/discard", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		discard()
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /tls/switch", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		if call.FormValue("https") == "on" {
			r.lay(map[string][]byte{switched: []byte("on")})
		} else {
			r.root.Remove(inside(switched))
		}
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /tls/request", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		der, err := r.nextRequest(inForm(call, "cn", "o", "ou", "l", "st", "c"),
			strings.Fields(call.FormValue("san")), call.FormValue("key"))
		if err != nil {
			writePage(w, http.StatusBadRequest, "TLS", "", err.Error(), "")
			return
		}
		writePage(w, http.StatusOK, "TLS", "", "", string(pemOf("CERTIFICATE REQUEST", der)))
	})))
	mux.HandleFunc("POST /tls/upload/{part}", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		if err := r.lay(map[string][]byte{part + call.PathValue("part"): uploaded(call, "pem")}); err != nil {
			writePage(w, http.StatusBadRequest, "TLS", "", err.Error(), "")
			return
		}
		http.Redirect(w, call, "/tls", http.StatusSeeOther)
	})))
	mux.HandleFunc("POST /restart", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		leaf, _ := r.root.ReadFile(inside(part + "leaf")) // nothing to take where one is missing
		middle, _ := r.root.ReadFile(inside(part + "intermediates"))
		_, err := r.root.Stat(inside(switched))
		if call.FormValue("previous") == "yes" {
			err = r.goBackWeb()
		} else if err == nil && len(leaf) > 0 {
			if err = r.take(append(leaf, middle...)); err == nil {
				discard() // what was staged is in use
				err = r.use()
			}
		}
		if err != nil {
			writePage(w, http.StatusConflict, "Restart", "", "It does not restart: the certificate was refused", "")
			return
		}
		writePage(w, http.StatusOK, "Restart", "", "Restarting.", "")
	})))
	return mux
}

// wirelessManager is signed in to with each call. It makes a request in DER, wants the leaf alone,
// and answers the same to whatever is uploaded.
func wirelessManager(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := func(do func(http.ResponseWriter, *http.Request)) http.HandlerFunc {
		return func(w http.ResponseWriter, call *http.Request) {
			if user, word, ok := call.BasicAuth(); !ok || !r.letsIn(user, word) {
				w.Header().Set("WWW-Authenticate", `Basic realm="wireless"`)
				unauthorized(w, call)
				return
			}
			do(w, call)
		}
	}
	mux.HandleFunc("POST /ui/csr", in(func(w http.ResponseWriter, call *http.Request) {
		der, err := r.nextRequest(inForm(call, "cn", "o", "ou", "l", "st", "c"),
			strings.Split(call.FormValue("names"), ";"), call.FormValue("key"))
		if err != nil {
			http.Error(w, "no", http.StatusBadRequest)
			return
		}
		w.Header().Set("Content-Type", "application/pkcs10")
		w.Write(der)
	}))
	mux.HandleFunc("POST /ui/trust", in(func(w http.ResponseWriter, call *http.Request) {
		r.keepTrust(uploaded(call, "file"))
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	mux.HandleFunc("POST /ui/upload", in(func(w http.ResponseWriter, call *http.Request) {
		content := uploaded(call, "file")
		if block, rest := pem.Decode(content); block != nil && len(strings.TrimSpace(string(rest))) == 0 {
			if chain, err := r.completed(content); err == nil && r.take(chain) == nil {
				r.use()
			}
		}
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	mux.HandleFunc("GET /ui/certificate", in(func(w http.ResponseWriter, _ *http.Request) {
		shown := r.shows()
		fmt.Fprintf(w, "<html><body>In use %s<br>Previous %s</body></html>", shown.Now, shown.Previous)
	}))
	mux.HandleFunc("POST /ui/previous", in(func(w http.ResponseWriter, _ *http.Request) {
		r.goBackWeb()
		fmt.Fprint(w, "<html><body>Back</body></html>")
	}))
	return mux
}

// hostWithPage makes a request for its name or its address, and what it takes in is served
// at once.
func hostWithPage(r *Running) *http.ServeMux {
	mux := http.NewServeMux()
	in := r.signInForm(mux)
	mux.HandleFunc("POST /manage/request", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		name := call.FormValue("name")
		if call.FormValue("for") == "address" {
			name = call.FormValue("address")
		}
		der, err := r.nextRequest(pkix.Name{CommonName: name}, []string{name}, "2048")
		if err != nil {
			writePage(w, http.StatusBadRequest, "Host", "", err.Error(), "")
			return
		}
		writePage(w, http.StatusOK, "Host", "", "", string(pemOf("CERTIFICATE REQUEST", der)))
	})))
	mux.HandleFunc("GET /manage", in(func(w http.ResponseWriter, _ *http.Request) {
		r.shows().showPage(w, "Host", "", "")
	}))
	mux.HandleFunc("POST /manage/import", in(r.tokened(func(w http.ResponseWriter, call *http.Request) {
		var err error
		if pressed := call.FormValue("previous"); pressed == "yes" {
			err = r.goBackWeb()
		} else if err = r.take([]byte(strings.ReplaceAll(call.FormValue("pem"), "\r\n", "\n"))); err == nil {
			err = r.use()
		}
		if err != nil {
			writePage(w, http.StatusUnprocessableEntity, "Host", "", "The certificate was refused.", "")
			return
		}
		writePage(w, http.StatusOK, "Host", "", "Imported.", "")
	})))
	return mux
}
