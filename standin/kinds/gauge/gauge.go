// Package gauge is the stand-in of the kind "tide gauge": a shell tool that knows one step back.
package gauge

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"freshseal/standin"
	"freshseal/standin/parts"

	"mvdan.cc/sh/v3/interp"
)

var _ = standin.Register(standin.TideGauge,
	standin.Make{Faults: []string{"refuses", "keeps-serving", "leaf-alone", "third-certificate", "hangs"},
		Commands: map[string]standin.Command{"gaugectl": gaugectl}})

// gaugectl is the tool of a tide gauge. What it does not take, it refuses with exit code 2.
func gaugectl(r *standin.Running, h interp.HandlerContext, _, words []string) error {
	switch strings.Join(words, " ") {
	case "show":
		w := r.Shows()
		fmt.Fprintf(h.Stdout, "in use:   %s\nprevious: %s\n", standin.OrNone(w.Now), standin.OrNone(w.Previous))
	case "request":
		subject, names := parts.Requested(h.Stdin)
		der, err := r.NextRequest(subject, names, "")
		if err != nil {
			return err
		}
		h.Stdout.Write(standin.PemOf("CERTIFICATE REQUEST", der))
	case "import":
		chain, err := io.ReadAll(io.LimitReader(h.Stdin, 1<<20))
		if err == nil {
			err = r.Take(chain)
		}
		if err != nil {
			fmt.Fprintln(h.Stderr, "gaugectl: not accepted:", err)
			return interp.ExitStatus(2)
		}
		return r.Use()
	case "previous":
		return r.GoBackWeb()
	default:
		return errors.New("usage: gaugectl show | request | import | previous")
	}
	return nil
}
