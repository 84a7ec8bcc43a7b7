package cli

import (
	"bufio"
	"io"
	"os"
	"strings"

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
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
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
	f, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", Misuse("the "+what+" is not given, and nobody can be asked here", "", "name a file with "+flag)
	}
	Put(a.Err, "%s: ", what)
	text, err := term.ReadPassword(int(f.Fd()))
	Putln(a.Err)
	return string(text), err
}
