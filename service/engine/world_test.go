package engine

import (
	"context"
	"io"
	"log/slog"
	"testing"
	"time"

	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/memory"
	"freshseal/store"
)

// world is a service in memory, with an engine that works on it.
type world struct{ *memory.World }

func newWorld(t *testing.T) world { return world{memory.New(t)} }

// engine starts an engine on the world.
func (w world) engine() *Service {
	ctx, cancel := context.WithCancel(context.Background())
	w.Kill, w.Dead = cancel, false
	db := w.Store()
	reach, knows, families, signs := w.Rooms()
	return New(ctx, Storage{Chains: db.Chains, Devices: db.Devices, Journal: db.Journal, Pins: db.Pins,
		Replacements: db.Replacements, Requests: db.Requests, Secrets: db.Secrets, Signers: db.Signers, Sites: db.Sites,
		Slots: db.Slots, Tasks: db.Tasks}, w.Box, Rooms{Access: reach, Monitor: knows, Fleet: families, Signing: signs,
		Between: time.Millisecond, Hands: func(j *Job, journal device.Journal) Runner {
			return w.Hands(journal, j.Family.Procedure.Steps, j.Material.Path)
		}}, w.Names, slog.New(slog.NewTextHandler(io.Discard, nil)), w.Clock)
}

// drive drives the replacement until it stands still, and stops the engine.
func (w world) drive(action replacement.Action) store.Replacement {
	w.T.Helper()
	s := w.engine()
	s.Drive(w.Row.ID, action)
	s.running.Wait()
	w.Kill()
	return w.Row
}

// asks has a person ask for something, and drives on.
func (w world) asks(what replacement.EventKind) store.Replacement {
	w.T.Helper()
	_, action, err := w.Store().Replacements.Advance(context.Background(), w.Row.ID, replacement.Event{Kind: what},
		store.At(w.Now))
	if err != nil {
		w.T.Fatal(err)
	}
	return w.drive(action)
}
