package replace

import (
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/device/links"
)

// nextFor returns what a user can do about a replacement that has stopped.
func nextFor(r contract.Replacement) (say string, actions []next.Action) {
	switch {
	case r.Leftover != "":
		say, helps := correct(r.Leftover, r.Device)
		return say, append(helps, next.Clear.On(r.ID))
	case r.State == replacement.Waiting:
		return nextWaiting(r)
	case r.State == replacement.Held:
		say, helps := correct(r.Why, r.Device)
		return say, append(helps, next.Resume.On(r.ID), giveUp(r))
	case r.State == replacement.Reverted && r.Kept != nil:
		say, helps := correct(r.Why, r.Device)
		return say + "; then use what was signed", append(helps, next.Retry.On(r.ID))
	case r.State == replacement.Reverted:
		say, helps := correct(r.Why, r.Device)
		return say, append(helps, next.Replace.On(r.Device+"/"+r.Slot))
	}
	return "", nil
}

// nextWaiting returns what a user can do about a waiting replacement, by what it waits for.
func nextWaiting(r contract.Replacement) (say string, actions []next.Action) {
	only := func(do next.Do, on string) []next.Action { return []next.Action{do.On(on)} }
	switch r.WaitingFor {
	case replacement.Signer:
		if r.Parcel == "" {
			return "pack its request", only(next.PackParcel, r.Signer)
		}
		return "give what the signer sends back", only(next.TakeIn, "")
	case replacement.Validation:
		return "prove to the signer whose the domain is", only(next.ListTasks, "")
	case replacement.Approval:
		return "look at it and approve it", only(next.Approve, r.ID)
	case replacement.GoAhead:
		return "look at it, then let it go on", only(next.GoOn, r.ID)
	case replacement.Window:
		if r.OpensAt == nil {
			return "wait until that has ended, or change the device anyway", only(next.GoOn, r.ID)
		}
		return "it goes on by itself at " + r.OpensAt.UTC().Format("2006-01-02 15:04 MST") + "; or touch the " +
			"device all the same", only(next.GoOn, r.ID)
	case replacement.Device:
		return "it goes on by itself when that one has ended", only(next.ListReplacements, "")
	case replacement.Person:
		return "do the next step by hand", only(next.ListTasks, "")
	}
	return "", nil
}

// causes are recurring reasons for which replacements stop, by a part of the reason, with what helps.
var causes = []struct {
	part, say string
	do        next.Do // to the device
}{
	{"host key", "if the new host key is right, change it in the device's access", next.ChangeDevice},
	{links.ErrSignIn.Error(), "correct the credential of the device", next.ChangeDevice},
	{device.NotReached, "see that the device is on and can be reached", next.TryDevice},
	{"disk full", "make room on the device", ""},
	{"No space left", "make room on the device", ""},
	{links.ErrTimeLimit.Error(), "see whether the device hangs", next.TryDevice},
}

// correct returns what a user must correct on a device for a given reason, and the actions that help.
func correct(why, device string) (say string, helps []next.Action) {
	for _, c := range causes {
		if strings.Contains(why, c.part) {
			if c.do != "" {
				helps = append(helps, c.do.On(device))
			}
			return c.say, helps
		}
	}
	if strings.TrimSpace(why) == "" {
		return "find out what happened", nil
	}
	return "correct what the reason names", nil
}

// giveUp returns the action that gives a replacement up.
func giveUp(r contract.Replacement) next.Action {
	if r.Touched() {
		return next.Revert.On(r.ID)
	}
	return next.Cancel.On(r.ID)
}
