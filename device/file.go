package device

import (
	"context"
	"fmt"

	"freshseal/core/procedure"
)

var _ = carries("file", putFile)

// putFile keeps a copy of what stands there, and puts the new file in its place.
func putFile(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*procedure.FileAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, err
	}
	if err := r.before(ctx, act.Path); err != nil {
		return Result{}, err
	}
	files := r.files(act.Path)
	if act.From != "" {
		return Result{}, files.Place(ctx, act.Path, act.From, act.Mode)
	}
	return Result{}, files.Write(ctx, act.Path, act.Content, act.Mode)
}

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
