package device

import (
	"context"
	"fmt"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/ssh"
)

var _ = carries("file", putFile)

// putFile stores a copy of what is there, and puts the new file in its place.
func putFile(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*verb.FileAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, readied(err)
	}
	if err := copyBefore(ctx, r, act.Path); err != nil {
		return Result{}, err
	}
	files := r.files(act.Path)
	if len(act.Parts) > 0 {
		if err := joinOnBox(ctx, r, act); err != nil {
			return Result{}, err
		}
		return Result{}, ownedFile(ctx, r, act)
	}
	if r.inWork(act.Path) {
		if act.From != "" {
			return Result{}, files.Place(ctx, act.Path, act.From, act.Mode)
		}
		return Result{}, files.Write(ctx, act.Path, act.Content, act.Mode)
	}
	if err := oursAt(ctx, r, act.Path, act.Content, act.From); err != nil {
		return Result{}, err
	}
	if err := files.Place(ctx, act.Path, oursOf(r, act.Path), act.Mode); err != nil {
		return Result{}, err
	}
	return Result{}, ownedFile(ctx, r, act)
}

// joinOnBox makes a file of several parts on the device, so that a key that is one of them stays there.
func joinOnBox(ctx context.Context, r *Runner, act *verb.FileAct) error {
	files := r.link.Files(nil)
	if r.inWork(act.Path) {
		files = r.files(act.Path)
	}
	whole := act.Path
	if !r.inWork(act.Path) {
		whole = oursOf(r, act.Path)
	}
	var names []string
	for i, part := range act.Parts {
		name := part.From
		if name == "" {
			name = fmt.Sprintf("%s.part%d", whole, i+1)
			if err := files.Write(ctx, name, part.Content, 0o600); err != nil {
				return err
			}
			defer files.RemoveAll(context.WithoutCancel(ctx), name)
		}
		names = append(names, name)
	}
	if err := files.Join(ctx, whole, names); err != nil || r.inWork(act.Path) {
		return err
	}
	return r.files(act.Path).Place(ctx, act.Path, whole, act.Mode)
}

// ownedFile gives a file its owner, if one is said.
func ownedFile(ctx context.Context, r *Runner, act *verb.FileAct) error {
	if act.Owner == "" {
		return nil
	}
	return r.files(act.Path).Own(ctx, act.Path, act.Owner)
}

// oursAt stores what is going to be written beside the copy of what stood, before it is put in its place: the way back
// recognizes by it what this replacement wrote.
func oursAt(ctx context.Context, r *Runner, path string, content []byte, from string) error {
	files := r.link.Files(nil)
	if from != "" {
		return files.Place(ctx, oursOf(r, path), from, 0o600)
	}
	return files.Write(ctx, oursOf(r, path), content, 0o600)
}

// oursOf is where what a replacement writes into a file is kept.
func oursOf(r *Runner, path string) string { return copyOf(r, path) + ssh.Ours }

// copyBefore makes ready for a file to be changed: its folder where that is the work
// folder, else a copy of what is there.
func copyBefore(ctx context.Context, r *Runner, path string) error {
	if err := r.work(ctx); err != nil {
		return fmt.Errorf("making the work folder: %w", err)
	}
	if r.inWork(path) {
		return nil
	}
	return keepStep(ctx, r, path)
}
