package standin

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"html/template"
	"net/http"
	"os"
	"strings"
	"time"
)

// Where a box with pages keeps what it was given by hand.
const (
	AskedKey    = "/var/pages/asked.key" // of the request; in use once its certificate is
	NextKey     = "/var/pages/next.key"  // with nextChain, what is staged
	goneKey     = "/var/pages/given.key" // shown with the request, and not used before it comes back
	NextRequest = "/var/pages/next.request"
	NextChain   = "/var/pages/next.pem"
	BeforeKey   = "/var/pages/before.key"
	BeforeChain = "/var/pages/before.pem"
)

const MostPage = 256 << 10

// page is the one page of a box that can only be worked on by hand.
var page = template.Must(template.New("").Parse(
	`<!doctype html><html lang="en"><meta charset="utf-8"><title>{{.Name}}</title>
<style>body{font:16px/1.5 sans-serif;max-width:44rem;margin:2rem auto;padding:0 1rem}textarea{width:100%;height:12rem;font:12px monospace}label{display:block}fieldset{margin:1rem 0}.said{background:#eee;padding:.5rem}</style>
<h1>{{.Name}}</h1>{{with .Said}}<p class="said" role="status">{{.}}</p>{{end}}
<h2>Certificate</h2>
<form method="post" action="/request"><fieldset><legend>1. New key and request</legend>
<label>Common name <input name="common_name" size="50"></label><label>Further names, with commas <input name="names" size="50"></label>
<label>Organization <input name="organization"></label><label>Locality <input name="locality"></label><label>Country <input name="country" size="2"></label>
<button>Make key and request</button></fieldset></form>
{{with .Request}}<p>The request:</p><textarea id="request" readonly>{{.}}</textarea>{{end}}
{{with .Key}}<p>Its key; keep it, for it is wanted with the certificate:</p><textarea id="key" readonly>{{.}}</textarea>{{end}}
<form method="post" action="/upload"><fieldset><legend>2. Signed certificate, then its intermediates</legend>
<textarea name="chain"></textarea>{{if .Key}}<label>Its key</label><textarea name="key"></textarea>{{end}}<button>Upload</button></fieldset></form>
<form method="post" action="/use"><fieldset><legend>3. Use it for the web pages</legend><button>Use the uploaded certificate and restart</button></fieldset></form>
<form method="post" action="/back"><fieldset><legend>If something went wrong</legend><button>Use the certificate from before and restart</button></fieldset></form>
</html>`))

// panel is the web interface of a stand-in that has no sessions: one page with three forms.
type panel struct{ *Running }

// answer answers one request of somebody's browser.
func (r panel) answer(conn *tls.Conn) {
	request, err := http.ReadRequest(bufio.NewReader(conn))
	if err != nil {
		return
	}
	request.Body = http.MaxBytesReader(nil, request.Body, MostPage)
	var out bytes.Buffer
	said := ""
	if request.Method == http.MethodPost {
		if err := r.press(request); err != nil {
			said = "That did not work: " + err.Error()
		} else {
			said = "Done."
		}
	}
	pending, _ := r.Root.ReadFile(Inside(NextRequest)) // none, before one is made
	given, _ := r.Root.ReadFile(Inside(goneKey))       // none where the key stays
	if err := page.Execute(&out, map[string]string{"Name": "Halyard panel", "Said": said, "Request": string(pending),
		"Key": string(given)}); err != nil {
		return
	}
	fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nConnection: "+
		"close\r\nContent-Length: %d\r\n\r\n", out.Len())
	conn.Write(out.Bytes())
}

// press does what a button on the page says.
func (r panel) press(request *http.Request) error {
	if err := request.ParseForm(); err != nil {
		return err
	}
	switch request.URL.Path {
	case "/request":
		return r.request(request.PostForm.Get)
	case "/upload":
		return r.upload(unixLines(request.PostForm.Get("chain")), unixLines(request.PostForm.Get("key")))
	case "/use":
		return r.PagesUse(NextChain, NextKey, true)
	case "/back":
		return r.PagesUse(BeforeChain, BeforeKey, false)
	}
	return fmt.Errorf("there is no button %s", request.URL.Path)
}

func unixLines(text string) []byte { return []byte(strings.ReplaceAll(text, "\r\n", "\n")) }

func (r panel) request(field func(string) string) error {
	each := func(name string) []string { return Some(strings.TrimSpace(field(name))) }
	subject := pkix.Name{CommonName: strings.TrimSpace(field("common_name")), Organization: each("organization"),
		Locality: each("locality"), Country: each("country")}
	if _, err := r.NextRequest(subject, strings.Split(field("names"), ","), ""); err != nil || !r.KeyGone {
		return err
	}
	return r.Root.Rename(Inside(AskedKey), Inside(goneKey))
}

func (r panel) upload(chain, key []byte) error {
	if block, _ := pem.Decode(chain); block == nil {
		return fmt.Errorf("this is no PEM text")
	}
	if !r.KeyGone {
		var err error
		if key, err = r.Root.ReadFile(Inside(AskedKey)); err != nil {
			return fmt.Errorf("make a key and a request first")
		}
	}
	if _, err := tls.X509KeyPair(chain, key); err != nil {
		return err
	}
	return r.Lay(map[string][]byte{NextChain: chain, NextKey: key})
}

// PagesUse puts a pair in use; with keep what stood before is kept.
func (r *Running) PagesUse(chainFile, keyFile string, keep bool) error {
	chain, err := r.Root.ReadFile(Inside(chainFile))
	if err != nil {
		return fmt.Errorf("there is none yet")
	}
	key, err := r.Root.ReadFile(Inside(keyFile))
	if err != nil {
		return err
	}
	if keep {
		oldChain, err := r.Root.ReadFile(Inside(CertificateFile))
		if err != nil {
			return err
		}
		oldKey, err := r.Root.ReadFile(Inside(KeyFile))
		if err != nil {
			return err
		}
		if bytes.Equal(oldChain, chain) {
			keep = false // the same once more: what was before it is still what was before
		}
		if keep {
			if err := r.Lay(map[string][]byte{BeforeChain: oldChain, BeforeKey: oldKey}); err != nil {
				return err
			}
		}
	}
	if err := r.Lay(map[string][]byte{CertificateFile: chain, KeyFile: key}); err != nil {
		return err
	}
	if chainFile == NextChain { // what was staged is in use
		r.Root.Remove(Inside(NextChain))
		r.Root.Remove(Inside(NextKey))
	}
	r.Work.Go(func() {
		if !r.Faulty().Gateway { // something in front goes on answering
			r.Serving.Store(nil)
		}
		time.Sleep(r.Restart)
		r.Load()
	})
	return nil
}

// Lay writes files into the box, with the folders that they need.
func (r *Running) Lay(files map[string][]byte) error {
	for name, content := range files {
		if err := r.Root.MkdirAll(Inside(name[:strings.LastIndex(name, "/")]), 0o700); err != nil {
			return err
		}
		if err := r.Root.WriteFile(Inside(name), content, os.FileMode(0o600)); err != nil {
			return err
		}
	}
	return nil
}
