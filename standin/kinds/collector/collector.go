// Package collector is the stand-in of the kind "collector": two files under fixed names, read only when its service
// starts.
package collector

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.Collector, standin.Make{Faults: standin.And(standin.FilesFaults, "does-not-stop"),
	Commands: map[string]standin.Command{"tallyctl": tallyctl,
		"chown": chown, "date": date},
	Start: func(r *standin.Running) error {
		if err := layTally(r); err != nil {
			return err
		}
		return parts.LoadFrom(r, tallyFolder+"/server.crt", tallyFolder+"/server.key")
	},
	Power: func(r *standin.Running) error {
		return parts.LoadFrom(r, tallyFolder+"/server.crt", tallyFolder+"/server.key")
	}})

// tallyFolder is where a collector has the two files that it was delivered with; it
// knows no others.
const tallyFolder = "/srv/tally/tls"

// layTally puts the delivered files where a collector wants them.
func layTally(r *standin.Running) error {
	if err := r.Root.MkdirAll(standin.Inside(tallyFolder), 0o700); err != nil {
		return err
	}
	for from, to := range map[string]string{standin.CertificateFile: "server.crt", standin.KeyFile: "server.key"} {
		to = path.Join(tallyFolder, to)
		if _, err := r.Root.Stat(standin.Inside(to)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		content, err := r.Root.ReadFile(standin.Inside(from))
		if err != nil {
			return err
		}
		if err := r.Root.WriteFile(standin.Inside(to), content, 0o640); err != nil {
			return err
		}
	}
	return nil
}

// tallyctl is the tool of a collector's service, which reads its files only when it
// starts, and does not start with a key that everybody may read or that another user owns.
func tallyctl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	server := standin.StateOf[parts.Stopped](r)
	server.Lock.Lock()
	defer server.Lock.Unlock()
	switch strings.Join(words, " ") {
	case "state":
		fmt.Fprintln(h.Stdout, map[bool]string{true: "down", false: "up"}[server.State != ""])
	case "stop":
		if r.Faulty().StuckStop {
			return errors.New("the service does not stop")
		}
		r.Takes(2)
		parts.SwitchOff(r)
	case "start":
		if server.State == "" {
			return nil
		}
		r.Takes(1)
		certificate, key := path.Join(tallyFolder, "server.crt"), path.Join(tallyFolder, "server.key")
		info, err := r.Root.Stat(standin.Inside(key))
		if err != nil {
			return err
		}
		if owner := ownerOf(r, key); owner != "tally" || info.Mode().Perm()&0o007 != 0 {
			return fmt.Errorf("the key belongs to %s and has mode %o", owner, info.Mode().Perm())
		}
		if r.Faulty().FailTest && parts.ChangedFrom(r, key) {
			return errors.New("cannot start")
		}
		if r.Faulty().KeepServing { // from a copy of its own
			r.Serving.Store(server.Kept)
			server.State = ""
			return nil
		}
		if err := parts.LoadFrom(r, certificate, key); err != nil {
			return errors.New("cannot start")
		}
		server.State = ""
	default:
		return errors.New("usage: tallyctl state | stop | start")
	}
	return nil
}

// chown notes who owns a file. A new file is its maker's.
func chown(r *standin.Running, _ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants an owner and a file")
	}
	if _, err := r.Root.Stat(standin.Inside(operands[1])); err != nil {
		return err
	}
	owner, _, _ := strings.Cut(operands[0], ":")
	r.Owners.Store(operands[1], owner)
	return nil
}

func ownerOf(r *standin.Running, file string) string {
	owner, ok := r.Owners.Load(file)
	if !ok {
		return "tally" // as it was delivered
	}
	return owner.(string)
}

// date prints the day.
func date(r *standin.Running, h interp.HandlerContext, _, _ []string) error {
	_, err := fmt.Fprintln(h.Stdout, time.Now().UTC().Format(time.DateOnly))
	return err
}
