//go:build unix

package service

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"freshseal/service/problem"
)

// lock takes a folder for this process; it is free again when the process ends,
// however it ends.
func lock(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, problem.New(problem.Conflict, "the folder "+dir+" is in use", "another service runs on it",
				"stop that one first, or choose another folder")
		}
		return nil, fmt.Errorf("locking the data folder: %w", err)
	}
	return f, nil
}
