package device

import (
	"context"
	"fmt"

	"freshseal/device/links"
	"freshseal/device/ssh"
)

// Helper is another device of the fleet, on which a procedure has key and request made.
type Helper struct {
	Name string
	Dial links.Dial
	SSH  func(context.Context) (ssh.Target, error)
}

// onHelper returns the runner for steps on a helper, with a link and a work folder of its own
// there; r itself where helper is empty.
func onHelper(r *Runner, helper string) (*Runner, error) {
	if helper == "" {
		return r, nil
	}
	h, ok := r.Helpers[helper]
	if !ok {
		return nil, fmt.Errorf("no device is known that the setting %s names", helper)
	}
	if r.at == nil {
		r.at = map[string]*Runner{}
	}
	at := r.at[helper]
	if at == nil {
		at = &Runner{Dial: h.Dial, SSH: h.SSH, Procedure: r.Procedure, Work: r.Work, Journal: r.Journal, Hard: r.Hard,
			Stop: r.Stop}
		r.at[helper] = at
	}
	at.hidden = r.hidden
	return at, nil
}

// tidyHelper removes the replacement's folder from a helper.
func tidyHelper(ctx context.Context, r *Runner, helper string) error {
	at, err := onHelper(r, helper)
	if err == nil {
		err = tidyFolders(ctx, at, false)
	}
	if err != nil {
		return fmt.Errorf("on %s: %w", r.Helpers[helper].Name, err)
	}
	return nil
}

// helpedBy reports whether a step was begun on a helper.
func helpedBy(r *Runner, helper string) bool {
	for section, steps := range r.Procedure.Steps {
		for _, step := range steps {
			if r.Journal.Fate(section, step.Name).Begun && step.On == helper {
				return true
			}
		}
	}
	return false
}
