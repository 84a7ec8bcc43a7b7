package standin

import (
	"bytes"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"syscall"
	"time"
)

// ChangedKey reports whether a key is another one than that of the certificate which was served when its faults were
// set.
func (r *Running) ChangedKey(key []byte) bool {
	usual := r.usual.Load()
	if usual == nil {
		return false
	}
	_, err := tls.X509KeyPair(PemOf("CERTIFICATE", usual.Certificate[0]), key)
	return err != nil
}

// IsUsual reports whether a chain is that of the certificate which was served when the box's faults were set.
func (r *Running) IsUsual(chain []byte) bool {
	usual := r.usual.Load()
	block, _ := pem.Decode(chain)
	return usual != nil && block != nil && bytes.Equal(block.Bytes, usual.Certificate[0])
}

// InMaintenance reports whether a bare host is out of service.
func (r *Running) InMaintenance() bool {
	_, err := r.Root.Stat(Inside("/etc/maintenance"))
	return err == nil
}

// SwitchShell switches SSH on or off, as somebody before the console does. Connections end.
func (r *Running) SwitchShell(on bool) {
	r.shellOn.Store(on)
	if !on {
		r.Drop()
	}
}

// ShellOn reports whether SSH is on.
func (r *Running) ShellOn() bool { return r.shellOn.Load() }

// full is a file on a partition without room.
type full struct{ io.WriterAt }

// WriteAt never has room.
func (full) WriteAt([]byte, int64) (int, error) { return 0, syscall.ENOSPC }

// Close closes the file below.
func (f full) Close() error { return f.WriterAt.(io.Closer).Close() }

// Task is something that takes a while.
type Task struct {
	Began time.Time
	Ended bool
	Err   error
}

// Holds returns the files in a folder of the box and below it, by their path.
func (r *Running) Holds(folder string) (map[string]string, error) {
	out := map[string]string{}
	err := fs.WalkDir(r.Root.FS(), Inside(folder), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := r.Root.ReadFile(p)
		out["/"+p] = string(content)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	return out, err
}
