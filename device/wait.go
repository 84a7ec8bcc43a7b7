package device

import (
	"context"
	"time"

	"freshseal/core/procedure"
)

var _ = carries("wait", func(ctx context.Context, _ *Runner, ready procedure.Ready, _ int64) (Result, error) {
	select {
	case <-time.After(ready.Act.(*procedure.WaitAct).Pause):
		return Result{}, nil
	case <-ctx.Done():
		return Result{}, ctx.Err()
	}
})
