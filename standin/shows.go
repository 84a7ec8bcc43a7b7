package standin

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"net/http"
)

// shows is what a box says of its certificates: the fingerprint of the one in use, of the one that is served after
// its next restart, and of the one that one step back would restore. Empty is what there is none of.
type shows struct{ Now, Next, Previous string }

// leafIn is the fingerprint of the first certificate in a file; empty where there is none.
func (r *Running) leafIn(file string) string {
	text, err := r.root.ReadFile(inside(file))
	if err != nil {
		return ""
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return ""
	}
	sum := sha256.Sum256(block.Bytes)
	return hex.EncodeToString(sum[:])
}

// shows looks into the box. staged are the files of what its next restart would put in use, where something is staged.
func (r *Running) shows(staged ...string) shows {
	out := shows{Now: fingerprint(r.served()), Previous: r.leafIn(beforeChain)}
	for _, file := range append(staged, CertificateFile) {
		if out.Next = r.leafIn(file); out.Next != "" {
			break
		}
	}
	return out
}

// pending is the request whose key the box holds; empty: it holds none.
func (r *Running) pending() string {
	if _, err := r.root.Stat(inside(askedKey)); err != nil {
		return ""
	}
	text, _ := r.root.ReadFile(inside(nextRequest)) // none, before one is made
	return string(text)
}

// orNone is a fingerprint, or none.
func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// asJSON are the names under which interfaces with JSON tell it.
func (s shows) asJSON() map[string]string {
	return map[string]string{"sha256": s.Now, "now": s.Now, "next": s.Next, "previous": s.Previous}
}

// showPage writes a page that shows it.
func (s shows) showPage(w http.ResponseWriter, title, token, said string) {
	writeForm(w, http.StatusOK, form{Title: title, Token: token, Said: said, Shows: &s})
}
