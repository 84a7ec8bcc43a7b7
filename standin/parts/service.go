package parts

import (
	"crypto/tls"
	"sync"

	"freshseal/standin"
)

// ChangedFrom reports whether a file is another one than the delivered key.
func ChangedFrom(r *standin.Running, file string) bool {
	content, err := r.Root.ReadFile(standin.Inside(file))
	return err != nil || r.ChangedKey(content)
}

// IsOff reports whether a server that must be stopped is not running.
func IsOff(r *standin.Running) bool {
	server := standin.StateOf[Stopped](r)
	server.Lock.Lock()
	defer server.Lock.Unlock()
	return server.State != ""
}

// SwitchOff stops a server at once. The lock is held.
func SwitchOff(r *standin.Running) {
	s := standin.StateOf[Stopped](r)
	if was := r.Serving.Swap(nil); was != nil {
		s.Kept = was
	}
	s.State = "stopped"
}

// LoadFrom has the box serve the certificate and key in these files.
func LoadFrom(r *standin.Running, certificateFile, keyFile string) error {
	certificate, err := r.Root.ReadFile(standin.Inside(certificateFile))
	if err != nil {
		return err
	}
	key, err := r.Root.ReadFile(standin.Inside(keyFile))
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err == nil {
		r.Serve(pair, key)
	}
	return err
}

// Stopped is how a server stands whose settings can be changed only while it is off.
type Stopped struct {
	Lock  sync.Mutex
	State string           // empty: running
	Kept  *tls.Certificate // what it served before it was stopped
}
