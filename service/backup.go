package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"freshseal/service/problem"
	"freshseal/store/sqlite"
)

// leastFree is how many bytes the disk of the data folder must have free, or a fiftieth of a small one: what is under
// way writes some of them.
const leastFree = 32 << 20

// Ready returns why the service cannot do its work, nil if it can: there is room on the disk, and the database takes a
// change. Anybody may ask, so this is checked at most once a second.
func (s *Service) Ready(ctx context.Context) error {
	s.ready.lock.Lock()
	defer s.ready.lock.Unlock()
	if now := time.Now(); now.Sub(s.ready.at) > time.Second {
		s.ready.err = s.lookReady(context.WithoutCancel(ctx))
		s.ready.at = time.Now()
	}
	return s.ready.err
}

func (s *Service) lookReady(ctx context.Context) error {
	if free, all, known := freeIn(s.options.Dir); known && free < min(leastFree, all/50) {
		return problem.New(problem.Unready, "the service is not ready", fmt.Sprintf("the disk of the data folder has "+
			"%d kB left", free>>10), "make room on it")
	}
	if err := s.store.Touch(ctx); err != nil {
		return problem.New(problem.Unready, "the service is not ready", "the database cannot be written: "+
			err.Error(), "check whether the disk of the data folder is full or read-only")
	}
	return nil
}

// Backup hands a whole copy of the database to take, as of one moment. The
// strongbox key is not part of it.
func (s *Service) Backup(ctx context.Context) (copy []byte, err error) {
	dir, err := os.MkdirTemp(s.options.Dir, "backup-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "copy.db")
	if err := s.store.Backup(ctx, file); err != nil {
		return nil, fmt.Errorf("copying the database: %w", err)
	}
	return os.ReadFile(file)
}

// Restore puts a copy of the database into a folder in which no service runs.
// What stood there is kept beside it.
func Restore(ctx context.Context, dir, from string) (kept string, err error) {
	if err := sqlite.CheckFile(ctx, from); err != nil {
		return "", problem.New(problem.Invalid, from+" cannot be restored", err.Error(),
			"give a file that a backup of Fresh Seal has written")
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	held, err := lock(dir)
	if err != nil {
		return "", err
	}
	defer held.Close()
	if _, err := os.Stat(filepath.Join(dir, "strongbox.key")); errors.Is(err, os.ErrNotExist) {
		return "", problem.New(problem.Invalid, from+" cannot be restored", "the folder "+dir+" has no strongbox.key",
			"first put the key there that was in use when the copy was made: without it no secret can be read")
	}
	target := filepath.Join(dir, "freshseal.db")
	if err := copyFile(from, target+".part"); err != nil {
		return "", err
	}
	if _, err := os.Stat(target); err == nil {
		kept = target + ".before"
		if err := sqlite.Checkpoint(ctx, target); err != nil {
			return "", err
		}
		if err := os.Rename(target, kept); err != nil {
			return "", err
		}
	}
	return kept, os.Rename(target+".part", target)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}
