package standin

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// stopped is how a server stands whose settings can be changed only while it is off.
type stopped struct {
	lock  sync.Mutex
	state string           // empty: running
	kept  *tls.Certificate // what it served before it was stopped
}

const dockSettings = "/etc/dock/settings"

// dockctl is the tool of such a server. While the server runs it refuses settings and
// names no remedy.
func (r *Running) dockctl(h interp.HandlerContext, _, words []string) error {
	r.stopped.lock.Lock()
	defer r.stopped.lock.Unlock()
	is := r.stopped.state
	settings := r.dockSettings()
	switch command := strings.Join(words[:min(2, len(words))], " "); {
	case command == "state":
		if is == "" {
			is = "running"
		}
		fmt.Fprintln(h.Stdout, is)
	case command == "stop now":
		r.stopped.off(r)
	case command == "stop":
		if is != "" {
			return nil
		}
		r.stopped.state = "stopping"
		if !r.faulty().StuckStop {
			time.AfterFunc(r.Restart, r.halt)
		}
	case command == "start":
		if is == "" {
			return nil
		}
		r.stopped.state = ""
		if r.faulty().KeepServing {
			r.serving.Store(r.stopped.kept)
			return nil
		}
		if r.loadFrom(settings["certificate"], settings["key"]) != nil || r.faulty().FailTest &&
			r.changedFrom(settings["key"]) {
			r.serving.Store(nil) // its log says why; nobody reads that
		}
	case len(words) == 2 && words[0] == "show" && settings[words[1]] != "":
		fmt.Fprintln(h.Stdout, settings[words[1]])
	case len(words) == 3 && words[0] == "set" && settings[words[1]] != "":
		if is != "stopped" {
			return errors.New("rejected")
		}
		settings[words[1]] = words[2]
		return r.root.WriteFile(inside(dockSettings), []byte(settings["certificate"]+"\n"+settings["key"]+"\n"), 0o600)
	default:
		return errors.New("usage: dockctl state | stop [now] | start | show NAME | set NAME PATH")
	}
	return nil
}

// IsOff says that a server that must be stopped is not running.
func (r *Running) IsOff() bool {
	r.stopped.lock.Lock()
	defer r.stopped.lock.Unlock()
	return r.stopped.state != ""
}

// halt is the moment at which a server that was told to stop has stopped.
func (r *Running) halt() {
	r.stopped.lock.Lock()
	defer r.stopped.lock.Unlock()
	if r.stopped.state == "stopping" {
		r.stopped.off(r)
	}
}

// off stops a server at once. The lock is held.
func (s *stopped) off(r *Running) {
	if was := r.serving.Swap(nil); was != nil {
		s.kept = was
	}
	s.state = "stopped"
}

func (r *Running) dockSettings() map[string]string {
	out := map[string]string{"certificate": CertificateFile, "key": KeyFile}
	text, err := r.root.ReadFile(inside(dockSettings))
	if errors.Is(err, fs.ErrNotExist) {
		r.root.MkdirAll(inside("/etc/dock/tls"), 0o700)
		return out
	}
	if lines := strings.Split(string(text), "\n"); len(lines) > 1 {
		out["certificate"], out["key"] = lines[0], lines[1]
	}
	return out
}

func (r *Running) loadFrom(certificateFile, keyFile string) error {
	certificate, err := r.root.ReadFile(inside(certificateFile))
	if err != nil {
		return err
	}
	key, err := r.root.ReadFile(inside(keyFile))
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(certificate, key)
	if err == nil {
		r.serve(pair, key)
	}
	return err
}

// servePlain is the page over plain HTTP: a page as delivered, and what leads to HTTPS once
// another certificate than the delivered one is set.
func (r *Running) servePlain(conn net.Conn) {
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	conn.Read(make([]byte, 1024))
	if r.serving.Load() == nil {
		return
	}
	r.stopped.lock.Lock()
	set := r.dockSettings()["certificate"]
	r.stopped.lock.Unlock()
	if set == CertificateFile || r.faulty().PlainStays {
		fmt.Fprint(conn, "HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\nTidewrack Ferries\n")
		return
	}
	fmt.Fprintf(conn, "HTTP/1.0 301 Moved Permanently\r\nLocation: https://%s/\r\n\r\n", r.TLSAddr)
}
