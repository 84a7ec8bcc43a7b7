// Package dock is the stand-in of the kind "stop server": its settings can be changed only while its server is off.
package dock

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.StopServer, standin.Make{Faults: standin.And(standin.FilesFaults, "does-not-stop"),
	Plain: func(r *standin.Running, conn net.Conn) {
		servePlain(r, conn)
	},
	Commands: map[string]standin.Command{"dockctl": dockctl},
	Power: func(r *standin.Running) error {
		standin.StateOf[parts.Stopped](r).Lock.Lock()
		set := dockSettings(r)
		standin.StateOf[parts.Stopped](r).Lock.Unlock()
		return parts.LoadFrom(r, set["certificate"], set["key"])
	}})

const dockFile = "/etc/dock/settings"

// dockctl is the tool of such a server. While the server runs it refuses settings and
// names no remedy.
func dockctl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	server := standin.StateOf[parts.Stopped](r)
	server.Lock.Lock()
	defer server.Lock.Unlock()
	is := server.State
	settings := dockSettings(r)
	switch command := strings.Join(words[:min(2, len(words))], " "); {
	case command == "state":
		if is == "" {
			is = "running"
		}
		fmt.Fprintln(h.Stdout, is)
	case command == "stop now":
		parts.SwitchOff(r)
	case command == "stop":
		if is != "" {
			return nil
		}
		server.State = "stopping"
		if !r.Faulty().StuckStop {
			time.AfterFunc(r.Restart, func() { halt(r) })
		}
	case command == "start":
		startDock(r, server, settings)
	case len(words) == 2 && words[0] == "show" && settings[words[1]] != "":
		fmt.Fprintln(h.Stdout, settings[words[1]])
	case len(words) == 3 && words[0] == "set" && settings[words[1]] != "":
		if is != "stopped" {
			return errors.New("rejected")
		}
		settings[words[1]] = words[2]
		return r.Root.WriteFile(standin.Inside(dockFile),
			[]byte(settings["certificate"]+"\n"+settings["key"]+"\n"), 0o600)
	default:
		return errors.New("usage: dockctl state | stop [now] | start | show NAME | set NAME PATH")
	}
	return nil
}

// startDock starts the server, which is locked, unless it runs.
func startDock(r *standin.Running, server *parts.Stopped, settings map[string]string) {
	if server.State == "" {
		return
	}
	server.State = ""
	if r.Faulty().KeepServing {
		r.Serving.Store(server.Kept)
		return
	}
	if parts.LoadFrom(r, settings["certificate"], settings["key"]) != nil || r.Faulty().FailTest &&
		parts.ChangedFrom(r, settings["key"]) {
		r.Serving.Store(nil) // its log says why; nobody reads that
	}
}

// halt is the moment at which a server that was told to stop has stopped.
func halt(r *standin.Running) {
	server := standin.StateOf[parts.Stopped](r)
	server.Lock.Lock()
	defer server.Lock.Unlock()
	if server.State == "stopping" {
		parts.SwitchOff(r)
	}
}

func dockSettings(r *standin.Running) map[string]string {
	out := map[string]string{"certificate": standin.CertificateFile, "key": standin.KeyFile}
	text, err := r.Root.ReadFile(standin.Inside(dockFile))
	if errors.Is(err, fs.ErrNotExist) {
		r.Root.MkdirAll(standin.Inside("/etc/dock/tls"), 0o700)
		return out
	}
	if lines := strings.Split(string(text), "\n"); len(lines) > 1 {
		out["certificate"], out["key"] = lines[0], lines[1]
	}
	return out
}

// servePlain is the page over plain HTTP: a page as delivered, and what leads to HTTPS once
// another certificate than the delivered one is set.
func servePlain(r *standin.Running, conn net.Conn) {
	server := standin.StateOf[parts.Stopped](r)
	conn.SetDeadline(time.Now().Add(5 * time.Second))
	conn.Read(make([]byte, 1024))
	if r.Serving.Load() == nil {
		return
	}
	server.Lock.Lock()
	set := dockSettings(r)["certificate"]
	server.Lock.Unlock()
	if set == standin.CertificateFile || r.Faulty().PlainStays {
		fmt.Fprint(conn, "HTTP/1.0 200 OK\r\nContent-Type: text/plain\r\n\r\nTidewrack Ferries\n")
		return
	}
	fmt.Fprintf(conn, "HTTP/1.0 301 Moved Permanently\r\nLocation: https://%s/\r\n\r\n", r.TLSAddr)
}
