package service

import (
	"context"
	"errors"
	"fmt"

	"freshseal/core/procedure"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/wire"
)

// putBack puts the old certificate back and proves that it is served again.
func (s *Service) putBack(ctx context.Context, j job, runner *device.Runner) (replacement.Event, error) {
	if _, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Revert, j.scope); errors.Is(err, device.ErrPerson) {
		return outcome(err), nil
	} else if err != nil {
		return replacement.Event{}, fmt.Errorf("putting the old certificate back failed: %w; the copies are on the device, by hand: %s", err, s.byHand(j))
	}
	err := s.await(ctx, j, func(reading wire.Reading) string { return notOld(j.Replacement, reading) })
	if err != nil {
		return replacement.Event{}, fmt.Errorf("the old files are back, and %w; by hand: %s", err, s.byHand(j))
	}
	if j.slot.Installed == j.NewSHA256 {
		if err := s.install(ctx, j, ""); err != nil {
			return replacement.Event{}, err
		}
	}
	if err := s.clearAway(ctx, j, runner); err != nil {
		s.options.Log.Warn("reverted, and something is left on the device", "replacement", idText(j.ID), "error", err)
	}
	return replacement.Event{Kind: replacement.Restored}, nil
}

// byHand are the commands that put the old certificate back.
func (s *Service) byHand(j job) string {
	commands := ""
	for _, step := range j.procedure.Expand(procedure.Revert, j.scope) {
		if ready, err := procedure.ExpandStep(procedure.Revert, step, j.scope); err == nil {
			commands += "\n  " + ready.Text
		}
	}
	return commands
}

func (s *Service) clearAway(ctx context.Context, j job, runner *device.Runner) error {
	if err := s.store.RemoveSecret(ctx, keyPurpose(j.ID)); err != nil {
		return err
	}
	_, err := runner.Carry(ctx, j.procedure.Procedure, procedure.Cancel, j.scope)
	return err
}
