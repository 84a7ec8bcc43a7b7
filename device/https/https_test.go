package https_test

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"freshseal/device/https"
	"freshseal/device/links"
)

// box is a web interface; the link to it pins its certificate.
func box(t *testing.T, config *tls.Config, handle http.HandlerFunc) (*httptest.Server, https.Target) {
	t.Helper()
	server := httptest.NewUnstartedServer(handle)
	server.TLS, server.Config.ErrorLog = config, log.New(io.Discard, "", 0)
	server.StartTLS()
	t.Cleanup(server.Close)
	sum := sha256.Sum256(server.Certificate().Raw)
	return server, https.Target{Address: server.Listener.Addr().String(), Pins: []string{hex.EncodeToString(sum[:])}}
}

func do(t *testing.T, target https.Target, c https.Call) (https.Answer, error) {
	t.Helper()
	link, err := https.New((&net.Dialer{}).DialContext, target)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	return link.Do(ctx, c)
}

// Another certificate than the pinned one is seen before the first byte is sent, so no
// password reaches who shows it.
func TestNothingIsSentToAnotherCertificate(t *testing.T) {
	asked := false
	_, target := box(t, nil, func(http.ResponseWriter, *http.Request) { asked = true })
	target.Pins = []string{strings.Repeat("0", 64)}
	_, err := do(t, target, https.Call{Method: "POST", Path: "/", Body: []byte("word=salt")})
	var changed https.PinChanged
	if !errors.As(err, &changed) || asked {
		t.Errorf("%v; it was asked: %v", err, asked)
	}
	if pin, err := https.AskPin(t.Context(), (&net.Dialer{}).DialContext, target.Address); err != nil ||
		pin != changed.Shown || asked {
		t.Errorf("%s, %v; it was asked: %v", pin, err, asked)
	}
}

// A redirect is followed on the same host, with GET, a bounded number of times; to another
// host nothing is sent, no cookie, no body and no header.
func TestRedirectsStayOnTheHost(t *testing.T) {
	reached := ""
	other, _ := box(t, nil, func(_ http.ResponseWriter, r *http.Request) { reached = r.URL.String() })
	_, target := box(t, nil, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/in":
			http.SetCookie(w, &http.Cookie{Name: "sid", Value: "1", Path: "/"})
			http.Redirect(w, r, "/home?x=1", http.StatusSeeOther)
		case "/home":
			io.WriteString(w, r.Method+" "+r.Header.Get("Cookie"))
		case "/away":
			http.Redirect(w, r, other.URL+"/take", http.StatusFound)
		case "/keep": // 307 would carry the body along
			http.Redirect(w, r, other.URL+"/take", http.StatusTemporaryRedirect)
		case "/plain":
			http.Redirect(w, r, "http://"+r.Host+"/take", http.StatusFound)
		case "/round":
			http.Redirect(w, r, "/round", http.StatusFound)
		}
	})
	if got, err := do(t, target, https.Call{Method: "POST", Path: "/in"}); err != nil ||
		string(got.Body) != "GET sid=1" || got.LeadsTo != "/home?x=1" {
		t.Errorf("%s %+v %v", got.Body, got, err)
	}
	if got, err := do(t, target, https.Call{Method: "POST", Path: "/in", Stay: true}); err != nil ||
		got.Status != 303 || got.LeadsTo != "/home?x=1" {
		t.Errorf("%+v %v", got, err)
	}
	for path, says := range map[string]string{"/away": "another host", "/plain": "another host",
		"/round": "again and again"} {
		if _, err := do(t, target,
			https.Call{Method: "GET", Path: path, Header: http.Header{"X-Key": {"salt"}}}); err == nil ||
			!strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if got, err := do(t, target, https.Call{Method: "POST", Path: "/keep", Body: []byte("salt")}); err != nil ||
		got.Status != 307 {
		t.Errorf("%+v %v", got, err)
	}
	if reached != "" {
		t.Errorf("the other host was asked for %s", reached)
	}
}

// Whether a call may have been carried out is told apart: not if nothing was sent, and
// nobody knows where the answer stays away, is cut off, or takes too long.
func TestALostAnswerIsToldFromACallThatWasNotMade(t *testing.T) {
	server, target := box(t, nil, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/drops":
			panic(http.ErrAbortHandler)
		case "/cut":
			w.Header().Set("Content-Length", "100")
			io.WriteString(w, "half")
		case "/silent":
			<-r.Context().Done()
		case "/endless":
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 1<<16)); err != nil {
					return
				}
			}
		case "/headers":
			for range 3000 {
				w.Header().Add("X-More", strings.Repeat("x", 100))
			}
		}
	})
	for path, want := range map[string]error{"/drops": links.ErrLost, "/cut": links.ErrLost, "/silent": links.ErrLost,
		"/endless": links.ErrFlood, "/headers": links.ErrLost} {
		got, err := do(t, target, https.Call{Method: "POST", Path: path})
		if !errors.Is(err, want) || len(got.Body) > https.MaxBody+1 {
			t.Errorf("%s: %v, with %d bytes", path, err, len(got.Body))
		}
	}
	server.CloseClientConnections()
	server.Close()
	if _, err := do(t, target, https.Call{Method: "POST", Path: "/"}); err == nil || errors.Is(err, links.ErrLost) {
		t.Errorf("nothing was sent, and it says %v", err)
	}
}

// A box that knows only an old TLS is spoken to where that is said of it.
func TestOldTLSIsSpokenWhereThatIsSaid(t *testing.T) {
	_, target := box(t, &tls.Config{MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS10,
		CipherSuites: []uint16{tls.TLS_RSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA}},
		func(w http.ResponseWriter, _ *http.Request) {
			io.WriteString(w, "old")
		})
	if _, err := do(t, target, https.Call{Method: "GET", Path: "/"}); err == nil {
		t.Error("an old TLS is spoken although nobody allowed it")
	}
	target.OldTLS = true
	if got, err := do(t, target, https.Call{Method: "GET", Path: "/"}); err != nil || string(got.Body) != "old" {
		t.Errorf("%s %v", got.Body, err)
	}
}

// A device that sets cookie after cookie, or great ones, is not let go on: all of them would be sent with every call.
func TestCookiesAreBounded(t *testing.T) {
	n := 0
	for about, set := range map[string]func(w http.ResponseWriter){
		"many": func(w http.ResponseWriter) {
			n++
			http.SetCookie(w, &http.Cookie{Name: fmt.Sprint("c", n), Value: "x", Path: "/"})
		},
		"great": func(w http.ResponseWriter) {
			n++
			http.SetCookie(w, &http.Cookie{Name: fmt.Sprint("g", n), Value: strings.Repeat("x", 3000), Path: "/"})
		},
		"one again and again": func(w http.ResponseWriter) {
			n++
			http.SetCookie(w, &http.Cookie{Name: "sid", Value: fmt.Sprint(n), Path: "/"})
		},
	} {
		got := 0
		_, target := box(t, nil, func(w http.ResponseWriter, r *http.Request) {
			got = len(r.Header.Get("Cookie"))
			set(w)
		})
		link, err := https.New((&net.Dialer{}).DialContext, target)
		if err != nil {
			t.Fatal(err)
		}
		for range 150 {
			if _, err = link.Do(t.Context(), https.Call{Method: "GET", Path: "/"}); err != nil {
				break
			}
		}
		if wanted := about != "one again and again"; errors.Is(err, links.ErrFlood) != wanted {
			t.Errorf("%s: %v", about, err)
		}
		if got > 80<<10 {
			t.Errorf("%s: %d bytes of cookies are sent", about, got)
		}
	}
}
