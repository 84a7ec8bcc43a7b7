package replace

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/device"
	"freshseal/service/engine"
	"freshseal/service/memory"
	"freshseal/service/problem"
	"freshseal/store"
)

// desk is the room on a world in memory.
type desk struct {
	*memory.World
	*Service
	work *engine.Service
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	d := &desk{World: memory.New(t)}
	d.restart()
	t.Cleanup(func() { d.Kill(); d.Service.Wait() })
	return d
}

// restart starts the room again on the same world.
func (d *desk) restart() {
	ctx, cancel := context.WithCancel(context.Background())
	d.Kill, d.Dead = cancel, false
	w, db := d.World, d.Store()
	reach, knows, families, signs := w.Rooms()
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	d.work = engine.New(ctx, engine.Storage{Chains: db.Chains, Devices: db.Devices, Journal: db.Journal, Pins: db.Pins,
		Replacements: db.Replacements, Requests: db.Requests, Secrets: db.Secrets, Signers: db.Signers, Sites: db.Sites,
		Slots: db.Slots, Tasks: db.Tasks}, w.Box, engine.Rooms{Access: reach, Monitor: knows, Fleet: families,
		Signing: signs, Between: time.Millisecond, Hands: func(j *engine.Job, journal device.Journal) engine.Runner {
			return w.Hands(journal, j.Family.Procedure.Steps, j.Material.Path)
		}}, nil, log, w.Clock)
	d.Service = New(ctx, Storage{Batches: db.Batches, Chains: db.Chains, Devices: db.Devices, Journal: db.Journal,
		Parcels: db.Parcels, Pins: db.Pins, Replacements: db.Replacements, Requests: db.Requests, Secrets: db.Secrets,
		Signers: db.Signers, Sites: db.Sites, Slots: db.Slots, Tasks: db.Tasks}, w.Box, d.work, Rooms{Monitor: knows,
		Fleet: families, Signing: signs, Audit: w}, d.Row.Plan.V.Subject, log, w.Clock)
}

// rests waits until the replacement stands still.
func (d *desk) rests() store.Replacement {
	d.T.Helper()
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(time.Millisecond) {
		d.Lock.Lock()
		r := d.Row
		d.Lock.Unlock()
		if r.State != replacement.Running {
			return r
		}
	}
	d.T.Fatalf("it does not come to rest in %s", d.Row.Stage)
	return store.Replacement{}
}

// begun starts the world's first replacement, and waits until it stands still.
func (d *desk) begun() store.Replacement {
	d.T.Helper()
	d.Drive(7, replacement.Advance)
	return d.rests()
}

// over has the first one be over, so that another can begin.
func (d *desk) over() {
	d.Row.State = replacement.Cancelled
}

// refused checks that an error is a problem of this kind that says this.
func refused(t *testing.T, err error, kind problem.Kind, says string) {
	t.Helper()
	var p *problem.Error
	if !errors.As(err, &p) || p.Kind != kind || !strings.Contains(p.What+"; "+p.Why+"; "+p.Next, says) {
		t.Errorf("%v, want %s and %q", err, kind, says)
	}
}

var order = contract.Order{Device: "gate-1", Slot: "web", Signer: "bench"}
