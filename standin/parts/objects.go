package parts

import (
	"crypto/tls"
	"errors"
	"fmt"

	"freshseal/standin"
)

const objects = "/var/web/objects/"

// KeepObject stores a certificate with its key under a name of its own.
func KeepObject(r *standin.Running, name string, chain, key []byte) error {
	if _, err := r.Root.Stat(standin.Inside(objects + name + ".crt")); err == nil {
		return errors.New("the name is in use")
	}
	if _, err := tls.X509KeyPair(chain, key); err != nil {
		return err
	}
	return r.Lay(map[string][]byte{objects + name + ".crt": chain, objects + name + ".key": key})
}

// RemoveObject deletes a named certificate.
func RemoveObject(r *standin.Running, name string) {
	r.Root.Remove(standin.Inside(objects + name + ".crt"))
	r.Root.Remove(standin.Inside(objects + name + ".key"))
}

// UseObject has the box serve the certificate of that name; factory is the delivered one.
func UseObject(r *standin.Running, name string) error {
	chain, key, err := Object(r, name)
	if err != nil {
		return err
	}
	if r.Faulty().FailTest && !r.IsUsual(chain) {
		return errors.New("the certificate was refused")
	}
	if err := r.Lay(map[string][]byte{standin.NextChain: chain, standin.NextKey: key}); err != nil {
		return err
	}
	return r.Use()
}

// Object reads a named certificate with its chain and key, PEM.
func Object(r *standin.Running, name string) (chain, key []byte, err error) {
	if chain, err = r.Root.ReadFile(standin.Inside(objects + name + ".crt")); err != nil {
		return nil, nil, fmt.Errorf("no certificate is called %s", name)
	}
	key, err = r.Root.ReadFile(standin.Inside(objects + name + ".key"))
	return chain, key, err
}

// FactoryObject stores what a box was delivered with under the name factory.
func FactoryObject(r *standin.Running) {
	if _, err := r.Root.Stat(standin.Inside(objects + "factory.crt")); err == nil {
		return
	}
	chain, err := r.Root.ReadFile(standin.Inside(standin.CertificateFile))
	if err != nil {
		return
	}
	key, err := r.Root.ReadFile(standin.Inside(standin.KeyFile))
	if err == nil {
		r.Lay(map[string][]byte{objects + "factory.crt": chain, objects + "factory.key": key})
	}
}

// Remembered returns a word that a box keeps, such as which certificate is chosen.
func Remembered(r *standin.Running, name, usual string) string {
	text, err := r.Root.ReadFile(standin.Inside("/var/web/" + name))
	if err != nil {
		return usual
	}
	return string(text)
}

// Remember stores a setting of the box under a name.
func Remember(r *standin.Running, name, text string) error {
	return r.Lay(map[string][]byte{"/var/web/" + name: []byte(text)})
}
