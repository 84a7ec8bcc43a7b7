package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"github.com/pkg/sftp"
)

// ErrNoCopy means that no copy of a file was kept.
var ErrNoCopy = errors.New("no copy of it was kept on the device")

// ErrThird means that a file holds neither what was kept nor what was written in its place.
var ErrThird = errors.New("it holds a third content")

// Ours is what is behind the name of a kept copy in the name of what was written in its place.
const Ours = ".ours"

// Keep makes a copy of a file, or notes that there is none, unless that was done
// before: the copy is of what stood before the first change.
func (f Files) Keep(ctx context.Context, path, copy string) error {
	shell, err := f.byShell(ctx)
	if err != nil {
		return err
	}
	if shell {
		_, err := f.shell(ctx, nil, "keeping a copy of "+path, keepScript, path, copy)
		return err
	}
	client := f.overSFTP()
	if client == nil {
		return fmt.Errorf("keeping a copy of %s: the device has neither SFTP nor a shell", path)
	}
	for _, name := range []string{copy, copy + ".none"} {
		if _, err := client.Lstat(name); err == nil {
			return nil
		}
	}
	_, old, err := resolve(client, path)
	if err != nil {
		return fileError(ctx, "keeping a copy of "+path, err)
	}
	if old == nil {
		return f.Write(ctx, copy+".none", nil, 0o600)
	}
	content, err := f.Read(ctx, path)
	if err != nil {
		return err
	}
	return f.Write(ctx, copy, content, old.Mode&0o777)
}

// Back puts a file back as Keep found it; one that was not there is removed. It does so only where the file holds
// what was written in its place (Ours, beside the copy); otherwise it is ErrThird. Where it holds already what was
// kept, nothing is done. trusting takes any content for what was written where that was not kept. put reports whether
// something was done.
func (f Files) Back(ctx context.Context, path, copy string, trusting bool) (put bool, err error) {
	shell, err := f.byShell(ctx)
	if err != nil {
		return false, err
	}
	doing := "putting back " + path
	if shell {
		out, err := f.shell(ctx, nil, doing, restoreScript, path, copy,
			map[bool]string{true: "yes", false: "no"}[trusting])
		return strings.Contains(string(out), "restored"), err
	}
	client := f.overSFTP()
	if client == nil {
		return false, fmt.Errorf("%s: the device has neither SFTP nor a shell", doing)
	}
	now, err := f.held(ctx, client, path)
	if err != nil {
		return false, err
	}
	ours, err := f.held(ctx, client, copy+Ours)
	if err != nil {
		return false, err
	}
	mine := ours == nil && trusting || ours != nil && now != nil && bytes.Equal(*now, *ours)
	if _, err := client.Lstat(copy + ".none"); err == nil {
		switch {
		case now == nil:
			return false, nil
		case !mine:
			return false, fmt.Errorf("%s: %w", doing, ErrThird)
		}
		return true, fileError(ctx, doing, client.Remove(path))
	}
	kept, err := f.held(ctx, client, copy)
	switch {
	case err != nil:
		return false, err
	case kept == nil:
		return false, fmt.Errorf("%s: %w", doing, ErrNoCopy)
	case now != nil && bytes.Equal(*now, *kept):
		return false, nil
	case now != nil && !mine:
		return false, fmt.Errorf("%s: %w", doing, ErrThird)
	}
	return true, f.Write(ctx, path, *kept, 0)
}

// held returns what a file holds; nil if there is none.
func (f Files) held(ctx context.Context, client *sftp.Client, path string) (*[]byte, error) {
	if _, err := client.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	content, err := f.Read(ctx, path)
	return &content, err
}
