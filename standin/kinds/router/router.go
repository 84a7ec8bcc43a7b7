// Package router is the stand-in of the kind "router": configured by NETCONF: a candidate, and commits that go back by
// themselves.
package router

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"freshseal/core/pki/pile"
	"freshseal/standin"
	"freshseal/standin/parts"

	"github.com/antchfx/xmlquery"
)

var _ = standin.Register(standin.Router, standin.Make{Faults: []string{"refuses", "keeps-serving"},
	NETCONF: func(r *standin.Running, session io.ReadWriter) {
		netconf(r, session)
	},
	Start: func(r *standin.Running) error {
		parts.FactoryObject(r)
		return nil
	}})

// netconf holds a session (RFC 6241), with the framing of RFC 6242 that both sides know.
func netconf(r *standin.Running, channel io.ReadWriter) {
	routes := standin.StateOf[routing](r)
	const ending = "]]>]]>"
	in := bufio.NewReader(channel)
	io.WriteString(channel, `<hello xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"><capabilities>`+
		`<capability>urn:ietf:params:netconf:base:1.0</capability>`+
		`<capability>urn:ietf:params:netconf:base:1.1</capability>`+
		`<capability>urn:ietf:params:netconf:capability:candidate:1.0</capability>`+
		`<capability>urn:ietf:params:netconf:capability:confirmed-commit:1.1</capability>`+
		`</capabilities><session-id>4</session-id></hello>`+ending)
	var hello bytes.Buffer
	for !bytes.HasSuffix(hello.Bytes(), []byte(ending)) {
		c, err := in.ReadByte()
		if err != nil || hello.Len() > standin.MostPage {
			return
		}
		hello.WriteByte(c)
	}
	defer func() {
		routes.lock.Lock()
		defer routes.lock.Unlock()
		if routes.locked == channel {
			routes.locked, routes.candidate = nil, ""
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
			r.Watched("rpc "+operation.Data, func() {
				done = true
				reply, said = routed(r, channel, operation)
			})
			if !done {
				return
			}
		}
		if said != nil {
			reply = "<rpc-error><error-type>application</error-type><error-tag>operation-failed</error-tag>" +
				"<error-severity>error</error-severity><error-message>" + said.Error() + "</error-message></rpc-error>"
		}
		text := fmt.Sprintf(`<rpc-reply xmlns="urn:ietf:params:xml:ns:netconf:base:1.0" message-id="%s">%s</rpc-reply>`,
			rpc.SelectAttr("message-id"), reply)
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
		if _, err := fmt.Sscanf(line, "#%d\n", &size); err != nil || size < 1 || out.Len()+size > standin.MostPage {
			return nil, errors.New("not the framing")
		}
		if _, err := io.CopyN(&out, in, int64(size)); err != nil {
			return nil, err
		}
	}
}

// textOf returns the text of an operation's first element with a name.
func textOf(operation *xmlquery.Node, name string) string {
	if n := xmlquery.FindOne(operation, ".//*[local-name()='"+name+"']"); n != nil {
		return strings.TrimSpace(n.InnerText())
	}
	return ""
}

// routed carries out an operation.
func routed(r *standin.Running, session io.ReadWriter, operation *xmlquery.Node) (reply string, err error) {
	s := standin.StateOf[routing](r)
	s.lock.Lock()
	defer s.lock.Unlock()
	if s.locked != nil && s.locked != session && operation.Data != "get-config" && operation.Data != "close-session" {
		return "", errors.New("the candidate is locked by another session")
	}
	switch operation.Data {
	case "lock":
		s.locked = session
	case "unlock":
		s.locked = nil
	case "get-config":
		used := parts.Remembered(r, "routes", "factory")
		if xmlquery.FindOne(operation, ".//*[local-name()='candidate']") != nil {
			used = cmp.Or(s.candidate, used)
		}
		return `<data><web-server xmlns="urn:tidewrack:web-server"><asymmetric-key>` + used +
			`</asymmetric-key></web-server></data>`, nil
	case "edit-config":
		return "<ok/>", edit(r, operation)
	case "validate":
		if r.Faulty().FailTest {
			return "", errors.New("the certificate was refused")
		}
	case "discard-changes":
		s.candidate = ""
	case "commit":
		return "<ok/>", commitRoutes(r, textOf(operation, "persist"), textOf(operation, "persist-id"),
			xmlquery.FindOne(operation, ".//*[local-name()='confirmed']") != nil, textOf(operation, "confirm-timeout"))
	case "cancel-commit":
		if s.persist == "" || textOf(operation, "persist-id") != s.persist {
			return "", errors.New("no such commit is on trial")
		}
		goBackRoutes(r)
	case "close-session":
	default:
		return "", errors.New("no operation is called that")
	}
	return "<ok/>", nil
}

// edit takes a keystore's entry, and which of them the web server is to use, into the
// candidate. The lock is held.
func edit(r *standin.Running, operation *xmlquery.Node) error {
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
			chain = append(chain, standin.PemOf("CERTIFICATE", c.Raw)...)
		}
		parts.RemoveObject(r, find("name"))
		if err := parts.KeepObject(r, find("name"), chain, standin.PemOf("PRIVATE KEY", key)); err != nil {
			return err
		}
	}
	if used := xmlquery.FindOne(operation,
		".//*[local-name()='web-server']/*[local-name()='asymmetric-key']"); used != nil {
		standin.StateOf[routing](r).candidate = strings.TrimSpace(used.InnerText())
	}
	return nil
}

// commitRoutes puts the candidate into use, on trial where that is said, or confirms what is
// on trial. The lock is held.
func commitRoutes(r *standin.Running, persist, id string, trial bool, timeout string) error {
	s := standin.StateOf[routing](r)
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
	parts.Remember(r, "routes-before", parts.Remembered(r, "routes", "factory"))
	if err := useRoute(r, s.candidate); err != nil {
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
			goBackRoutes(r)
		}
	})
	return nil
}

func useRoute(r *standin.Running, name string) error {
	chain, key, err := parts.Object(r, name)
	if err != nil {
		return err
	}
	if r.Faulty().KeepServing && !r.IsUsual(chain) {
		return nil // it says ok, and changes nothing
	}
	parts.Remember(r, "routes", name)
	if r.Faulty().ThirdCertificate && !r.IsUsual(chain) {
		r.MeddleOnce()
		return nil
	}
	return r.Meddle(chain, key)
}

// goBackRoutes ends a commit on trial. The lock is held.
func goBackRoutes(r *standin.Running) {
	routes := standin.StateOf[routing](r)
	routes.back.Stop()
	routes.persist = ""
	useRoute(r, parts.Remembered(r, "routes-before", "factory"))
}

// routing is what a router remembers.
type routing struct {
	lock      sync.Mutex
	candidate string // the key that the web server is to use; empty: as it runs
	persist   string // the id of a commit on trial
	back      *time.Timer
	locked    io.ReadWriter // the session that holds the lock
}
