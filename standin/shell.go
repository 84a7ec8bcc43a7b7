package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// shell runs a command line as the device's shell would, with the device's own
// few commands and files; params are its $1 and on. It returns the exit code.
func (r *Running) shell(ctx context.Context, line string, stdin io.Reader, stdout, stderr io.Writer,
	params ...string) uint8 {
	if r.faulty().Hang {
		<-ctx.Done()
		return 255
	}
	program, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(line), "")
	if err != nil {
		fmt.Fprintln(stderr, "sh:", err)
		return 2
	}
	runner, err := interp.New(
		interp.StdIO(stdin, stdout, stderr),
		interp.Params(append([]string{"--"}, params...)...),
		interp.CallHandler(func(_ context.Context, args []string) ([]string, error) {
			if args[0] == "umask" {
				return []string{"true"}, nil // what is made here is its owner's alone
			}
			return args, nil
		}),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return r.command }),
		interp.OpenHandler(func(_ context.Context, p string, flag int, mode os.FileMode) (io.ReadWriteCloser, error) {
			if p == "/dev/null" {
				return nowhere{}, nil
			}
			if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
				if err := r.room(p); err != nil {
					return nil, err
				}
			}
			return r.root.OpenFile(inside(p), flag, mode)
		}),
		interp.StatHandler(func(_ context.Context, p string, follow bool) (fs.FileInfo, error) {
			if follow {
				return r.root.Stat(inside(p))
			}
			return r.root.Lstat(inside(p))
		}),
		interp.AccessHandler(func(_ context.Context, p string, _ interp.AccessMode) error {
			_, err := r.root.Stat(inside(p))
			return err
		}),
		interp.ReadDirHandler2(func(_ context.Context, p string) ([]fs.DirEntry, error) {
			return fs.ReadDir(r.root.FS(), inside(p))
		}),
	)
	if err != nil {
		fmt.Fprintln(stderr, "sh:", err)
		return 2
	}
	var status interp.ExitStatus
	switch err := runner.Run(ctx, program); {
	case err == nil:
		return 0
	case errors.As(err, &status):
		return uint8(status)
	default:
		fmt.Fprintln(stderr, "sh:", err)
		return 1
	}
}

// command carries out one of the device's commands.
func (r *Running) command(ctx context.Context, args []string) error {
	h := interp.HandlerCtx(ctx)
	commands := map[string]func(h interp.HandlerContext, options []string, operands []string) error{
		"wc": r.wc, "sync": func(interp.HandlerContext, []string, []string) error { return nil }, "mkdir": r.mkdir,
		"cp": r.cp, "mv": r.mv, "rm": r.rm, "chmod": r.chmod, "cat": r.cat, "webui": r.webui,
	}
	switch r.Kind {
	case StopServer:
		commands["dockctl"] = r.dockctl
	case PlantRoom:
		commands["reboot"] = r.reboot
	case BareHost:
		commands["hostctl"], commands["reboot"] = r.hostctl, r.rebootHost
	case MenuManager:
		commands["hostwarden"] = r.hostwarden
	case Collector:
		commands["tallyctl"], commands["chown"], commands["date"] = r.tallyctl, r.chown, r.date
	case VoiceManager:
		commands["voicectl"] = func(_ interp.HandlerContext, _, words []string) error { return r.voicectl(words) }
	case SiteServer:
		commands["sitectl"] = r.sitectl
	case SignOnServer:
		commands["portalctl"] = r.portalctl
	case Dashboard:
		commands["vistactl"] = r.vistactl
	case TideGauge:
		commands["gaugectl"] = r.gaugectl
	}
	var err error
	switch run, ok := commands[args[0]]; {
	case args[0] == "sh":
		if len(args) < 3 || args[1] != "-c" {
			fmt.Fprintln(h.Stderr, "sh: usage: sh -c SCRIPT [NAME [ARGUMENT ...]]")
			return interp.ExitStatus(2)
		}
		if status := r.shell(ctx, args[2], h.Stdin, h.Stdout, h.Stderr, args[min(4, len(args)):]...); status != 0 {
			return interp.ExitStatus(status)
		}
		return nil
	case args[0] == "openssl":
		err = r.openssl(h.Stdout, h.Stderr, args[1:])
	case ok:
		options, operands := split(args[1:])
		err = run(h, options, operands)
	default:
		fmt.Fprintf(h.Stderr, "sh: %s: not found\n", args[0])
		return interp.ExitStatus(127)
	}
	if err != nil {
		fmt.Fprintf(h.Stderr, "%s: %v\n", args[0], err)
		return interp.ExitStatus(1)
	}
	return nil
}

// nowhere takes everything and gives nothing.
type nowhere struct{}

func (nowhere) Read([]byte) (int, error)    { return 0, io.EOF }
func (nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (nowhere) Close() error                { return nil }

// wc counts the bytes of its input.
func (r *Running) wc(h interp.HandlerContext, _, _ []string) error {
	n, err := io.Copy(io.Discard, h.Stdin)
	if err == nil {
		_, err = fmt.Fprintln(h.Stdout, n)
	}
	return err
}

func split(args []string) (options, operands []string) {
	for _, a := range args {
		if strings.HasPrefix(a, "-") {
			options = append(options, a)
		} else {
			operands = append(operands, a)
		}
	}
	return options, operands
}

func has(options []string, letter string) bool {
	for _, o := range options {
		if strings.Contains(o, letter) {
			return true
		}
	}
	return false
}

// room says why nothing can be written at a path.
func (r *Running) room(file string) error {
	switch f := r.faulty(); {
	case !strings.HasPrefix(file, "/etc/") && !strings.HasPrefix(file, "/srv/tally/tls/") &&
		!strings.HasPrefix(file, stage):
	case f.ReadOnly:
		return &fs.PathError{Op: "open", Path: file, Err: syscall.EROFS}
	case f.DiskFull:
		return &fs.PathError{Op: "write", Path: file, Err: syscall.ENOSPC}
	}
	return nil
}

func (r *Running) mkdir(_ interp.HandlerContext, options, operands []string) error {
	if has(options, "m") && len(operands) > 0 {
		operands = operands[1:] // the mode: folders here are their owner's alone
	}
	for _, p := range operands {
		make := r.root.Mkdir
		if has(options, "p") {
			make = r.root.MkdirAll
		}
		if err := make(inside(p), 0o700); err != nil {
			return err
		}
	}
	return nil
}

func (r *Running) cp(_ interp.HandlerContext, options, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a source and a target")
	}
	content, err := r.root.ReadFile(inside(operands[0]))
	if err != nil {
		return err
	}
	if err := r.room(operands[1]); err != nil {
		return err
	}
	if err := r.root.WriteFile(inside(operands[1]), content, 0o600); err != nil {
		return err
	}
	if !has(options, "p") {
		return nil
	}
	info, err := r.root.Stat(inside(operands[0]))
	if err != nil {
		return err
	}
	return r.root.Chmod(inside(operands[1]), info.Mode().Perm())
}

func (r *Running) mv(_ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a source and a target")
	}
	target := inside(operands[1])
	if info, err := r.root.Stat(target); err == nil && info.IsDir() {
		target = path.Join(target, path.Base(operands[0]))
	}
	return r.root.Rename(inside(operands[0]), target)
}

func (r *Running) rm(_ interp.HandlerContext, options, operands []string) error {
	for _, p := range operands {
		remove := r.root.Remove
		if has(options, "r") {
			remove = r.root.RemoveAll
		}
		if err := remove(inside(p)); err != nil && !(has(options, "f") && errors.Is(err, fs.ErrNotExist)) {
			return err
		}
	}
	return nil
}

func (r *Running) chmod(_ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a mode and a file")
	}
	var mode uint32
	if _, err := fmt.Sscanf(operands[0], "%o", &mode); err != nil {
		return fmt.Errorf("invalid mode %q", operands[0])
	}
	return r.root.Chmod(inside(operands[1]), fs.FileMode(mode).Perm())
}

func (r *Running) cat(h interp.HandlerContext, _, operands []string) error {
	if len(operands) == 0 {
		_, err := io.Copy(h.Stdout, h.Stdin)
		return err
	}
	for _, p := range operands {
		content, err := r.root.ReadFile(inside(p))
		if err != nil {
			return err
		}
		if _, err := h.Stdout.Write(content); err != nil {
			return err
		}
	}
	return nil
}

// webui is the device's web server: test its configuration, or reload it. As
// with real servers, the test looks at the files and not at whether they fit
// together, and reload reports nothing.
func (r *Running) webui(h interp.HandlerContext, _, operands []string) error {
	switch {
	case len(operands) == 1 && operands[0] == "test":
		for _, p := range []string{CertificateFile, KeyFile} {
			content, err := r.root.ReadFile(inside(p))
			if err != nil {
				return err
			}
			if !strings.Contains(string(content), "-----BEGIN ") {
				return fmt.Errorf("%s: no PEM block", p)
			}
		}
		if r.faulty().FailTest && r.changed() {
			return errors.New("configuration: directive tls on line 4 is not understood")
		}
		fmt.Fprintln(h.Stdout, "configuration ok")
		return nil
	case len(operands) == 1 && operands[0] == "reload":
		if r.faulty().KeepServing {
			return nil
		}
		if r.Restart > 0 {
			r.serving.Store(nil)
			time.Sleep(r.Restart)
		}
		if err := r.load(); err != nil {
			r.serving.Store(nil) // it dies, and says so only in a log that nobody reads
		}
		return nil
	}
	return errors.New("usage: webui test | webui reload")
}

// changed says that the certificate's file is not what is being served.
func (r *Running) changed() bool {
	content, err := r.root.ReadFile(inside(CertificateFile))
	serving := r.serving.Load()
	return err != nil || serving == nil ||
		!strings.HasPrefix(string(content), string(pemOf("CERTIFICATE", serving.Certificate[0])))
}
