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
	askedKey    = "/var/pages/asked.key" // of the request; in use once its certificate is
	nextKey     = "/var/pages/next.key"  // with nextChain, what is staged
	goneKey     = "/var/pages/given.key" // shown with the request, and not used before it comes back
	nextRequest = "/var/pages/next.request"
	nextChain   = "/var/pages/next.pem"
	beforeKey   = "/var/pages/before.key"
	beforeChain = "/var/pages/before.pem"
)

const mostPage = 256 << 10

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

// pages answers one request of somebody's browser.
func (r *Running) pages(conn *tls.Conn) {
	request, err := http.ReadRequest(bufio.NewReader(conn))
	if err != nil {
		return
	}
	request.Body = http.MaxBytesReader(nil, request.Body, mostPage)
	var out bytes.Buffer
	said := ""
	if request.Method == http.MethodPost {
		if err := r.press(request); err != nil {
			said = "That did not work: " + err.Error()
		} else {
			said = "Done."
		}
	}
	pending, _ := r.root.ReadFile(inside(nextRequest)) // none, before one is made
	given, _ := r.root.ReadFile(inside(goneKey))       // none where the key stays
	if err := page.Execute(&out, map[string]string{"Name": "Halyard panel", "Said": said, "Request": string(pending),
		"Key": string(given)}); err != nil {
		return
	}
	fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nContent-Type: text/html; charset=utf-8\r\nConnection: "+
		"close\r\nContent-Length: %d\r\n\r\n", out.Len())
	conn.Write(out.Bytes())
}

// press does what a button on the page says.
func (r *Running) press(request *http.Request) error {
	if err := request.ParseForm(); err != nil {
		return err
	}
	switch request.URL.Path {
	case "/request":
		return r.pagesRequest(request.PostForm.Get)
	case "/upload":
		return r.pagesUpload(unixLines(request.PostForm.Get("chain")), unixLines(request.PostForm.Get("key")))
	case "/use":
		return r.pagesUse(nextChain, nextKey, true)
	case "/back":
		return r.pagesUse(beforeChain, beforeKey, false)
	}
	return fmt.Errorf("there is no button %s", request.URL.Path)
}

func unixLines(text string) []byte { return []byte(strings.ReplaceAll(text, "\r\n", "\n")) }

func (r *Running) pagesRequest(field func(string) string) error {
	each := func(name string) []string { return some(strings.TrimSpace(field(name))) }
	subject := pkix.Name{CommonName: strings.TrimSpace(field("common_name")), Organization: each("organization"),
		Locality: each("locality"), Country: each("country")}
	if _, err := r.nextRequest(subject, strings.Split(field("names"), ","), ""); err != nil || !r.KeyGone {
		return err
	}
	return r.root.Rename(inside(askedKey), inside(goneKey))
}

func (r *Running) pagesUpload(chain, key []byte) error {
	if block, _ := pem.Decode(chain); block == nil {
		return fmt.Errorf("this is no PEM text")
	}
	if !r.KeyGone {
		var err error
		if key, err = r.root.ReadFile(inside(askedKey)); err != nil {
			return fmt.Errorf("make a key and a request first")
		}
	}
	if _, err := tls.X509KeyPair(chain, key); err != nil {
		return err
	}
	return r.lay(map[string][]byte{nextChain: chain, nextKey: key})
}

// pagesUse puts a pair in use; with keep what stood before is kept.
func (r *Running) pagesUse(chainFile, keyFile string, keep bool) error {
	chain, err := r.root.ReadFile(inside(chainFile))
	if err != nil {
		return fmt.Errorf("there is none yet")
	}
	key, err := r.root.ReadFile(inside(keyFile))
	if err != nil {
		return err
	}
	if keep {
		oldChain, err := r.root.ReadFile(inside(CertificateFile))
		if err != nil {
			return err
		}
		oldKey, err := r.root.ReadFile(inside(KeyFile))
		if err != nil {
			return err
		}
		if bytes.Equal(oldChain, chain) {
			keep = false // the same once more: what was before it is still what was before
		}
		if keep {
			if err := r.lay(map[string][]byte{beforeChain: oldChain, beforeKey: oldKey}); err != nil {
				return err
			}
		}
	}
	if err := r.lay(map[string][]byte{CertificateFile: chain, KeyFile: key}); err != nil {
		return err
	}
	if chainFile == nextChain { // what was staged is in use
		r.root.Remove(inside(nextChain))
		r.root.Remove(inside(nextKey))
	}
	r.work.Go(func() {
		if !r.faulty().Gateway { // something in front goes on answering
			r.serving.Store(nil)
		}
		time.Sleep(r.Restart)
		r.load()
	})
	return nil
}

func (r *Running) lay(files map[string][]byte) error {
	for name, content := range files {
		if err := r.root.MkdirAll(inside(name[:strings.LastIndex(name, "/")]), 0o700); err != nil {
			return err
		}
		if err := r.root.WriteFile(inside(name), content, os.FileMode(0o600)); err != nil {
			return err
		}
	}
	return nil
}
