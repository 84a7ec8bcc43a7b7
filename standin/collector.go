package standin

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// tallyFolder is where a collector has the two files that it was delivered with; it
// knows no others.
const tallyFolder = "/srv/tally/tls"

// layTally puts the delivered files where a collector wants them.
func (r *Running) layTally() error {
	if err := r.root.MkdirAll(inside(tallyFolder), 0o700); err != nil {
		return err
	}
	for from, to := range map[string]string{CertificateFile: "server.crt", KeyFile: "server.key"} {
		to = path.Join(tallyFolder, to)
		if _, err := r.root.Stat(inside(to)); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		content, err := r.root.ReadFile(inside(from))
		if err != nil {
			return err
		}
		if err := r.root.WriteFile(inside(to), content, 0o640); err != nil {
			return err
		}
	}
	return nil
}

// tallyctl is the tool of a collector's service, which reads its files only when it
// starts, and does not start with a key that everybody may read or that another user owns.
func (r *Running) tallyctl(h interp.HandlerContext, _, words []string) error {
	r.stopped.lock.Lock()
	defer r.stopped.lock.Unlock()
	switch strings.Join(words, " ") {
	case "state":
		fmt.Fprintln(h.Stdout, map[bool]string{true: "down", false: "up"}[r.stopped.state != ""])
	case "stop":
		if r.faulty().StuckStop {
			return errors.New("the service does not stop")
		}
		r.takes(2)
		r.stopped.off(r)
	case "start":
		if r.stopped.state == "" {
			return nil
		}
		r.takes(1)
		certificate, key := path.Join(tallyFolder, "server.crt"), path.Join(tallyFolder, "server.key")
		info, err := r.root.Stat(inside(key))
		if err != nil {
			return err
		}
		if owner := r.ownerOf(key); owner != "tally" || info.Mode().Perm()&0o007 != 0 {
			return fmt.Errorf("the key belongs to %s and has mode %o", owner, info.Mode().Perm())
		}
		if r.faulty().FailTest && r.changedFrom(key) {
			return errors.New("cannot start")
		}
		if r.faulty().KeepServing { // from a copy of its own
			r.serving.Store(r.stopped.kept)
			r.stopped.state = ""
			return nil
		}
		if err := r.loadFrom(certificate, key); err != nil {
			return errors.New("cannot start")
		}
		r.stopped.state = ""
	default:
		return errors.New("usage: tallyctl state | stop | start")
	}
	return nil
}

// changedFrom says that a file is another one than the delivered key.
func (r *Running) changedFrom(file string) bool {
	content, err := r.root.ReadFile(inside(file))
	return err != nil || r.changedKey(content)
}

// chown notes who owns a file. A new file is its maker's.
func (r *Running) chown(_ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants an owner and a file")
	}
	if _, err := r.root.Stat(inside(operands[1])); err != nil {
		return err
	}
	owner, _, _ := strings.Cut(operands[0], ":")
	r.owners.Store(operands[1], owner)
	return nil
}

func (r *Running) ownerOf(file string) string {
	owner, ok := r.owners.Load(file)
	if !ok {
		return "tally" // as it was delivered
	}
	return owner.(string)
}

// date prints the day.
func (r *Running) date(h interp.HandlerContext, _, _ []string) error {
	_, err := fmt.Fprintln(h.Stdout, time.Now().UTC().Format(time.DateOnly))
	return err
}

// Holds are the files in a folder of the box and below it, by their path.
func (r *Running) Holds(folder string) (map[string]string, error) {
	out := map[string]string{}
	err := fs.WalkDir(r.root.FS(), inside(folder), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := r.root.ReadFile(p)
		out["/"+p] = string(content)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	return out, err
}
