// Package cli is the command line: words and wiring. Every command but serve,
// demo, inspect and procedure check is a client of the API.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// Exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitWrong  = 3 // done, and something found wrong
)

// Trouble is an error for people: what, why and what to do next.
type Trouble struct {
	what, why, next string
	exit            int
	kind            string // type of the service's problem; empty: it is none
}

func (t *Trouble) Error() string {
	out := "freshseal: " + OneLine(t.what)
	if t.why != "" {
		out += "\n  why:  " + OneLine(t.why)
	}
	if t.next != "" {
		out += "\n  next: " + OneLine(t.next)
	}
	return out
}

func Failed(what, why, next string) error {
	return &Trouble{what: what, why: why, next: next, exit: exitFailed}
}
func Misuse(what, why, next string) error {
	return &Trouble{what: what, why: why, next: next, exit: exitUsage}
}

// FoundWrong ends a command that did its work and found something wrong; what
// it found is already printed.
var FoundWrong = &Trouble{exit: exitWrong}

// App is what commands share.
type App struct {
	Out    io.Writer
	Err    io.Writer
	In     io.Reader
	Now    func() time.Time // the service's clock
	config string
	As     string
}

// Main runs the program with the service's clock, and with the commands that run the service. It returns its exit code.
func Main(args []string, now func() time.Time, more Commands) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &App{Out: os.Stdout, Err: os.Stderr, In: os.Stdin, Now: now}
	root := a.root(more)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	return a.report(err)
}

func (a *App) report(err error) int {
	var t *Trouble
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &t):
		if t.what != "" {
			Putln(a.Err, Safe(t.Error()))
		}
		return t.exit
	case errors.Is(err, context.Canceled):
		Putln(a.Err, "freshseal: stopped")
		return exitFailed
	case isUsage(err):
		what, hint, _ := strings.Cut(err.Error(), "\n") // Cobra's hint stands on lines of its own
		Putln(a.Err,
			Safe((&Trouble{what: what, why: strings.Join(strings.Fields(hint), " "),
				next: "see: freshseal --help"}).Error()))
		return exitUsage
	}
	Putln(a.Err, Safe((&Trouble{what: err.Error()}).Error()))
	return exitFailed
}

// isUsage knows the errors that Cobra makes of a wrong command line.
func isUsage(err error) bool {
	for _, start := range []string{"unknown command", "unknown flag", "unknown shorthand", "accepts ", "requires ",
		"required flag", "invalid argument", "flag needs", "if any flags", "at least one of the flags"} {
		if strings.HasPrefix(err.Error(), start) {
			return true
		}
	}
	return false
}

// Root returns the tree of all commands, for documents.
func Root(more Commands) *cobra.Command { return (&App{}).root(more) }

func (a *App) root(more Commands) *cobra.Command {
	root := &cobra.Command{
		Use: "freshseal", Short: "Replace the certificates of a fleet of devices, and prove it on the wire",
		SilenceErrors: true, SilenceUsage: true, Version: version(),
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.PersistentFlags().StringVar(&a.config, "config", "", "the client's file (default: $FRESHSEAL_CONFIG, else "+
		"client.yaml in your configuration folder)")
	root.PersistentFlags().StringVar(&a.As, "as", "table", "how to print: table, json or csv")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.As != "table" && a.As != "json" && a.As != "csv" {
			return Misuse(fmt.Sprintf("--as %s is not known", a.As), "", "give table, json or csv")
		}
		return nil
	}
	root.AddCommand(a.backup(), a.licences())
	root.AddCommand(more(a)...)
	return root
}

// Noun returns a command that only holds verbs.
func Noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		var names []string
		for _, verb := range c.Commands() {
			names = append(names, verb.Name())
		}
		return Misuse(fmt.Sprintf("%s needs a subcommand: %s", name, strings.Join(names, ", ")), "",
			fmt.Sprintf("freshseal %s %s", name, strings.Join(names, "|")))
	}}
	c.AddCommand(verbs...)
	return c
}

// SlotArg splits DEVICE/SLOT.
func SlotArg(arg string) (device, slot string, err error) {
	device, slot, ok := strings.Cut(arg, "/")
	if !ok || device == "" || slot == "" {
		return "", "", Misuse(fmt.Sprintf("%q is no slot", arg), "a slot is written DEVICE/SLOT",
			"see: freshseal slot list")
	}
	return device, slot, nil
}
