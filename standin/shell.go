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

// unix is the little system beneath a stand-in's shell: its files and the commands it knows.
type unix struct{ *Running }

// shell runs a command line as the device's shell would, with the device's own
// few commands and files; params are its $1 and on. It returns the exit code.
func (r unix) shell(ctx context.Context, line string, stdin io.Reader, stdout, stderr io.Writer,
	params ...string) uint8 {
	if r.Faulty().Hang {
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
			return r.Root.OpenFile(Inside(p), flag, mode)
		}),
		interp.StatHandler(func(_ context.Context, p string, follow bool) (fs.FileInfo, error) {
			if follow {
				return r.Root.Stat(Inside(p))
			}
			return r.Root.Lstat(Inside(p))
		}),
		interp.AccessHandler(func(_ context.Context, p string, _ interp.AccessMode) error {
			_, err := r.Root.Stat(Inside(p))
			return err
		}),
		interp.ReadDirHandler2(func(_ context.Context, p string) ([]fs.DirEntry, error) {
			return fs.ReadDir(r.Root.FS(), Inside(p))
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
func (r unix) command(ctx context.Context, args []string) error {
	h := interp.HandlerCtx(ctx)
	commands := map[string]func(h interp.HandlerContext, options []string, operands []string) error{
		"wc": r.wc, "sync": func(interp.HandlerContext, []string, []string) error { return nil }, "mkdir": r.mkdir,
		"cp": r.cp, "mv": r.mv, "rm": r.rm, "chmod": r.chmod, "cat": r.cat, "webui": r.webui,
	}
	for name, run := range makes[r.Kind].Commands {
		commands[name] = func(h interp.HandlerContext, options, operands []string) error {
			return run(r.Running, h, options, operands)
		}
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
func (r unix) wc(h interp.HandlerContext, _, _ []string) error {
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

// Stage is where an appliance expects what is to be applied.
const Stage = "/stage"

// room returns why nothing can be written at a path.
func (r unix) room(file string) error {
	switch f := r.Faulty(); {
	case !strings.HasPrefix(file, "/etc/") && !strings.HasPrefix(file, "/srv/tally/tls/") &&
		!strings.HasPrefix(file, Stage):
	case f.ReadOnly:
		return &fs.PathError{Op: "open", Path: file, Err: syscall.EROFS}
	case f.DiskFull:
		return &fs.PathError{Op: "write", Path: file, Err: syscall.ENOSPC}
	}
	return nil
}

func (r unix) mkdir(_ interp.HandlerContext, options, operands []string) error {
	if has(options, "m") && len(operands) > 0 {
		operands = operands[1:] // the mode: folders here are their owner's alone
	}
	for _, p := range operands {
		make := r.Root.Mkdir
		if has(options, "p") {
			make = r.Root.MkdirAll
		}
		if err := make(Inside(p), 0o700); err != nil {
			return err
		}
	}
	return nil
}

func (r unix) cp(_ interp.HandlerContext, options, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a source and a target")
	}
	content, err := r.Root.ReadFile(Inside(operands[0]))
	if err != nil {
		return err
	}
	if err := r.room(operands[1]); err != nil {
		return err
	}
	if err := r.Root.WriteFile(Inside(operands[1]), content, 0o600); err != nil {
		return err
	}
	if !has(options, "p") {
		return nil
	}
	info, err := r.Root.Stat(Inside(operands[0]))
	if err != nil {
		return err
	}
	return r.Root.Chmod(Inside(operands[1]), info.Mode().Perm())
}

func (r unix) mv(_ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a source and a target")
	}
	target := Inside(operands[1])
	if info, err := r.Root.Stat(target); err == nil && info.IsDir() {
		target = path.Join(target, path.Base(operands[0]))
	}
	return r.Root.Rename(Inside(operands[0]), target)
}

func (r unix) rm(_ interp.HandlerContext, options, operands []string) error {
	for _, p := range operands {
		remove := r.Root.Remove
		if has(options, "r") {
			remove = r.Root.RemoveAll
		}
		if err := remove(Inside(p)); err != nil && !(has(options, "f") && errors.Is(err, fs.ErrNotExist)) {
			return err
		}
	}
	return nil
}

func (r unix) chmod(_ interp.HandlerContext, _, operands []string) error {
	if len(operands) != 2 {
		return errors.New("wants a mode and a file")
	}
	var mode uint32
	if _, err := fmt.Sscanf(operands[0], "%o", &mode); err != nil {
		return fmt.Errorf("invalid mode %q", operands[0])
	}
	return r.Root.Chmod(Inside(operands[1]), fs.FileMode(mode).Perm())
}

func (r unix) cat(h interp.HandlerContext, _, operands []string) error {
	if len(operands) == 0 {
		_, err := io.Copy(h.Stdout, h.Stdin)
		return err
	}
	for _, p := range operands {
		content, err := r.Root.ReadFile(Inside(p))
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
func (r unix) webui(h interp.HandlerContext, _, operands []string) error {
	switch {
	case len(operands) == 1 && operands[0] == "test":
		for _, p := range []string{CertificateFile, KeyFile} {
			content, err := r.Root.ReadFile(Inside(p))
			if err != nil {
				return err
			}
			if !strings.Contains(string(content), "-----BEGIN ") {
				return fmt.Errorf("%s: no PEM block", p)
			}
		}
		if r.Faulty().FailTest && r.changed() {
			return errors.New("configuration: directive tls on line 4 is not understood")
		}
		fmt.Fprintln(h.Stdout, "configuration ok")
		return nil
	case len(operands) == 1 && operands[0] == "reload":
		if r.Faulty().KeepServing {
			return nil
		}
		if r.Restart > 0 {
			r.Serving.Store(nil)
			time.Sleep(r.Restart)
		}
		if err := r.Load(); err != nil {
			r.Serving.Store(nil) // it dies, and says so only in a log that nobody reads
		}
		return nil
	}
	return errors.New("usage: webui test | webui reload")
}

// changed reports whether the certificate's file is not what is being served.
func (r unix) changed() bool {
	content, err := r.Root.ReadFile(Inside(CertificateFile))
	serving := r.Serving.Load()
	return err != nil || serving == nil ||
		!strings.HasPrefix(string(content), string(PemOf("CERTIFICATE", serving.Certificate[0])))
}
