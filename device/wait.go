package device

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"freshseal/core/language/procedure"
	"freshseal/core/language/verb"
	"freshseal/device/links"
	"freshseal/device/ssh"
	"freshseal/pin"
)

var _ = carries("wait", wait)

// beginWait carries out what a wait begins with, as the verb run does: it can be ended and
// asked after, and may take as long as the step.
func beginWait(ctx context.Context, r *Runner, ready procedure.Ready, command string, id int64) (Result, error) {
	ready.Act = &verb.RunAct{Command: command}
	result, err := run(ctx, r, ready, id)
	if err == nil && result.Exit != 0 {
		err = fmt.Errorf("%s ended with exit code %d: %s", command, result.Exit,
			lastLines(strings.TrimSpace(string(result.Stderr)+string(result.Stdout)), r.hidden, 5))
	}
	return result, err
}

// wait waits until what the step names has come about. Its limit is the step's; a
// single question has one of its own, so that a silent box is asked again.
func wait(ctx context.Context, r *Runner, ready procedure.Ready, id int64) (Result, error) {
	a := ready.Act.(*verb.WaitAct)
	limited, cancel := context.WithTimeout(ctx, ready.Step.Limit)
	defer cancel()
	if a.Command == "" && a.Port == "" && a.Page == "" && a.Wire == "" {
		return Result{}, pauseWait(limited, r, ready, a.Pause)
	}
	before, err := beforeWait(limited, r, a)
	if err != nil {
		return Result{}, err
	}
	if a.First != "" {
		if result, err := beginWait(limited, r, ready, a.First, id); err != nil {
			return result, err
		}
	}
	begun, hard, last := time.Now(), false, "none"
	for {
		come, said, err := waitBack(limited, r, a, before)
		if come || err != nil {
			return Result{Stdout: []byte(said), Shown: said}, err
		}
		last = said
		if a.Then != "" && !hard && time.Since(begun) > a.After {
			hard = true
			if result, err := beginWait(limited, r, ready, a.Then, -id); err != nil { // in a folder of its own
				return result, err
			}
		}
		switch err := pauseWait(limited, r, ready, a.Every); {
		case errors.Is(err, ErrStopped):
			return Result{Stdout: []byte(last), Shown: last}, fmt.Errorf("%w; last answer: %s", err, last)
		case err != nil:
			if ctx.Err() != nil {
				return Result{}, fmt.Errorf("%w: the service is being stopped", links.ErrLost)
			}
			return Result{Stdout: []byte(last), Shown: last},
				fmt.Errorf("the condition was not met within %s; last answer: %s", ready.Step.Limit, last)
		}
	}
}

// beforeWait returns what the command answers from which the awaited answer must differ; empty where none is wanted.
func beforeWait(ctx context.Context, r *Runner, a *verb.WaitAct) (string, error) {
	if !a.Differs {
		return "", nil
	}
	out, err := askWait(ctx, r, a.Command)
	before := strings.TrimSpace(string(out.Stdout))
	if err == nil && before == "" {
		err = fmt.Errorf("%s answers nothing, so it cannot be seen that it changes: %s", a.Command,
			lastLines(strings.TrimSpace(string(out.Stderr)), r.hidden, 3))
	}
	return before, err
}

// pauseWait waits for a time, unless a person asks to stop meanwhile. Once something was changed only a wait for the
// wire is left before its end: any other may wait for work that is still under way on the device.
func pauseWait(ctx context.Context, r *Runner, ready procedure.Ready, pause time.Duration) error {
	leave := ready.Act.(*verb.WaitAct).Wire != "" || ready.Section == procedure.Survey ||
		ready.Section == procedure.Request
	for end := time.Now().Add(pause); ; {
		if leave && r.stopped(ctx, ready.Section) {
			return fmt.Errorf("%w while it waited", ErrStopped)
		}
		left := time.Until(end)
		if left <= 0 {
			return nil
		}
		if err := sleep(ctx, min(left, time.Second)); err != nil {
			return err
		}
	}
}

func sleep(ctx context.Context, pause time.Duration) error {
	select {
	case <-time.After(pause):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// questionLimit is how long a single question may take.
const questionLimit = 20 * time.Second

// askWait carries out a command; while a box restarts, the link is opened again.
func askWait(ctx context.Context, r *Runner, command string) (ssh.Output, error) {
	limited, cancel := context.WithTimeout(ctx, questionLimit)
	defer cancel()
	link, err := r.open(limited)
	if err != nil {
		return ssh.Output{}, err
	}
	out, err := link.Exec(limited, command, nil)
	if lost(err) {
		r.Close()
	}
	return out, err
}

// waitBack reports whether what is waited for has come about, and what was seen. before is what its command answered at
// first.
func waitBack(ctx context.Context, r *Runner, a *verb.WaitAct, before string) (come bool, said string, err error) {
	switch {
	case a.Command != "":
		out, err := askWait(ctx, r, a.Command)
		var changed ssh.HostKeyChanged
		switch {
		case errors.As(err, &changed), errors.Is(err, links.ErrSignIn):
			return false, "", err
		case err != nil:
			return false, err.Error(), nil
		}
		said = strings.TrimSpace(string(out.Stdout) + string(out.Stderr))
		if now := strings.TrimSpace(string(out.Stdout)); a.Differs {
			return now != "" && now != before && out.Exit == 0, said, nil
		}
		return a.Match.Match(out.Stdout), said, nil
	case a.Wire != "":
		return waitWire(ctx, r, a)
	case a.Port != "":
		limited, cancel := context.WithTimeout(ctx, questionLimit)
		defer cancel()
		conn, err := r.Dial(limited, "tcp", a.Port)
		if err != nil {
			return false, err.Error(), nil
		}
		return true, "it is open", conn.Close()
	}
	return waitPage(ctx, r, a)
}

// waitWire reads once which leaf is served, as every reading does.
func waitWire(ctx context.Context, r *Runner, a *verb.WaitAct) (come bool, said string, err error) {
	limited, cancel := context.WithTimeout(ctx, questionLimit)
	defer cancel()
	sha256, err := r.Leaf(limited, a.Wire, a.Name)
	if err != nil {
		return false, err.Error(), nil
	}
	return sha256 == strings.ToLower(a.Leaf), "it serves " + sha256, nil
}

// mostPage is how much of a page is looked at.
const mostPage = 1 << 20

// waitPage asks a page once. Nothing is sent along but the address; whose certificate the
// page has is for the wire to prove.
func waitPage(ctx context.Context, r *Runner, a *verb.WaitAct) (come bool, said string, err error) {
	limited, cancel := context.WithTimeout(ctx, questionLimit)
	defer cancel()
	client := http.Client{
		Transport: &http.Transport{DialContext: r.Dial, TLSClientConfig: pin.Config(pin.Unknown),
			DisableKeepAlives:      true,
			MaxResponseHeaderBytes: 64 << 10},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	question, err := http.NewRequestWithContext(limited, "GET", a.Page, nil)
	if err != nil {
		return false, "", err
	}
	answer, err := client.Do(question)
	if err != nil {
		return a.Closed && limited.Err() == nil, err.Error(), nil // one that is silent may be slow
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostPage))
	if err != nil {
		return false, err.Error(), nil
	}
	to := answer.Header.Get("Location")
	said = fmt.Sprintf("status %d", answer.StatusCode)
	if to != "" {
		said += ", leads to " + to
	}
	switch {
	case a.Closed:
		return false, said, nil
	case a.Status > 0 && answer.StatusCode != a.Status, a.Status == 0 && a.LeadsTo == nil && answer.StatusCode >= 400:
		return false, said, nil
	case a.LeadsTo != nil && !a.LeadsTo.MatchString(to):
		return false, said, nil
	case a.Match != nil && !a.Match.Match(text):
		return false, said + ", without " + a.Match.String(), nil
	}
	return true, said, nil
}
