package device

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	"freshseal/device/https"
)

// pages keeps all that a runner writes into its journal.
type pages struct {
	lines []string
}

func (p *pages) Done(procedure.Section, string, string) (map[string]value.Value, bool) {
	return nil, false
}
func (p *pages) Fate(procedure.Section, string) Fate { return Fate{} }
func (p *pages) Begin(_ context.Context, e Entry) (int64, error) {
	p.lines = append(p.lines, e.Text)
	return int64(len(p.lines)), nil
}
func (p *pages) End(_ context.Context, _ int64, o Outcome) error {
	p.lines = append(p.lines, o.Output, o.Why)
	return nil
}
func (p *pages) Show(_ context.Context, _ int64, screen string, _ int) {
	p.lines = append(p.lines, screen)
}

// A device sends back what it was sent, in every form of writing, and hands out tokens in
// answers that are right and wrong. Neither password nor token is written anywhere.
func TestNoAnswerBringsASecretIntoTheJournal(t *testing.T) {
	const password, token = `s&lt "t" <u>/+é`, "token-of-the-session"
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		word := r.PostForm.Get("word")
		switch r.URL.Path {
		case "/in":
			fmt.Fprintf(w, `{"token":%q,"echo":%q,"word":"%s"}`, token, word, url.QueryEscape(word))
		case "/echo":
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintf(w, `<body>you said %s <input value="%s"><a href="?w=%s">again</a></body>`,
				html.EscapeString(word), html.EscapeString(word), url.QueryEscape(word))
		case "/wrong":
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, `{"ticket":"ticket-of-one-answer"}`)
		case "/long": // the cut of what is shown goes through the token
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, strings.Repeat("a", 300)+" "+r.Header.Get("X-Token")+strings.Repeat("b",
				600-len(token)/2))
		case "/spaced":
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, "you are "+strings.ReplaceAll(r.Header.Get("X-Token"), "-of", "\n-of"))
		case "/half": // one of two captures is missing
			io.WriteString(w, `{"ticket":"ticket-of-one-answer"}`)
		case "/slow":
			asked++
			fmt.Fprintf(w, `{"state":"%d","ticket":"ticket-of-one-answer"}`, asked)
		}
	}))
	defer server.Close()
	sum := sha256.Sum256(server.Certificate().Raw)
	for name, c := range map[string]struct{ step, says string }{
		"an echo":                        {`{step: it, http: POST /echo, form: {word: "{{web_password}}"}, undo: nothing, expect: {status: 201}}`, "you said"},
		"a wrong answer with a secret":   {`{step: it, http: GET /wrong, capture: {ticket: {json: /ticket, secret: true}}}`, "status 400"},
		"a capture that is not there":    {`{step: it, http: GET /half, capture: {ticket: {json: /ticket, secret: true}, other: {json: /other}}}`, "cannot be captured"},
		"a wait that shows what it sees": {`{step: it, http: GET /slow, until: {json: {/state: "^2$"}}, every: 10ms, capture: {ticket: {json: /ticket, secret: true}}}`, ""},
		"a cut through a secret":         {`{step: it, http: GET /long}`, "bbb"},
		"a secret step":                  {`{step: it, http: GET /wrong, secret: true}`, "it is secret"},
	} {
		t.Run(name, func(t *testing.T) {
			asked = 0
			p, faults := procedure.Parse([]byte("procedure: ours\ntitle: x\nlinks: [https]\ntraits: {key_types: " +
				"[ecdsa-p256], key_made_by: service}\nsession: {sign_in: [{step: in, http: POST /in, form: {word: " +
				"\"{{web_password}}\"}, capture: {token: {json: /token, secret: true}}}], headers: {X-Token: " +
				"\"{{token}}\"}}\nsteps:\n  activate:\n    - " + c.step + "\n    - {step: other, http: POST /echo, " +
				"undo: nothing}\n"))
			if procedure.Refused(faults) {
				t.Fatal(faults)
			}
			scope, err := procedure.NewScope(procedure.Material{Procedure: p, WebUser: "keeper",
				WebPassword: password}, nil, nil)
			if err != nil {
				t.Fatal(err)
			}
			book := &pages{}
			r := &Runner{Dial: (&net.Dialer{}).DialContext, Procedure: p, Journal: book,
				Web: func(context.Context) (https.Target, error) {
					return https.Target{Address: server.Listener.Addr().String(),
						Pins: []string{hex.EncodeToString(sum[:])}}, nil
				}}
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			defer cancel()
			_, err = r.Run(ctx, procedure.Activate, scope)
			r.Close()
			if c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) || c.says == "" && err != nil {
				t.Errorf("it ends with %v", err)
			}
			all := strings.Join(book.lines, "\n") + fmt.Sprint(err)
			for _, secret := range []string{token, "ticket-of-one-answer", password, html.EscapeString(password),
				url.QueryEscape(password), `s\u0026lt`, `s&lt \"t`, token[len(token)/2+2:]} {
				if strings.Contains(all, secret) {
					t.Errorf("%q is written:\n%s", secret, all)
				}
			}
		})
	}
}

// A device gives out a token that counts for one form. Said once for the session, it is asked for before each call
// that changes something, signing out too.
func TestATokenThatCountsOnceIsAskedForEachTime(t *testing.T) {
	given, used := 0, []string{}
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.ParseForm()
		switch {
		case r.URL.Path == "/in":
		case r.URL.Path == "/form":
			given++
			fmt.Fprintf(w, `<form><input name="once" value="token-%d"></form>`, given)
		case r.Method == "POST":
			if once := r.PostForm.Get("once"); once != fmt.Sprintf("token-%d", given) || len(used) > 0 &&
				used[len(used)-1] == once {
				w.WriteHeader(http.StatusForbidden)
			} else {
				used = append(used, once)
			}
		}
	}))
	defer server.Close()
	sum := sha256.Sum256(server.Certificate().Raw)
	const head = "procedure: ours\ntitle: x\nlinks: [https]\ntraits: {key_types: [ecdsa-p256], key_made_by: service}\n"
	p, faults := procedure.Parse([]byte(head + "session:\n  sign_in: [{step: in, http: POST /in, form: {word: x}}, " +
		"{step: ask for the form, http: GET /form, fresh: true, capture: {once: {css: input, attribute: value, " +
		"secret: true}}}]\n  sign_out: [{step: out, http: POST /out, form: {once: \"{{once}}\"}}]\nsteps:\n  " +
		"activate:\n" +
		"    - {step: first, http: POST /a, form: {once: \"{{once}}\"}, undo: nothing}\n    - {step: look, http: " +
		"GET /b}\n    - {step: second, http: POST /a, form: {once: \"{{once}}\"}, undo: nothing}\n"))
	if procedure.Refused(faults) {
		t.Fatal(faults)
	}
	scope, err := procedure.NewScope(procedure.Material{Procedure: p, WebUser: "keeper", WebPassword: "salt"}, nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		r := &Runner{Dial: (&net.Dialer{}).DialContext, Procedure: p, Journal: &pages{},
			Web: func(context.Context) (https.Target, error) {
				return https.Target{Address: server.Listener.Addr().String(),
						Pins: []string{hex.EncodeToString(sum[:])}},
					nil
			}}
		used = nil
		if _, err := r.Run(t.Context(), procedure.Activate, scope); err != nil {
			t.Fatal(err)
		}
		if r.Close(); len(used) != 3 {
			t.Errorf("%v were used; two calls and signing out want one each", used)
		}
	}
	for step, said := range map[string]string{
		"{step: in, http: POST /in, fresh: true, capture: {once: {json: /once}}}": "is no such question",
		"{step: in, http: GET /in, fresh: true}":                                  "is no such question",
	} {
		if _, faults := procedure.Parse([]byte(head + "session: {sign_in: [" + step + "]}\nsteps:\n  activate: " +
			"[{step: a, http: POST /a, undo: nothing}]\n")); !strings.Contains(fmt.Sprint(faults), said) {
			t.Errorf("%s: %v", step, faults)
		}
	}
	if _, faults := procedure.Parse([]byte(head + "steps:\n  activate: [{step: a, http: GET /a, fresh: true}, " +
		"{step: b, http: POST /a, undo: nothing}]\n")); !strings.Contains(fmt.Sprint(faults), `has no key "fresh"`) {
		t.Errorf("fresh outside of a session: %v", faults)
	}
}

// A secret is taken out of a screen wherever lines end within it, at once however long it is, and nothing else is.
func TestASecretIsTakenOutOfAScreen(t *testing.T) {
	for screen, want := range map[string]string{
		"word: a.b*c\nnext":       "word: ••••••\nnext",
		"a.\nb\n\n*c a.b*c\n":     "•••••• ••••••\n",
		"axb*c, a.b*, .b*c":       "axb*c, a.b*, .b*c",
		"a.ba.b*c\nä a.b\n*c\x00": "a.b••••••\nä ••••••\x00",
		"":                        "",
	} {
		if got := withoutBroken(screen, "a.b*c"); got != want {
			t.Errorf("%q becomes %q, want %q", screen, got, want)
		}
	}
	long := strings.Repeat("(a|a)*", 10_000)
	if got := withoutBroken(strings.Repeat("(a|a)*\n", 20_000), long); got != "••••••\n••••••\n" {
		t.Errorf("%.60q of %d bytes", got, len(got))
	}
	if got := withoutBroken("a\n", ""); got != "a\n" {
		t.Errorf("an empty secret makes it %q", got)
	}
}
