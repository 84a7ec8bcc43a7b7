// Package memory is a service around one device, all in memory: what the rooms of the service need of each other and of
// the store, and a device that does what steps say. It is there for their tests, without database, network or
// processes. A World outlives the rooms that work on it, as a database does, so that a test may kill and restart them.
package memory

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/policy"
	"freshseal/core/judgement/window"
	"freshseal/core/language/procedure"
	"freshseal/core/language/value"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/device/ssh"
	"freshseal/service/access"
	"freshseal/signer"
	"freshseal/store"
	"freshseal/store/issuance"
	"freshseal/strongbox"
)

// Family is that of the world's gateway: every stage that may have steps has one.
const Family = `
procedure: quay-gateway
title: Gateway with certificate files, over SSH
links: [ssh]
traits: {key_types: [ecdsa-p256], key_made_by: service, restart_limit: 100ms}
steps:
  survey:
    - {step: survey, run: gatectl status, undo: nothing}
  backup:
    - {step: backup, run: gatectl save, undo: nothing}
  trust:
    - {step: trust, run: gatectl trust, undo: {run: gatectl distrust}}
  install:
    - {step: install, run: gatectl take, undo: {run: gatectl drop}}
  trial:
    - {step: trial, run: gatectl try, undo: nothing}
  activate:
    - {step: activate, run: gatectl use, undo: {run: gatectl former}}
  prove:
    - {step: prove, run: gatectl check, undo: nothing}
  seal:
    - {step: seal, run: gatectl tidy, undo: nothing}
`

// World is a service with one device, one slot and one replacement, all in memory: what the engine needs of the other
// rooms and of the store, and a device that does what the steps say. It survives the engine, as a database does.
type World struct {
	T        *testing.T
	Lock     sync.Mutex
	Now      time.Time
	Row      store.Replacement
	Steps    []store.Step
	Entries  []replacement.Entry
	Certs    map[string]*cert.Certificate
	Secrets  map[string][]byte // secrets, sealed
	Standing []store.Stood
	Old      string // SHA-256 of the slot's old leaf, as recorded
	Last     string // what the slot must serve; empty: what it served before
	Box      *strongbox.Box
	Bench    *signer.Bench
	Text     string // of the procedure
	Newer    string // what its file says by now; empty: it is gone

	Serves   *cert.Certificate                 // by the device, now
	First    *cert.Certificate                 // before all
	Also     *cert.Certificate                 // served to clients of its kind of key, where they are of another kind
	Done     []string                          // what the device was asked to do, in order
	Fails    map[string]error                  // by step
	Silent   bool                              // the slot cannot be read
	Unknown  bool                              // nobody sees the end of a step that fails, and the device cannot tell
	Runs     bool                              // its command may still be running
	Inside   bool                              // something that encloses visits is entered, and must be left
	Ignores  bool                              // the device says that it uses the new certificate, and does not
	Reads    func(*World)                      // called before each look at the wire
	Doubts   []finding.Finding                 // about what the signer answers
	Pending  bool                              // the signer has no answer yet
	Captures map[string]map[string]value.Value // by step
	Chain    []*cert.Certificate               // what stands behind the served leaf; nil: the bench's
	Signs    *testkit.Signer                   // the device's own authority, where it signs for itself
	Names    interface {                       // asked where names lead; nil: nobody is
		LookupHost(ctx context.Context, host string) (addresses []string, err error)
		LookupAddr(ctx context.Context, address string) (names []string, err error)
	}
	Gates  []store.AtGate
	Kept   []int64
	Before []store.Install
	Pins   []string     // of the web interface
	More   []store.Slot // further ones of the device
	Rules  policy.Rules
	Times  window.Times
	Paused bool  // the site
	Other  int64 // a replacement that touches the device
	Stops  error // of the store: nothing can be written

	Over    []store.Replacement  // earlier replacements of the slot
	Jobs    map[int64]store.Task // open tasks, by step
	Batched []store.BatchItem
	Batch   store.Batch
	Pinned  []store.Pin
	Updates []store.PinUpdate
	Files   []store.KeptFile
	Former  []store.Obsolete
	Proofs  map[string]issuance.Proven
	Parcel  store.Parcel
	Proof   request.Proof // that the signer wants
	Audited []string
	Device  store.Device

	Calls  int    // of the store and of the other packages, so far
	FailAt int    // which of them fails; 0: none
	Failed string // the call that failed

	Moments int  // that a kill could hit, so far
	KillAt  int  // 0: never
	Dead    bool // killed: nothing is written any more
	Kill    context.CancelFunc
}

var errKilled = errors.New("killed")

// New returns a world with one device, and a replacement of its slot that was just begun.
func New(t *testing.T) *World {
	t.Helper()
	root := testkit.Root(t, "Quay Root")
	first := root.Leaf(t, "gate-1.tidewrack.example").Certificate
	w := &World{T: t, Now: testkit.Now, Certs: map[string]*cert.Certificate{first.SHA256: first},
		Secrets: map[string][]byte{}, Serves: first, First: first, Fails: map[string]error{},
		Captures: map[string]map[string]value.Value{}, Text: Family, Rules: policy.Default,
		Jobs: map[int64]store.Task{}, Proofs: map[string]issuance.Proven{},
		Device: store.Device{ID: 3, Name: "gate-1", Address: "192.0.2.7", Family: "quay-gateway"}}
	var err error
	if w.Box, err = strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key")); err != nil {
		t.Fatal(err)
	}
	if w.Bench, err = signer.NewBench(signer.UsualBench("Tidewrack Ferries"), nil, w.Clock); err != nil {
		t.Fatal(err)
	}
	plan := request.Plan{Subject: request.Subject{CommonName: "gate-1.tidewrack.example"},
		Names: []string{"gate-1.tidewrack.example"}, Key: request.ECDSAP256}
	progress, _, err := replacement.Progress{}.On(replacement.Event{Kind: replacement.Begun})
	if err != nil {
		t.Fatal(err)
	}
	w.Row = store.Replacement{ID: 7, DeviceID: 3, SlotID: 5, Device: "gate-1", Slot: "web", Signer: "bench",
		Plan: store.JSON[request.Plan]{V: plan}, Mark: "abcdefghij", Edition: procedure.Edition,
		Procedure: store.Digest(Family), StartedAt: store.At(w.Now)}
	set(&w.Row, progress)
	return w
}

func set(r *store.Replacement, p replacement.Progress) {
	r.Stage, r.State, r.WaitingFor = p.Stage, p.State, p.WaitingFor
	r.Reverting, r.Stopping, r.Asked, r.Why, r.Back = p.Reverting, p.Stopping, p.Asked, p.Why, p.Back
}

// Clock is the time in the world.
func (w *World) Clock() time.Time { return w.Now }

// moment is one at which the service may be killed.
func (w *World) moment() error {
	w.Moments++
	if w.KillAt == w.Moments {
		w.Dead = true
		w.Kill()
	}
	if w.Dead {
		return errKilled
	}
	return nil
}

// written is what every change of the store asks first.
func (w *World) written() error {
	if w.Dead {
		return errKilled
	}
	return w.Stops
}

func (w *World) Slot() store.Slot {
	return store.Slot{ID: 5, DeviceID: 3, Device: "gate-1", Name: "web", Address: "192.0.2.7", Port: 443,
		Protocol: "tls", Installed: w.Last,
		ServerName: "gate-1.tidewrack.example"}
}

func (Reach) SSH(context.Context, store.Device) (ssh.Target, error)    { return ssh.Target{}, nil }
func (Reach) Config(context.Context, store.Device) (ssh.Target, error) { return ssh.Target{}, nil }
func (Reach) Way(string) func(context.Context, string, string) (net.Conn, error) {
	return nil
}
func (Reach) Take(context.Context, *access.Place, string) error { return nil }

func (slow) Collect(context.Context, signer.Errand) ([]*cert.Certificate, error) {
	return nil, signer.ErrPending
}

// Did returns what the device was asked to do.
func (w *World) Did() string { return strings.Join(w.Done, " ") }

// ErrShelf is what the call fails with that FailAt says.
var ErrShelf = errors.New("the shelf collapsed")

// called counts the calls of the store and of the other packages, and fails one of them.
func (w *World) called(what string) error {
	w.Lock.Lock()
	defer w.Lock.Unlock()
	w.Calls++
	if w.Calls != w.FailAt {
		return nil
	}
	w.Failed = what
	return fmt.Errorf("%s: %w", what, ErrShelf)
}
