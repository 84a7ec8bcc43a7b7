// Package dashboard is the stand-in of the kind "dashboard": the first of several nodes, with a tool that carries on
// to the others.
package dashboard

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"path"

	"freshseal/standin"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.Dashboard,
	standin.Make{LeavesOut: true, Faults: []string{"refuses", "keeps-serving", "drops-upload", "hangs"},
		Commands: map[string]standin.Command{"vistactl": vistactl}})

// What was in use before the last change, and what was taken, without their endings.
const before, now = "/etc/vista/before", "/etc/vista/now"

// vistactl is the tool on the first node of a dashboard. It takes key, leaf, root and
// intermediate in pieces, and carries what it took to the other nodes, one by one. When
// it takes them its front end restarts, and with it goes every connection to the node.
func vistactl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	usage := errors.New("usage: vistactl show | take KEY LEAF ROOT INTERMEDIATE | push NODE | back [NODE] | " +
		"health NODE")
	if len(words) == 0 {
		return usage
	}
	switch {
	case words[0] == "take" && len(words) == 5:
		key, certificate, err := pieces(r, words[1:])
		if err != nil {
			return err
		}
		if r.Faulty().FailTest {
			return errors.New("refused: error 1107")
		}
		if old, err := r.Root.ReadFile(standin.Inside(now + ".pem")); err == nil && bytes.Equal(old, certificate) {
			fmt.Fprintln(h.Stdout, "in use already")
			return nil
		}
		if err := copyFiles(r, map[string]string{standin.CertificateFile: before + ".pem", standin.KeyFile: before +
			".key"}); err != nil {
			return err
		}
		if err := writeFiles(r, map[string][]byte{standin.CertificateFile: certificate, standin.KeyFile: key,
			now + ".pem": certificate}); err != nil {
			return err
		}
		return frontEnd(r)
	case words[0] == "show" && len(words) == 1:
		fmt.Fprintf(h.Stdout, "now %s\nnext %s\nbefore %s\n", standin.OrNone(standin.Fingerprint(r.Served())),
			standin.OrNone(r.LeafIn(standin.CertificateFile)), standin.OrNone(r.LeafIn(before+".pem")))
		return nil
	case words[0] == "back" && len(words) == 1:
		if _, err := r.Root.Stat(standin.Inside(now + ".pem")); err != nil {
			fmt.Fprintln(h.Stdout, "nothing was taken")
			return nil
		}
		if err := copyFiles(r, map[string]string{before + ".pem": standin.CertificateFile,
			before + ".key": standin.KeyFile}); err != nil {
			return err
		}
		r.Root.Remove(standin.Inside(now + ".pem"))
		return frontEnd(r)
	case len(words) == 2 && r.Hosts != nil:
		node := r.Hosts(words[1])
		if node == nil {
			return errors.New("no node has the address " + words[1])
		}
		if known, err := toNode(r, node, h.Stdout, words[0]); known {
			return err
		}
	}
	return usage
}

// toNode does what is asked about one of the other nodes.
func toNode(r, node *standin.Running, out io.Writer, what string) (known bool, err error) {
	switch what {
	case "health":
		_, err = fmt.Fprintln(out, map[bool]string{true: "healthy", false: "starting"}[node.Serving.Load() != nil])
		return true, err
	case "push":
		if r.Faulty().LeafAlone {
			return true, nil // it says nothing, and carries nothing
		}
		certificate, err1 := r.Root.ReadFile(standin.Inside(standin.CertificateFile))
		key, err2 := r.Root.ReadFile(standin.Inside(standin.KeyFile))
		if old, err := node.Root.ReadFile(standin.Inside(standin.CertificateFile)); err == nil &&
			bytes.Equal(old, certificate) {
			return true, nil // it was carried there already
		}
		err3 := copyFiles(node, map[string]string{standin.CertificateFile: before + ".pem",
			standin.KeyFile: before + ".key"})
		if err := errors.Join(err1, err2, err3); err != nil {
			return true, err
		}
		node.Serving.Store(nil)
		r.Takes(2)
		return true, node.Meddle(certificate, key)
	case "back":
		if copyFiles(node, map[string]string{before + ".pem": standin.CertificateFile,
			before + ".key": standin.KeyFile}) != nil {
			fmt.Fprintln(out, "nothing was carried there")
			return true, nil
		}
		return true, node.Load()
	}
	return false, nil
}

// pieces reads what the tool is given, each in a file of its own, and sees that it fits.
func pieces(r *standin.Running, files []string) (key, certificate []byte, err error) {
	var content [4][]byte
	for i, file := range files {
		if content[i], err = r.Root.ReadFile(standin.Inside(file)); err != nil {
			return nil, nil, err
		}
	}
	for i, what := range []string{"leaf", "root", "intermediate"} {
		if n := bytes.Count(content[i+1], []byte("-----BEGIN CERTIFICATE")); n == 0 || n > 1 && what != "intermediate" {
			return nil, nil, errors.New("no certificate, or more than one, is given as the " + what)
		}
	}
	block, _ := pem.Decode(content[2])
	root, err := x509.ParseCertificate(block.Bytes)
	if err != nil || root.CheckSignatureFrom(root) != nil {
		return nil, nil, errors.New("refused: error 1104")
	}
	certificate = append(append([]byte{}, content[1]...), content[3]...)
	if _, err := tls.X509KeyPair(certificate, content[0]); err != nil {
		return nil, nil, errors.New("refused: error 1101")
	}
	return content[0], certificate, nil
}

// frontEnd restarts the page of the node; all connections to it are lost on the way.
func frontEnd(r *standin.Running) error {
	if r.Faulty().KeepServing {
		return nil
	}
	r.Serving.Store(nil)
	r.Work.Go(func() {
		r.Takes(1)
		r.Load()
	})
	r.Drop()
	return nil
}

func copyFiles(r *standin.Running, files map[string]string) error {
	content := map[string][]byte{}
	for from, to := range files {
		text, err := r.Root.ReadFile(standin.Inside(from))
		if err != nil {
			return err
		}
		content[to] = text
	}
	return writeFiles(r, content)
}

func writeFiles(r *standin.Running, files map[string][]byte) error {
	for file, content := range files {
		if err := r.Root.MkdirAll(standin.Inside(path.Dir(file)), 0o700); err != nil {
			return err
		}
		if err := r.Root.WriteFile(standin.Inside(file), content, 0o600); err != nil {
			return err
		}
	}
	return nil
}
