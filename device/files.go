package device

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/pkg/sftp"
)

// sftp opens the file channel when it is first needed.
func (l *Link) sftp() (*sftp.Client, error) {
	var err error
	l.once.Do(func() { l.files, err = sftp.NewClient(l.client) })
	if err != nil || l.files == nil {
		return nil, fmt.Errorf("the device takes no files over SFTP: %w", errors.Join(err, ErrLost))
	}
	return l.files, nil
}

// Put writes a file with these permission bits, whole or not at all: the bytes
// go to a neighbour of the file, which then takes its place in one move.
func (l *Link) Put(ctx context.Context, path string, mode uint32, content []byte) error {
	defer context.AfterFunc(ctx, func() { l.client.Close() })()
	files, err := l.sftp()
	if err != nil {
		return err
	}
	part := path + ".part"
	err = func() error {
		f, err := files.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
		if err != nil {
			return err
		}
		defer f.Close()
		if err := f.Chmod(os.FileMode(mode)); err != nil {
			return err
		}
		if _, err := f.Write(content); err != nil {
			return err
		}
		if _, ok := files.HasExtension("fsync@openssh.com"); ok {
			if err := f.Sync(); err != nil {
				return err
			}
		}
		return f.Close()
	}()
	if err == nil {
		err = files.PosixRename(part, path)
	}
	return fileError(ctx, "writing", path, err)
}

// Fetch reads a file of up to 4 MiB.
func (l *Link) Fetch(ctx context.Context, path string) ([]byte, error) {
	defer context.AfterFunc(ctx, func() { l.client.Close() })()
	files, err := l.sftp()
	if err != nil {
		return nil, err
	}
	f, err := files.Open(path)
	if err != nil {
		return nil, fileError(ctx, "reading", path, err)
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err == nil && len(content) > maxFile {
		err = fmt.Errorf("it is larger than %d bytes", maxFile)
	}
	return content, fileError(ctx, "reading", path, err)
}

func fileError(ctx context.Context, doing, path string, err error) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return fmt.Errorf("%s %s: %w", doing, path, limitError(ctx))
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return fmt.Errorf("%s %s: %w", doing, path, ErrLost)
	}
	return fmt.Errorf("%s %s: %w", doing, path, err)
}
