package ssh

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"freshseal/core/language/value"
	"freshseal/device/links"

	"github.com/pkg/sftp"
)

// Files are a device's files: over SFTP where it has that, else through its
// shell. As stands before every command where the user's own rights do not
// suffice; files go through the shell then.
type Files struct {
	link *Link
	as   []string
}

// Files returns the device's files.
func (l *Link) Files(as []string) Files { return Files{l, as} }

// Way returns how files go to the device: "SFTP", or "the shell".
func (f Files) Way() (string, error) {
	if len(f.as) == 0 {
		if _, err := f.link.sftp(); err == nil {
			return "SFTP", nil
		}
	}
	return "the shell", nil
}

// sftp opens the file channel when it is first needed.
func (l *Link) sftp() (*sftp.Client, error) {
	var err error
	l.once.Do(func() { l.files, err = l.openFiles() })
	if l.files == nil {
		return nil, fmt.Errorf("the device takes no files over SFTP: %w", err)
	}
	return l.files, nil
}

// overSFTP returns the SFTP client, or nil where files go through the shell.
func (f Files) overSFTP() *sftp.Client {
	if len(f.as) > 0 {
		return nil
	}
	client, err := f.link.sftp()
	if err != nil {
		return nil
	}
	return client
}

// shell runs a script with the rights of as; its exit code must be 0.
func (f Files) shell(ctx context.Context, stdin []byte, doing, text string, args ...string) ([]byte, error) {
	words := ""
	for _, w := range f.as {
		words += value.Quote(w) + " "
	}
	out, err := f.link.Exec(ctx, words+script(text, args...), stdin)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", doing, err)
	}
	if out.Exit != 0 {
		said := strings.TrimSpace(string(out.Stderr))
		switch {
		case out.Exit == 7:
			return nil, fmt.Errorf("%s: %w", doing, ErrThird)
		case out.Exit == 8:
			return nil, fmt.Errorf("%s: %w", doing, ErrNoCopy)
		case out.Exit == 9:
			said = "the file did not arrive whole; is the device's disk full?"
		case said == "":
			said = fmt.Sprintf("exit code %d", out.Exit)
		}
		return nil, fmt.Errorf("%s: %s", doing, said)
	}
	return out.Stdout, nil
}

func modeArg(mode uint32) string {
	if mode == 0 {
		return ""
	}
	return strconv.FormatUint(uint64(mode), 8)
}

// Write puts a file in its place, whole or not at all, with the owner and mode of
// the one that is there. mode, where it is not 0, is set besides.
func (f Files) Write(ctx context.Context, path string, content []byte, mode uint32) error {
	doing := "writing " + path
	client := f.overSFTP()
	if client == nil {
		_, err := f.shell(ctx, content, doing, writeScript, path, strconv.Itoa(len(content)), modeArg(mode))
		return err
	}
	defer context.AfterFunc(ctx, func() { f.link.client.Close() })()
	err := func() error {
		target, old, err := resolve(client, path)
		if err != nil {
			return err
		}
		part := target + ".fs-new"
		if err := writePart(client, part, content, mode, old); err != nil {
			client.Remove(part)
			return err
		}
		return client.PosixRename(part, target)
	}()
	return fileError(ctx, doing, err)
}

// resolve follows a link, and tells of the file that is there; nil: none.
func resolve(client *sftp.Client, path string) (string, *sftp.FileStat, error) {
	info, err := client.Lstat(path)
	if err == nil && info.Mode()&os.ModeSymlink != 0 {
		if path, err = client.RealPath(path); err == nil {
			info, err = client.Stat(path)
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return path, nil, nil
	case err != nil:
		return path, nil, err
	case !info.Mode().IsRegular():
		return path, nil, errors.New("it is not a plain file")
	}
	stat, _ := info.Sys().(*sftp.FileStat)
	return path, stat, nil
}

func writePart(client *sftp.Client, part string, content []byte, mode uint32, old *sftp.FileStat) error {
	file, err := client.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := file.Chmod(0o600); err != nil {
		return err
	}
	if _, err := file.Write(content); err != nil {
		return err
	}
	if old != nil {
		if err := ownedLike(file, old); err != nil {
			return err
		}
		if mode == 0 {
			mode = old.Mode & 0o777
		}
	}
	if mode != 0 {
		if err := file.Chmod(os.FileMode(mode)); err != nil {
			return err
		}
	}
	if _, ok := client.HasExtension("fsync@openssh.com"); ok {
		if err := file.Sync(); err != nil {
			return err
		}
	}
	return file.Close()
}

// ownedLike gives a file the owner of the old one.
func ownedLike(file *sftp.File, old *sftp.FileStat) error {
	info, err := file.Stat()
	if err != nil {
		return err
	}
	now, ok := info.Sys().(*sftp.FileStat)
	if !ok || now.UID == old.UID && now.GID == old.GID {
		return nil
	}
	if err := file.Chown(int(old.UID), int(old.GID)); err != nil {
		return fmt.Errorf("the new file cannot get the owner of the old one: %w", err)
	}
	return nil
}

// Read reads a file of up to 4 MiB.
func (f Files) Read(ctx context.Context, path string) ([]byte, error) {
	doing := "reading " + path
	client := f.overSFTP()
	if client == nil {
		mark := "fs-" + rand.Text()
		out, err := f.shell(ctx, nil, doing, readScript, path, mark)
		if err != nil {
			return nil, err
		}
		parts := bytes.SplitN(out, []byte(mark), 3) // shells print greetings before and after
		if len(parts) != 3 {
			return nil, fmt.Errorf("%s: the device's answer is not whole", doing)
		}
		return parts[1], nil
	}
	defer context.AfterFunc(ctx, func() { f.link.client.Close() })()
	file, err := client.Open(path)
	if err != nil {
		return nil, fileError(ctx, doing, err)
	}
	defer file.Close()
	content, err := io.ReadAll(io.LimitReader(file, maxFile+1))
	if err == nil && len(content) > maxFile {
		err = fmt.Errorf("it is larger than %d bytes", maxFile)
	}
	return content, fileError(ctx, doing, err)
}

// byShell says that copies are made by the device itself, so that a key does not
// leave it.
func (f Files) byShell(ctx context.Context) (bool, error) {
	able, err := f.link.Able(ctx)
	return able.Shell || len(f.as) > 0, err
}

// Place puts a copy of another file of the device in place, like Write.
func (f Files) Place(ctx context.Context, path, from string, mode uint32) error {
	shell, err := f.byShell(ctx)
	if err != nil {
		return err
	}
	doing := "copying " + from + " to " + path
	if strings.HasSuffix(from, Ours) {
		doing = "writing " + path // the copy is Fresh Seal's own affair
	}
	if shell {
		_, err := f.shell(ctx, nil, doing, placeScript, path, from, modeArg(mode))
		return err
	}
	content, err := f.Read(ctx, from)
	if err != nil {
		return err
	}
	return f.Write(ctx, path, content, mode)
}

// MakeFolder makes a folder for its owner alone, and those above it.
func (f Files) MakeFolder(ctx context.Context, path string) error {
	if client := f.overSFTP(); client != nil {
		defer context.AfterFunc(ctx, func() { f.link.client.Close() })()
		at := ""
		for part := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
			at += "/" + part
			if info, err := client.Stat(at); err == nil && info.IsDir() {
				continue
			}
			if err := client.Mkdir(at); err != nil {
				if info, statErr := client.Stat(at); statErr == nil && info.IsDir() {
					continue // somebody else was quicker
				}
				return fileError(ctx, "making the folder "+at, err)
			}
			if err := client.Chmod(at, 0o700); err != nil {
				return fileError(ctx, "making the folder "+at, err)
			}
		}
		return nil
	}
	_, err := f.shell(ctx, nil, "making the folder "+path, `umask 077;mkdir -p "$1"`, path)
	return err
}

// RemoveAll removes a folder with all that is in it but the names in keep.
func (f Files) RemoveAll(ctx context.Context, path string, keep ...string) error {
	doing := "removing " + path
	shell, err := f.byShell(ctx)
	if err != nil {
		return err
	}
	if shell {
		text := `[ -d "$1" ] || exit 0; rm -rf "$1"`
		if len(keep) > 0 {
			text = emptyScript
		}
		_, err := f.shell(ctx, nil, doing, text, append([]string{path}, keep...)...)
		return err
	}
	client := f.overSFTP()
	if client == nil {
		return fmt.Errorf("%s: the device has neither SFTP nor a shell", doing)
	}
	defer context.AfterFunc(ctx, func() { f.link.client.Close() })()
	if err := f.removeBelow(client, path, &removal{keep: keep, top: path}); err != nil {
		return fileError(ctx, doing, err)
	}
	if len(keep) == 0 {
		if err := client.RemoveDirectory(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fileError(ctx, doing, err)
		}
	}
	return nil
}

// What is removed of a folder over SFTP at most: a work folder holds a few dozen files. A device names them, so it
// may name as many as it likes.
const (
	maxEntries = 2_000
	maxDepth   = 8
	maxListing = 1 << 20 // bytes that a device sends for one listing
	maxName    = 255
)

// removal counts what is removed of one folder.
type removal struct {
	top     string
	keep    []string
	entries int
}

// removeBelow removes what is in a folder, but for the names that are kept at its top.
func (f Files) removeBelow(client *sftp.Client, path string, r *removal) error {
	if strings.Count(strings.TrimPrefix(path, r.top), "/") > maxDepth {
		return fmt.Errorf("%w: %s is nested deeper than %d folders", links.ErrFlood, path, maxDepth)
	}
	end := f.link.budget(maxListing)
	entries, err := client.ReadDir(path)
	end()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	keep := r.keep
	r.keep = nil
	for _, entry := range entries {
		name := entry.Name()
		if r.entries++; r.entries > maxEntries {
			return fmt.Errorf("%w: %s holds more than %d files", links.ErrFlood, path, maxEntries)
		}
		if len(name) > maxName || strings.ContainsAny(name, "/\x00") || name == "." || name == ".." {
			return fmt.Errorf("the device names a file %.40q, which is no name", name)
		}
		if len(keep) > 0 && name == keep[0] {
			continue
		}
		below := path + "/" + name
		if !entry.IsDir() {
			if err := client.Remove(below); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			continue
		}
		if err := f.removeBelow(client, below, r); err != nil {
			return err
		}
		if err := client.RemoveDirectory(below); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

func fileError(ctx context.Context, doing string, err error) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return fmt.Errorf("%s: %w", doing, limitError(ctx))
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return fmt.Errorf("%s: %w", doing, links.ErrLost)
	}
	return fmt.Errorf("%s: %w", doing, err)
}
