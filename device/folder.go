package device

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/language/procedure"
)

// work opens the link and makes the work folder where it is not there.
func (r *Runner) work(ctx context.Context) error {
	link, err := r.open(ctx)
	if err != nil || r.worked {
		return err
	}
	for _, folder := range []string{procedure.BeforeFolder, runFolder} {
		if err := link.Files(nil).MakeFolder(ctx, r.Work+"/"+folder); err != nil {
			return fmt.Errorf("%w; the setting %s must name a folder in which the user who signs in may make folders",
				err, procedure.WorkFolder)
		}
	}
	r.worked = true
	return nil
}

// runInFolder returns the folder in which the device keeps what becomes of a command.
func runInFolder(r *Runner, id int64) string {
	return r.Work + "/" + runFolder + "/" + strconv.FormatInt(id, 10)
}

// Tidy removes the replacement's folder from the device, but for what a later
// revert needs where keep is said; others are the folders of earlier replacements. What encloses a visit is entered
// first.
func (r *Runner) Tidy(ctx context.Context, keep bool, scope *procedure.Scope, others ...string) error {
	if !r.Procedure.HasFolder() {
		return nil
	}
	if !letsWork(r, scope) {
		return tidyFolders(ctx, r, keep, others...)
	}
	// Nobody is asked to let us in again for what was done in this action.
	text := strings.Join(append([]string{r.Work, strconv.FormatBool(keep)}, others...), " ")
	return undoAside(ctx, r, procedure.Cancel, "clear the work folder", text, scope, func(ctx context.Context) error {
		return tidyFolders(ctx, r, keep, others...)
	})
}

// letsWork reports whether something must let us onto the device before any contact.
func letsWork(r *Runner, scope *procedure.Scope) bool {
	for _, a := range r.Procedure.Arounds {
		if a.For == procedure.Contact && slices.ContainsFunc(a.Enter, func(step procedure.Step) bool {
			return step.Holds(scope)
		}) {
			return true
		}
	}
	return false
}

func tidyFolders(ctx context.Context, r *Runner, keep bool, others ...string) error {
	limited, cancel := context.WithTimeout(r.steps(ctx), time.Minute)
	defer cancel()
	// first: the device's own failure is the one to be told
	for _, helper := range slices.Sorted(maps.Keys(r.Helpers)) {
		if helpedBy(r, helper) {
			if err := tidyHelper(ctx, r, helper); err != nil {
				return err
			}
		}
	}
	if _, err := r.open(limited); err != nil {
		return err
	}
	var kept []string
	if keep {
		kept = []string{procedure.BeforeFolder}
	}
	slices.Sort(others)
	for _, folder := range slices.Compact(others) {
		if err := removeFolder(limited, r, folder); err != nil {
			return err
		}
	}
	if err := removeFolder(limited, r, r.Work, kept...); err != nil {
		return err
	}
	r.worked = false
	if r.AsWord != "" { // what gives the word went with it; the next link brings it again
		r.Close()
	}
	return nil
}

// removeFolder removes a folder with the user's own rights, and with more where those
// do not suffice. Where these need a word, it is the other way round: what gives the word
// is in the folder.
func removeFolder(ctx context.Context, r *Runner, folder string, keep ...string) error {
	ways := [][]string{nil, r.As}
	switch {
	case len(r.As) == 0:
		ways = ways[:1]
	case r.AsWord != "":
		ways = [][]string{r.As, nil}
	}
	var err error
	for _, as := range ways {
		if err = r.link.Files(as).RemoveAll(ctx, folder, keep...); err == nil || lost(err) {
			return err
		}
	}
	return err
}
