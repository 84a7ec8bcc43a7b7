package ssh

import (
	"context"
	"fmt"
)

// Join makes a file of others, each from the start of a line, whole or not at all, readable for its owner alone.
func (f Files) Join(ctx context.Context, path string, parts []string) error {
	shell, err := f.byShell(ctx)
	if err != nil {
		return err
	}
	if shell {
		_, err := f.shell(ctx, nil, "joining "+path, joinScript, append([]string{path}, parts...)...)
		return err
	}
	var whole []byte
	for _, part := range parts {
		content, err := f.Read(ctx, part)
		if err != nil {
			return err
		}
		if whole = append(whole, content...); len(whole) > 0 && whole[len(whole)-1] != '\n' {
			whole = append(whole, '\n')
		}
	}
	return f.Write(ctx, path, whole, 0o600)
}

// Own gives a file an owner, USER or USER:GROUP. Names are known to the device alone, so it needs a shell.
func (f Files) Own(ctx context.Context, path, owner string) error {
	shell, err := f.byShell(ctx)
	if err != nil {
		return err
	}
	if !shell {
		return fmt.Errorf("giving %s to %s: the device has no shell", path, owner)
	}
	_, err = f.shell(ctx, nil, "giving "+path+" to "+owner, `chown "$2" "$1"`, path, owner)
	return err
}
