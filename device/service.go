package device

import (
	"context"
	"errors"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
)

// errNotOwn means that a procedure for the service itself was given to another device.
var errNotOwn = errors.New("this procedure is for Fresh Seal's own certificate, and the device is another")

var _ = carries("service", func(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	if r.Own == nil {
		return Result{}, errNotOwn
	}
	act := ready.Act.(*verb.ServiceAct)
	out, err := r.Own.Act(ctx, act.Act, act.Content)
	return Result{Stdout: out}, err
})
