package device

import (
	"context"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
)

var _ = carries("fetch", fetch)

func fetch(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*verb.FetchAct)
	if _, err := r.open(ctx); err != nil {
		return Result{}, err
	}
	content, err := r.files(act.Path).Read(ctx, act.Path)
	return Result{Stdout: content}, err
}
