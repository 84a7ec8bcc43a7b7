package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"strings"

	"freshseal/contract"

	"golang.org/x/term"
)

// Question words a question; what is put into it is made visible.
func Question(format string, args ...any) Safe {
	var b strings.Builder
	Put(&b, format, args...)
	return Safe(b.String())
}

// Confirm asks a person; if nobody can be asked, instead says what to give.
func (a *App) Confirm(question Safe, instead string) error {
	if !a.interactive() {
		return Misuse("this needs a confirmation, and there is no terminal to ask", "", instead)
	}
	Put(a.Err, "%s [y/N] ", question)
	answer, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil || !strings.EqualFold(strings.TrimSpace(answer), "y") {
		return Failed("not confirmed, nothing was done", "", "")
	}
	return nil
}

// Secret reads a secret from a file, or asks for it without echo.
func (a *App) Secret(what, file, flag string) (string, error) {
	switch file {
	case "-":
		text, err := io.ReadAll(io.LimitReader(a.In, 1<<16))
		return strings.TrimRight(string(text), "\r\n"), err
	case "":
	default:
		text, err := os.ReadFile(file)
		if err != nil {
			return "", Failed("the "+what+" cannot be read", err.Error(), "name the right file with "+flag)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	}
	if !a.interactive() {
		return "", Misuse("the "+what+" is not given, and nobody can be asked here", "", "name a file with "+flag)
	}
	Put(a.Err, "%s: ", what)
	text, err := term.ReadPassword(int(a.In.(*os.File).Fd()))
	Putln(a.Err)
	return string(text), err
}

// interactive reports whether a person can be asked.
func (a *App) interactive() bool {
	f, ok := a.In.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// ConfirmAgain gives the service the code of an authenticator, or where there is none the password: from a file, or as
// a person types it.
func (a *App) ConfirmAgain(ctx context.Context, c *Client, passwordFile, codeFile string) error {
	var session contract.Session
	if err := c.Do(ctx, "GET", V1+"/session", nil, &session); err != nil {
		return err
	}
	var given contract.Confirmation
	var err error
	if session.Factor {
		given.Code, err = a.Secret("code of the authenticator of "+session.User, codeFile, "--code-file")
	} else {
		given.Password, err = a.Secret("password of "+session.User, passwordFile, "--password-file")
	}
	if err != nil {
		return err
	}
	return c.Do(ctx, "POST", V1+"/session/confirmation", given, nil)
}

// NeedsCode reports whether the service did not let somebody in for want of the code of an authenticator.
func NeedsCode(err error) bool {
	var t *Trouble
	return errors.As(err, &t) && t.kind == needsCode
}
