package service

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"freshseal/service/people"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/strongbox"
)

// ResetSignIn gives a user a new password, which it returns, and removes the second factor; all sessions of the user
// end. It is for who has the folder of a stopped service, where nobody is left who could do it in the service.
func ResetSignIn(ctx context.Context, dir, user string) (password string, err error) {
	if _, err := os.Stat(filepath.Join(dir, "freshseal.db")); err != nil {
		return "", problem.New(problem.NotFound, "nobody was let in", "there is no database in "+dir, "name the data "+
			"folder of the service")
	}
	held, err := lock(dir)
	if err != nil {
		return "", err
	}
	defer held.Close()
	if err := keyMissing(dir); err != nil {
		return "", err
	}
	box, err := strongbox.Open(filepath.Join(dir, "strongbox.key"))
	if err != nil {
		return "", err
	}
	db, err := store.Open(ctx, filepath.Join(dir, "freshseal.db"))
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	db.KeyAudit(box.Key("audit"))
	return people.New(db, box, dir, slog.New(slog.DiscardHandler), time.Now).Reset(ctx, user)
}
