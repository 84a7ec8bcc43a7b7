package device

import (
	"context"
	"errors"

	"freshseal/core/language/answer"
	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/links"
	"freshseal/device/netconf"
	"freshseal/device/ssh"
)

var _ = carries("rpc", rpc)

// config is a device's session by NETCONF.
type config struct {
	link    *ssh.Link
	session *netconf.Session
}

// configuredSession opens the session where it is not open.
func configuredSession(ctx context.Context, r *Runner) (*netconf.Session, error) {
	if r.config != nil {
		return r.config.session, nil
	}
	if r.Config == nil {
		return nil, errors.New("the device has no access over netconf")
	}
	for tries := 1; ; tries++ {
		session, err := openConfig(ctx, r)
		if err == nil || !errors.Is(err, links.ErrLost) || tries == mostOpenings || ctx.Err() != nil {
			return session, readied(err) // nothing was asked of it yet
		}
	}
}

// mostOpenings is how often a session is opened that does not come about.
const mostOpenings = 3

// openConfig opens the session.
func openConfig(ctx context.Context, r *Runner) (*netconf.Session, error) {
	target, err := r.Config(ctx)
	if err != nil {
		return nil, err
	}
	link, err := ssh.Open(ctx, r.Dial, target)
	if err != nil {
		return nil, err
	}
	channel, err := link.Subsystem(ctx, "netconf")
	if err == nil {
		var session *netconf.Session
		if session, err = netconf.Open(ctx, channel); err == nil {
			err = session.Check(ctx)
		}
		if err == nil {
			r.config = &config{link, session}
			return session, nil
		}
	}
	link.Close()
	return nil, err
}

// endConfig ends the session.
func endConfig(r *Runner) {
	if r.config == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), signOutLimit)
	defer cancel()
	r.config.session.Close(ctx)
	r.config.link.Close()
	r.config = nil
}

// rpc makes a call, and judges the reply.
func rpc(ctx context.Context, r *Runner, ready procedure.Ready, _ int64) (Result, error) {
	act := ready.Act.(*verb.RPCAct)
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	session, err := configuredSession(limited, r)
	if err != nil {
		return Result{}, err
	}
	reply, err := session.Call(limited, act.Content)
	if errors.Is(err, links.ErrLost) { // the next call opens another one
		r.config.link.Close()
		r.config = nil
	}
	got := answer.Response{Body: reply}
	result := Result{Stdout: reply, Answered: &got, Shown: shownAnswer(got)}
	var refused netconf.Error
	switch {
	case err == nil:
		if err = act.Want.Met(got); err != nil && ready.Step.Secret {
			err = errSecret
		}
	case act.Refused && errors.As(err, &refused):
		return Result{Shown: "it was refused, which is no failure here: " + refused.Error()}, nil
	case errors.As(err, &refused):
		result.Answered = &answer.Response{Body: []byte(refused.Error())}
	}
	return result, err
}
