package standin

import (
	"bufio"
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"freshseal/core/pki/pile"

	"github.com/antchfx/xmlquery"
)

// Router is configured by NETCONF: a candidate, and commits that go back by themselves.
const Router Kind = "router"

// routing is what a router remembers.
type routing struct {
	lock      sync.Mutex
	candidate string // the key that the web server is to use; empty: as it runs
	persist   string // the id of a commit on trial
	back      *time.Timer
	locked    io.ReadWriter // the session that holds the lock
}

// netconf holds a session (RFC 6241), with the framing of RFC 6242 that both sides know.
func (r *Running) netconf(channel io.ReadWriter) {
	const ending = "]]>]]>"
	in := bufio.NewReader(channel)
	io.WriteString(channel,
		`<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities><capability>urn:ietf:params:netconf:base:1.0</capability><capability>urn:ietf:params:netconf:base:1.1</capability><capability>urn:ietf:params:netconf:capability:candidate:1.0</capability><capability>urn:ietf:params:netconf:capability:confirmed-commit:1.1</capability></capabilities><session-id>4</session-id></hello>`+ending)
	var hello bytes.Buffer
	for !bytes.HasSuffix(hello.Bytes(), []byte(ending)) {
		c, err := in.ReadByte()
		if err != nil || hello.Len() > mostPage {
			return
		}
		hello.WriteByte(c)
	}
	defer func() {
		r.routes.lock.Lock()
		defer r.routes.lock.Unlock()
		if r.routes.locked == channel {
			r.routes.locked, r.routes.candidate = nil, ""
		}
	}()
	for {
		message, err := readChunks(in)
		if err != nil {
			return
		}
		call, err := xmlquery.Parse(bytes.NewReader(message))
		if err != nil {
			return
		}
		rpc := xmlquery.FindOne(call, "/*[local-name()='rpc']")
		if rpc == nil {
			return
		}
		operation := xmlquery.FindOne(rpc, "*")
		if operation == nil {
			return
		}
		reply, said := "<ok/>", error(nil)
		if operation.Data == "get" { // no state is shown
			reply = "<data/>"
		} else {
			done := false
			r.watched("rpc "+operation.Data, func() {
				done = true
				reply, said = r.routed(channel, operation)
			})
			if !done {
				return
			}
		}
		if said != nil {
			reply = "<rpc-error><error-type>application</error-type><error-tag>operation-failed</error-tag>" +
				"<error-severity>error</error-severity><error-message>" + said.Error() + "</error-message></rpc-error>"
		}
		text := fmt.Sprintf(`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="%s">%s</rpc-reply>`, rpc.SelectAttr("message-id"), reply)
		half := len(text) / 2 // chunks need not be whole messages
		fmt.Fprintf(channel, "\n#%d\n%s\n#%d\n%s\n##\n", half, text[:half], len(text)-half, text[half:])
		if operation.Data == "close-session" {
			return
		}
	}
}

func readChunks(in *bufio.Reader) ([]byte, error) {
	var out bytes.Buffer
	for {
		line, err := in.ReadString('\n')
		switch {
		case err != nil:
			return nil, err
		case line == "\n":
			continue
		case line == "##\n":
			return out.Bytes(), nil
		}
		size := 0
		if _, err := fmt.Sscanf(line, "#%d\n", &size); err != nil || size < 1 || out.Len()+size > mostPage {
			return nil, errors.New("not the framing")
		}
		if _, err := io.CopyN(&out, in, int64(size)); err != nil {
			return nil, err
		}
	}
}

// routed carries out an operation.
func (r *Running) routed(session io.ReadWriter, operation *xmlquery.Node) (reply string, err error) {
	s := &r.routes
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.locked != nil && s.locked != session && operation.Data != "get-config" && operation.Data != "close-session" {
		return "", errors.New("the candidate is locked by another session")
	}
	text := func(name string) string {
		if n := xmlquery.FindOne(operation, ".//*[local-name()='"+name+"']"); n != nil {
			return strings.TrimSpace(n.InnerText())
		}
		return ""
	}
	switch operation.Data {
	case "lock":
		s.locked = session
	case "unlock":
		s.locked = nil
	case "get-config":
		used := r.remembered("routes", "factory")
		if xmlquery.FindOne(operation, ".//*[local-name()='candidate']") != nil && s.candidate != "" {
			used = s.candidate
		}
		return `<data><web-server xmlns="urn:tidewrack:web-server"><asymmetric-key>` + used +
			`</asymmetric-key></web-server></data>`, nil
	case "edit-config":
		return "<ok/>", r.edit(operation)
	case "validate":
		if r.faulty().FailTest {
			return "", errors.New("the certificate was refused")
		}
	case "discard-changes":
		s.candidate = ""
	case "commit":
		return "<ok/>", r.commitRoutes(text("persist"), text("persist-id"),
			xmlquery.FindOne(operation, ".//*[local-name()='confirmed']") != nil, text("confirm-timeout"))
	case "cancel-commit":
		if s.persist == "" || text("persist-id") != s.persist {
			return "", errors.New("no such commit is on trial")
		}
		r.goBackRoutes()
	case "close-session":
	default:
		return "", errors.New("no operation is called that")
	}
	return "<ok/>", nil
}

// edit takes a keystore's entry, and which of them the web server is to use, into the
// candidate. The lock is held.
func (r *Running) edit(operation *xmlquery.Node) error {
	for _, entry := range xmlquery.Find(operation,
		".//*[local-name()='asymmetric-keys']/*[local-name()='asymmetric-key']") {
		find := func(name string) string {
			n := xmlquery.FindOne(entry, ".//*[local-name()='"+name+"']")
			if n == nil {
				return ""
			}
			return strings.TrimSpace(n.InnerText())
		}
		key, keyErr := base64.StdEncoding.DecodeString(find("cleartext-private-key"))
		bundle, bundleErr := base64.StdEncoding.DecodeString(find("cert-data"))
		if err := errors.Join(keyErr, bundleErr); err != nil {
			return errors.New("binary must be base64")
		}
		if _, err := x509.ParsePKCS8PrivateKey(key); err != nil {
			return errors.New("the key is not in that format")
		}
		accounts, err := pile.Sort([]pile.File{{Name: "cms", Content: bundle}}, pile.Options{})
		if err != nil {
			return err
		}
		var chain []byte
		for _, c := range pile.Certificates(accounts) {
			chain = append(chain, pemOf("CERTIFICATE", c.Raw)...)
		}
		r.removeObject(find("name"))
		if err := r.keepObject(find("name"), chain, pemOf("PRIVATE KEY", key)); err != nil {
			return err
		}
	}
	if used := xmlquery.FindOne(operation,
		".//*[local-name()='web-server']/*[local-name()='asymmetric-key']"); used != nil {
		r.routes.candidate = strings.TrimSpace(used.InnerText())
	}
	return nil
}

// commitRoutes puts the candidate into use, on trial where that is said, or confirms what is
// on trial. The lock is held.
func (r *Running) commitRoutes(persist, id string, trial bool, timeout string) error {
	s := &r.routes
	switch {
	case id != "" && id != s.persist:
		return errors.New("no such commit is on trial")
	case id == "" && s.persist != "":
		return errors.New("a commit is on trial")
	case id != "":
		s.back.Stop()
		s.persist = ""
		return nil
	}
	if s.candidate == "" {
		return nil
	}
	r.remember("routes-before", r.remembered("routes", "factory"))
	if err := r.useRoute(s.candidate); err != nil {
		return err
	}
	s.candidate = ""
	if !trial {
		return nil
	}
	seconds := 600
	fmt.Sscan(timeout, &seconds)
	s.persist = persist
	s.back = time.AfterFunc(time.Duration(seconds)*time.Second, func() {
		s.lock.Lock()
		defer s.lock.Unlock()
		if s.persist == persist {
			r.goBackRoutes()
		}
	})
	return nil
}

func (r *Running) useRoute(name string) error {
	chain, key, err := r.object(name)
	if err != nil {
		return err
	}
	if r.faulty().KeepServing && !r.isUsual(chain) {
		return nil // it says ok, and changes nothing
	}
	r.remember("routes", name)
	if r.faulty().ThirdCertificate && !r.isUsual(chain) {
		r.meddleOnce()
		return nil
	}
	return r.Meddle(chain, key)
}

// goBackRoutes ends a commit on trial. The lock is held.
func (r *Running) goBackRoutes() {
	r.routes.back.Stop()
	r.routes.persist = ""
	r.useRoute(r.remembered("routes-before", "factory"))
}
