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

// LeafIn returns the fingerprint of the first certificate in a file; empty if there is none.
func (r *Running) LeafIn(file string) string {
	text, err := r.Root.ReadFile(Inside(file))
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

// Shows looks into the box. staged are the files of what its next restart would put in use, where something is staged.
func (r *Running) Shows(staged ...string) shows {
	out := shows{Now: Fingerprint(r.Served()), Previous: r.LeafIn(BeforeChain)}
	for _, file := range append(staged, CertificateFile) {
		if out.Next = r.LeafIn(file); out.Next != "" {
			break
		}
	}
	return out
}

// Pending returns the request whose key the box holds; empty: it holds none.
func (r *Running) Pending() string {
	if _, err := r.Root.Stat(Inside(AskedKey)); err != nil {
		return ""
	}
	text, _ := r.Root.ReadFile(Inside(NextRequest)) // none, before one is made
	return string(text)
}

// OrNone returns a fingerprint, or none.
func OrNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// AsJSON returns the names under which interfaces with JSON tell it.
func (s shows) AsJSON() map[string]string {
	return map[string]string{"sha256": s.Now, "now": s.Now, "next": s.Next, "previous": s.Previous}
}

// ShowPage writes a page that shows it.
func (s shows) ShowPage(w http.ResponseWriter, title, token, said string) {
	writeForm(w, http.StatusOK, form{Title: title, Token: token, Said: said, Shows: &s})
}
