package replace

import (
	"cmp"
	"context"
	"errors"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/store"
)

// Clear removes what a replacement left on its device.
func (s *Service) Clear(ctx context.Context, id string) (contract.Replacement, error) {
	j, err := s.named(ctx, id)
	if err != nil {
		return contract.Replacement{}, err
	}
	n := j.ID
	if !j.State.Over() || j.Leftover == "" && j.KeepsUntil.IsZero() {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" has nothing to clear",
			"it is "+string(j.State)+", and nothing of it is known to be left on the device", "",
			next.ShowReplacement.On(id))
	}
	if waits, err := s.waitsToEnter(ctx, n); err != nil || waits != "" {
		return contract.Replacement{},
			cmp.Or(err, error(problem.New(problem.Conflict, id+" was not cleared", "a person must do the task "+waits+
				" first", "", next.FinishTask.On(waits))))
	}
	unlock, free := s.TryDevice(j.DeviceID)
	if !free {
		return contract.Replacement{}, problem.New(problem.Conflict, id+" was not cleared",
			"its device is being worked on", "clear it when that has ended", next.ListReplacements.On(""))
	}
	defer unlock()
	if j.State != replacement.Sealed {
		if err := s.DropKept(ctx, n, false); err != nil {
			return contract.Replacement{}, problem.New(problem.Outside, id+" still has something left on the device",
				err.Error(), "correct what it says and clear it again")
		}
		return s.Replacement(ctx, id)
	}
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return contract.Replacement{}, err
	}
	defer leave()
	_, err = w.Runner.Run(ctx, procedure.Seal, j.Scope)
	err = w.LeaveAfter(ctx, errors.Join(err, w.TidyAfter(ctx)))
	if err := s.Leave(ctx, j, err); err != nil {
		return contract.Replacement{}, err
	}
	if err != nil {
		return contract.Replacement{}, problem.New(problem.Outside, id+" still has something left on the device",
			err.Error(), "correct what it says and clear it again")
	}
	return s.Replacement(ctx, id)
}

// waitsToEnter returns the task of a replacement that has ended by which a person lets Fresh Seal onto the device, or
// out of it; empty: there is none.
func (s *Service) waitsToEnter(ctx context.Context, id int64) (string, error) {
	open, err := s.store.Tasks.Open(ctx)
	for _, row := range open {
		if row.ReplacementID == id && row.After && row.Section == string(procedure.Enclosure) {
			return taskText(row.StepID), nil
		}
	}
	return "", err
}

// TidyDevice removes the work folders of all replacements of a device that are
// over, with the copies of old keys in them. Those cannot be reverted any more.
func (s *Service) TidyDevice(ctx context.Context, name string) (contract.Tidied, error) {
	out := contract.Tidied{Device: name, Replacements: []string{}}
	d, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return out, problem.Missing(err, next.ListDevices, "no device is called %s", name)
	}
	all, err := s.store.Replacements.Of(ctx, d.ID)
	if err != nil || len(all) == 0 {
		return out, err
	}
	if !all[0].State.Over() {
		return out, problem.New(problem.Conflict, name+" was not tidied", "its replacement "+
			replacement.Name(all[0].ID)+" is in progress", "wait for its end, or cancel it")
	}
	j, err := s.Load(ctx, all[0].ID)
	if err != nil || !j.Family.HasFolder() {
		return out, err
	}
	folders, ids, err := s.Earlier(ctx, j, func(store.Replacement) bool { return true })
	if err != nil || len(ids) == 0 {
		return out, err
	}
	unlock, free := s.TryDevice(d.ID)
	if !free {
		return out, problem.New(problem.Conflict, name+" was not tidied", "it is being worked on",
			"try again when that has ended")
	}
	defer unlock()
	w, leave, err := s.Visit(ctx, j)
	if err != nil {
		return out, err
	}
	defer leave()
	if err = w.LeaveAfter(ctx, w.Runner.Tidy(ctx, false, j.Scope, folders...)); err != nil {
		return out, problem.New(problem.Outside, name+" was not tidied", err.Error(), "", next.TryDevice.On(name))
	}
	for _, id := range ids {
		out.Replacements = append(out.Replacements, replacement.Name(id))
	}
	return out, s.store.Replacements.SetTidied(ctx, ids)
}
