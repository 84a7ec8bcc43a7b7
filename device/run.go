package device

import (
	"context"
	"errors"
	"fmt"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/links"
	"freshseal/device/ssh"
)

var _ = carries("run", run)

// mayRun means that a command whose end was not seen may still be running. untold: the
// line broke, and the device keeps no record of its commands.
type mayRun struct {
	cause  error
	untold bool
}

func (e *mayRun) Error() string { return e.cause.Error() }
func (e *mayRun) Unwrap() error { return e.cause }

// run carries out a command. In survey it is run as it is: it only looks. All
// others get a session of their own where the device can do that, so that they
// are ended when their time is over and can be asked after when the connection is
// lost.
func run(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error) {
	act := ready.Act.(*verb.RunAct)
	link, err := r.open(ctx)
	if err != nil {
		return Result{}, readied(err)
	}
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	looks := ready.Section == procedure.Survey || ready.Section == procedure.Look
	if uses(ready.Step) || !looks {
		if err := r.work(limited); err != nil {
			return Result{}, readied(err)
		}
	}
	able, err := link.Able(limited)
	if err != nil {
		return Result{}, readied(err)
	}
	if looks || !able.Sessions {
		out, err := link.Exec(limited, act.Command, act.Stdin)
		if lost(err) && !looks {
			err = &mayRun{err, errors.Is(err, links.ErrLost) && !errors.Is(err, links.ErrTimeLimit)}
		}
		return resultOf(out), err
	}
	out, err := link.Run(ctx, runInFolder(r, id), act.Command, act.Stdin, ready.Step.Limit)
	if err == nil || !lost(err) || ctx.Err() == context.Canceled {
		return resultOf(out), err
	}
	// The end was not seen, or the time ran out: what is left there is ended, and
	// what became of it is asked for.
	r.Close()
	result, stands, settleErr := reconcileRun(context.WithoutCancel(ctx), r, ready, id)
	switch {
	case settleErr != nil:
		return result, settleErr
	case stands == ssh.Ended:
		return result, nil
	case stands == ssh.Never:
		return result, fmt.Errorf("the command was not begun: %w", err)
	}
	return result, err
}

func resultOf(out ssh.Output) Result {
	return Result{Exit: out.Exit, Stdout: out.Stdout, Stderr: out.Stderr}
}

// reconcileRun finds out over a new link what became of a command, waiting for its end
// within its limit and ending it after. Its error is a mayRun where something of
// it may still be running.
func reconcileRun(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, ssh.CommandState, error) {
	folder := runInFolder(r, id)
	until := time.Now().Add(ready.Step.Limit + endGrace)
	var last error
	for {
		stands, out, err := commandState(ctx, r, folder)
		switch {
		case err == nil && (stands == ssh.Ended || stands == ssh.Never || stands == ssh.Gone):
			return resultOf(out), stands, nil
		case err == nil && stands == ssh.Stopped, err == nil && time.Now().After(until):
			if err := r.link.End(ctx, folder, r.As); err != nil {
				return resultOf(out), stands, &mayRun{cause: fmt.Errorf("%w; %v", links.ErrTimeLimit, err)}
			}
			if stands == ssh.Starting {
				return resultOf(out), ssh.Gone, nil
			}
			return resultOf(out), ssh.Stopped, nil
		case err != nil:
			last = err
			if errors.Is(err, ErrCannotTell) || time.Now().After(until) || ctx.Err() != nil {
				return Result{}, "", &mayRun{cause: fmt.Errorf("%w: %w", links.ErrLost, last)}
			}
			r.Close()
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return Result{}, "", &mayRun{cause: fmt.Errorf("%w: the service is being stopped", links.ErrLost)}
		}
	}
}

// ErrCannotTell means that the device keeps no record of its commands.
var ErrCannotTell = errors.New("the device cannot tell what became of a command")

func commandState(ctx context.Context, r *Runner, folder string) (ssh.CommandState, ssh.Output, error) {
	limited, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	link, err := r.open(limited)
	if err != nil {
		return "", ssh.Output{}, err
	}
	if able, err := link.Able(limited); err != nil {
		return "", ssh.Output{}, err
	} else if !able.Sessions {
		return "", ssh.Output{}, ErrCannotTell
	}
	if err := r.work(limited); err != nil { // without it, never would not be the truth
		return "", ssh.Output{}, err
	}
	return link.State(limited, folder)
}
