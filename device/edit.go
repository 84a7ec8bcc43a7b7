package device

import (
	"context"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
)

var _ = carries("edit", editFile)

// editFile changes a text file by rules; the difference is in the journal.
func editFile(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*verb.EditAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, err
	}
	if err := copyBefore(ctx, r, act.Path); err != nil {
		return Result{}, err
	}
	files := r.files(act.Path)
	old, err := files.Read(ctx, act.Path)
	if err != nil {
		return Result{}, err
	}
	changed, difference, err := act.Differ(old)
	if err != nil {
		return Result{}, err
	}
	if difference == "" {
		return Result{Shown: "nothing to change"}, nil
	}
	if !r.inWork(act.Path) {
		if err := oursAt(ctx, r, act.Path, changed, ""); err != nil {
			return Result{}, err
		}
	}
	return Result{Shown: difference}, files.Write(ctx, act.Path, changed, 0)
}
