package device

import (
	"context"
	"fmt"

	"freshseal/core/language/procedure"
	"freshseal/device/ssh"
)

var _ = carries("file", putFile)

// putFile keeps a copy of what stands there, and puts the new file in its place.
func putFile(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*procedure.FileAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, readied(err)
	}
	if err := r.before(ctx, act.Path); err != nil {
		return Result{}, err
	}
	files := r.files(act.Path)
	if len(act.Parts) > 0 {
		if err := r.join(ctx, act); err != nil {
			return Result{}, err
		}
		return Result{}, r.owned(ctx, act)
	}
	if r.inWork(act.Path) {
		if act.From != "" {
			return Result{}, files.Place(ctx, act.Path, act.From, act.Mode)
		}
		return Result{}, files.Write(ctx, act.Path, act.Content, act.Mode)
	}
	if err := r.ours(ctx, act.Path, act.Content, act.From); err != nil {
		return Result{}, err
	}
	if err := files.Place(ctx, act.Path, r.oursOf(act.Path), act.Mode); err != nil {
		return Result{}, err
	}
	return Result{}, r.owned(ctx, act)
}

// join makes a file of several parts on the device, so that a key that is one of them stays there.
func (r *Runner) join(ctx context.Context, act *procedure.FileAct) error {
	files := r.link.Files(nil)
	if r.inWork(act.Path) {
		files = r.files(act.Path)
	}
	whole := act.Path
	if !r.inWork(act.Path) {
		whole = r.oursOf(act.Path)
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

// owned gives a file its owner, where one is said.
func (r *Runner) owned(ctx context.Context, act *procedure.FileAct) error {
	if act.Owner == "" {
		return nil
	}
	return r.files(act.Path).Own(ctx, act.Path, act.Owner)
}

// ours keeps what is going to be written beside the copy of what stood, before it is put in its place: the way back
// recognizes by it what this replacement wrote.
func (r *Runner) ours(ctx context.Context, path string, content []byte, from string) error {
	files := r.link.Files(nil)
	if from != "" {
		return files.Place(ctx, r.oursOf(path), from, 0o600)
	}
	return files.Write(ctx, r.oursOf(path), content, 0o600)
}

// oursOf is where what a replacement writes into a file is kept.
func (r *Runner) oursOf(path string) string { return r.copyOf(path) + ssh.Ours }

// before makes ready for a file to be changed: its folder where that is the work
// folder, else a copy of what stands there.
func (r *Runner) before(ctx context.Context, path string) error {
	if err := r.work(ctx); err != nil {
		return fmt.Errorf("making the work folder: %w", err)
	}
	if r.inWork(path) {
		return nil
	}
	return r.keep(ctx, path)
}
