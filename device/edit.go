package device

import (
	"bytes"
	"context"

	"freshseal/core/edit"
	"freshseal/core/procedure"
)

var _ = carries("edit", editFile)

// editFile changes a text file by rules; the difference stands in the journal.
func editFile(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*procedure.EditAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, err
	}
	if err := r.before(ctx, act.Path); err != nil {
		return Result{}, err
	}
	files := r.files(act.Path)
	old, err := files.Read(ctx, act.Path)
	if err != nil {
		return Result{}, err
	}
	changed, err := edit.Apply(old, act.Rules)
	if err != nil {
		return Result{}, err
	}
	if bytes.Equal(old, changed) {
		return Result{Shown: "nothing to change"}, nil
	}
	return Result{Shown: edit.Diff(act.Path, old, changed)}, files.Write(ctx, act.Path, changed, 0)
}
