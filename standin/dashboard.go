package standin

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"path"

	"mvdan.cc/sh/v3/interp"
)

// vistactl is the tool on the first node of a dashboard. It takes key, leaf, root and
// intermediate in pieces, and carries what it took to the other nodes, one by one. When
// it takes them its front end restarts, and with it goes every connection to the node.
func (r *Running) vistactl(h interp.HandlerContext, _, words []string) error {
	usage := errors.New("usage: vistactl show | take KEY LEAF ROOT INTERMEDIATE | push NODE | back [NODE] | " +
		"health NODE")
	if len(words) == 0 {
		return usage
	}
	const before, now = "/etc/vista/before", "/etc/vista/now"
	switch {
	case words[0] == "take" && len(words) == 5:
		key, certificate, err := r.pieces(words[1:])
		if err != nil {
			return err
		}
		if r.faulty().FailTest {
			return errors.New("refused: error 1107")
		}
		if old, err := r.root.ReadFile(inside(now + ".pem")); err == nil && bytes.Equal(old, certificate) {
			fmt.Fprintln(h.Stdout, "in use already")
			return nil
		}
		if err := r.copyFiles(map[string]string{CertificateFile: before + ".pem", KeyFile: before +
			".key"}); err != nil {
			return err
		}
		if err := r.writeFiles(map[string][]byte{CertificateFile: certificate, KeyFile: key,
			now + ".pem": certificate}); err != nil {
			return err
		}
		return r.frontEnd()
	case words[0] == "show" && len(words) == 1:
		fmt.Fprintf(h.Stdout, "now %s\nnext %s\nbefore %s\n", orNone(fingerprint(r.served())),
			orNone(r.leafIn(CertificateFile)), orNone(r.leafIn(before+".pem")))
		return nil
	case words[0] == "back" && len(words) == 1:
		if _, err := r.root.Stat(inside(now + ".pem")); err != nil {
			fmt.Fprintln(h.Stdout, "nothing was taken")
			return nil
		}
		if err := r.copyFiles(map[string]string{before + ".pem": CertificateFile,
			before + ".key": KeyFile}); err != nil {
			return err
		}
		r.root.Remove(inside(now + ".pem"))
		return r.frontEnd()
	case len(words) == 2 && r.Hosts != nil:
		node := r.Hosts(words[1])
		if node == nil {
			return errors.New("no node has the address " + words[1])
		}
		switch words[0] {
		case "health":
			fmt.Fprintln(h.Stdout, map[bool]string{true: "healthy", false: "starting"}[node.serving.Load() != nil])
			return nil
		case "push":
			if r.faulty().LeafAlone {
				return nil // it says nothing, and carries nothing
			}
			certificate, err1 := r.root.ReadFile(inside(CertificateFile))
			key, err2 := r.root.ReadFile(inside(KeyFile))
			if old, err := node.root.ReadFile(inside(CertificateFile)); err == nil && bytes.Equal(old, certificate) {
				return nil // it was carried there already
			}
			err3 := node.copyFiles(map[string]string{CertificateFile: before + ".pem", KeyFile: before + ".key"})
			if err := errors.Join(err1, err2, err3); err != nil {
				return err
			}
			node.serving.Store(nil)
			r.takes(2)
			return node.Meddle(certificate, key)
		case "back":
			if node.copyFiles(map[string]string{before + ".pem": CertificateFile, before + ".key": KeyFile}) != nil {
				fmt.Fprintln(h.Stdout, "nothing was carried there")
				return nil
			}
			return node.load()
		}
	}
	return usage
}

// pieces reads what the tool is given, each in a file of its own, and sees that it fits.
func (r *Running) pieces(files []string) (key, certificate []byte, err error) {
	var content [4][]byte
	for i, file := range files {
		if content[i], err = r.root.ReadFile(inside(file)); err != nil {
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
func (r *Running) frontEnd() error {
	if r.faulty().KeepServing {
		return nil
	}
	r.serving.Store(nil)
	r.work.Go(func() {
		r.takes(1)
		r.load()
	})
	r.drop()
	return nil
}

func (r *Running) copyFiles(files map[string]string) error {
	content := map[string][]byte{}
	for from, to := range files {
		text, err := r.root.ReadFile(inside(from))
		if err != nil {
			return err
		}
		content[to] = text
	}
	return r.writeFiles(content)
}

func (r *Running) writeFiles(files map[string][]byte) error {
	for file, content := range files {
		if err := r.root.MkdirAll(inside(path.Dir(file)), 0o700); err != nil {
			return err
		}
		if err := r.root.WriteFile(inside(file), content, 0o600); err != nil {
			return err
		}
	}
	return nil
}
