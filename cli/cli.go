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

// trouble is an error for people: what, why and what to do next.
type trouble struct {
	what, why, next string
	exit            int
}

func (t *trouble) Error() string {
	out := "freshseal: " + oneLine(t.what)
	if t.why != "" {
		out += "\n  why:  " + oneLine(t.why)
	}
	if t.next != "" {
		out += "\n  next: " + oneLine(t.next)
	}
	return out
}

func failed(what, why, next string) error { return &trouble{what, why, next, exitFailed} }
func misuse(what, why, next string) error { return &trouble{what, why, next, exitUsage} }

// foundWrong ends a command that did its work and found something wrong; what
// it found is already printed.
var foundWrong = &trouble{exit: exitWrong}

// app is what commands share.
type app struct {
	out    io.Writer
	err    io.Writer
	in     io.Reader
	now    func() time.Time // the service's clock
	config string
	as     string
}

// Main runs the program with the service's clock, and with the commands that run the service. It returns its exit code.
func Main(args []string, now func() time.Time, more Commands) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{out: os.Stdout, err: os.Stderr, in: os.Stdin, now: now}
	root := a.root(more)
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	return a.report(err)
}

func (a *app) report(err error) int {
	var t *trouble
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &t):
		if t.what != "" {
			putln(a.err, safe(t.Error()))
		}
		return t.exit
	case errors.Is(err, context.Canceled):
		putln(a.err, "freshseal: stopped")
		return exitFailed
	case isUsage(err):
		what, hint, _ := strings.Cut(err.Error(), "\n") // Cobra's hint stands on lines of its own
		putln(a.err,
			safe((&trouble{what: what, why: strings.Join(strings.Fields(hint), " "),
				next: "see: freshseal --help"}).Error()))
		return exitUsage
	}
	putln(a.err, safe((&trouble{what: err.Error()}).Error()))
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

// Root is the tree of all commands, for documents.
func Root(more Commands) *cobra.Command { return (&app{}).root(more) }

func (a *app) root(more Commands) *cobra.Command {
	root := &cobra.Command{
		Use: "freshseal", Short: "Replace the certificates of a fleet of devices, and prove it on the wire",
		SilenceErrors: true, SilenceUsage: true, Version: version(),
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.PersistentFlags().StringVar(&a.config, "config", "", "the client's file (default: $FRESHSEAL_CONFIG, else "+
		"client.yaml in your configuration folder)")
	root.PersistentFlags().StringVar(&a.as, "as", "table", "how to print: table, json or csv")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.as != "table" && a.as != "json" && a.as != "csv" {
			return misuse(fmt.Sprintf("--as %s is not known", a.as), "", "give table, json or csv")
		}
		return nil
	}
	root.AddCommand(a.backup(), a.login(), a.logout(), a.status(), a.device(), a.site(), a.credential(), a.slot(),
		a.read(), a.sweep(), a.replace(), a.replacement(), a.batch(), a.find(), a.task(), a.pin(), a.calendar(),
		a.discover(), a.channel(), a.notice(), a.expiring(), a.reports(), a.forecast(),
		a.parcel(), a.intake(), a.unmatched(), a.inspect(), a.pack(), a.request(), a.signer(), a.bench(),
		a.trustGroup(), a.authority(), a.procedure(), a.user(), a.token(), a.audit(), a.policy(), a.due(), a.licences())
	root.AddCommand(more(Host{a.out, a.err, a.now, a})...)
	return root
}

// noun is a command that only holds verbs.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		var names []string
		for _, verb := range c.Commands() {
			names = append(names, verb.Name())
		}
		return misuse(fmt.Sprintf("%s needs a subcommand: %s", name, strings.Join(names, ", ")), "",
			fmt.Sprintf("freshseal %s %s", name, strings.Join(names, "|")))
	}}
	c.AddCommand(verbs...)
	return c
}

// slotArg splits DEVICE/SLOT.
func slotArg(arg string) (device, slot string, err error) {
	device, slot, ok := strings.Cut(arg, "/")
	if !ok || device == "" || slot == "" {
		return "", "", misuse(fmt.Sprintf("%q is no slot", arg), "a slot is written DEVICE/SLOT",
			"see: freshseal slot list")
	}
	return device, slot, nil
}
