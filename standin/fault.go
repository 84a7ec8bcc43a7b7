package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Fault is something that a box can do wrong on purpose.
type Fault struct {
	Name   string `json:"name"`
	About  string `json:"about"` // one sentence
	Faults Faults `json:"-"`

	knows func(Kind) bool
}

// of makes a predicate of kinds.
func of(kinds ...Kind) func(Kind) bool { return func(k Kind) bool { return slices.Contains(kinds, k) } }

// but is any kind except these.
func but(kinds ...Kind) func(Kind) bool {
	return func(k Kind) bool { return !slices.Contains(kinds, k) }
}

// web is any kind with a web interface that is signed in to, except these.
func web(but ...Kind) func(Kind) bool {
	return func(k Kind) bool { return webKinds[k] != nil && !slices.Contains(but, k) }
}

// files is any kind that is given its files over SSH, except these.
func files_(but ...Kind) func(Kind) bool {
	return func(k Kind) bool { return webKinds[k] == nil && k != Router && !slices.Contains(but, k) }
}

// third are the kinds that may serve what nobody asked for.
func third(k Kind) bool {
	return web(WirelessManager, AccessServer, HostManager)(k) || k == TideGauge || k == SignalMast
}

// faultList are all faults that can be set, each with the kinds that know it.
var faultList = []Fault{
	{"refuses", "It refuses every new certificate, and changes nothing.", Faults{FailTest: true}, but(MenuManager)},
	{"keeps-serving", "It says that the new certificate is in use, and goes on serving the old one.",
		Faults{KeepServing: true}, but()},
	{"leaf-alone", "It serves the new leaf without its intermediates.", Faults{LeafAlone: true},
		but(Router, Dashboard, HostManager)},
	{"rolls-back", "It takes the new certificate back by itself.", Faults{RollBack: true}, of(MenuManager)},
	{"disk-full", "Its disk has no room for the new files.", Faults{DiskFull: true},
		files_(NetworkGear, MenuManager, Dashboard, TideGauge, SignalMast)},
	{"read-only", "Its disk cannot be written.", Faults{ReadOnly: true},
		files_(NetworkGear, MenuManager, Dashboard, TideGauge, SignalMast)},
	{"one-node", "What is done does not reach its other nodes.", Faults{OneNode: true},
		of(Firewall, EncryptionAppliance, LoadBalancer, AccessServer)},
	{"session-lost", "It forgets the session in the middle of the work.", Faults{SessionLost: true},
		web(WirelessManager, AccessServer)},
	{"drops-upload", "The connection is lost in the middle of the first upload.", Faults{DropUpload: true},
		files_(TideGauge, SignalMast)},
	{"third-certificate", "It serves a certificate that nobody asked for after the new one.",
		Faults{ThirdCertificate: true}, third},
	{"never-back", "It serves nothing after the restart with a new certificate.", Faults{NeverBack: true},
		files_(NetworkGear, Dashboard, TideGauge, SignalMast)},
	{"never-done", "Its task never ends.", Faults{NeverDone: true}, of(Firewall, ServerBoard, EncryptionAppliance,
		HostManager, SignOnServer, TicketOffice)},
	{"hangs", "Its commands never end.", Faults{Hang: true}, files_(NetworkGear, MenuManager, StagedVault, SignalMast)},
	{"silent", "Its prompt never comes.", Faults{Silent: true}, of(MenuManager, NetworkGear, StagedVault, SignalMast)},
	{"other-prompt", "Its prompts are worded otherwise.", Faults{OtherPrompt: true},
		of(MenuManager, EncryptionAppliance, NetworkGear, StagedVault, SignalMast)},
	{"stays-in-maintenance", "It does not leave maintenance.", Faults{StaysInMaintenance: true},
		of(BareHost, HostManager)},
	{"does-not-stop", "Its server does not stop unless it is stopped hard.", Faults{StuckStop: true},
		of(StopServer, Collector)},
}

// FaultsOf are the faults that a kind of box knows.
func FaultsOf(k Kind) []Fault {
	var out []Fault
	for _, f := range faultList {
		if f.knows(k) {
			out = append(out, f)
		}
	}
	return out
}

// FaultSet is a fault that is set on a box of the demo's fleet.
type FaultSet struct {
	Fault string `json:"fault"`
	After int    `json:"after,omitempty"` // once the box was asked that many more things
}

// Below the folder of a fleet: the faults that are set on its boxes, and those that the running fleet follows.
const (
	faultFile    = "faults.json"
	followedFile = "faults.followed.json"
)

// ErrNotFollowed says that a fault is set and that no running fleet followed it yet.
var ErrNotFollowed = errors.New("the demo does not run, or is busy")

// SetFault sets a fault of a box of the fleet in a folder, and waits until the running fleet follows it. An empty
// fault clears it.
func SetFault(dir, device string, set FaultSet) error {
	kind, ok := kindOf(device)
	if !ok {
		return fmt.Errorf("the demo has no box %q", device)
	}
	known := FaultsOf(kind)
	if set.Fault != "" && !slices.ContainsFunc(known, func(f Fault) bool { return f.Name == set.Fault }) {
		var names []string
		for _, f := range known {
			names = append(names, f.Name)
		}
		return fmt.Errorf("%s does not know the fault %q; its faults are %s", device, set.Fault,
			strings.Join(names, ", "))
	}
	all, err := SetFaults(dir)
	if err != nil {
		return err
	}
	if all[device] = set; set.Fault == "" {
		delete(all, device)
	}
	if err := writeFaults(dir, faultFile, all); err != nil {
		return err
	}
	for end := time.Now().Add(10 * followEvery); time.Now().Before(end); time.Sleep(followEvery / 10) {
		if followed, err := readFaults(dir, followedFile); err == nil && maps.Equal(followed, all) {
			return nil
		}
	}
	return ErrNotFollowed
}

// SetFaults are the faults that are set on the boxes of a fleet, by device.
func SetFaults(dir string) (map[string]FaultSet, error) { return readFaults(dir, faultFile) }

func writeFaults(dir, name string, faults map[string]FaultSet) error {
	text, err := json.MarshalIndent(faults, "", "  ")
	if err != nil {
		return err
	}
	file := filepath.Join(dir, name)
	if err := os.WriteFile(file+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func readFaults(dir, name string) (map[string]FaultSet, error) {
	out := map[string]FaultSet{}
	text, err := os.ReadFile(filepath.Join(dir, name))
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(text, &out)
}

// KindOf is the kind of a box of the demo's fleet, by its name.
func kindOf(device string) (Kind, bool) {
	for _, m := range members {
		if m.name == device && !m.off {
			return m.kind, true
		}
	}
	return "", false
}

// FaultsOfDevice are the faults that a box of the demo's fleet knows.
func FaultsOfDevice(device string) ([]Fault, error) {
	kind, ok := kindOf(device)
	if !ok {
		return nil, fmt.Errorf("the demo has no box %q", device)
	}
	return FaultsOf(kind), nil
}

// followEvery is how often a running fleet looks at the faults that are set.
const followEvery = 300 * time.Millisecond

// follow sets the faults of the fleet's boxes as the file in its folder says, and writes beside it what it follows,
// until stop is closed.
func (f *Fleet) follow(dir string, stop <-chan struct{}) {
	_ = os.Remove(filepath.Join(dir, followedFile)) // of a run before
	usual := map[string]Faults{}
	for _, m := range members {
		usual[m.name] = m.faults
	}
	var done map[string]FaultSet
	for {
		// a file that cannot be read changes nothing
		if now, err := SetFaults(dir); err == nil && (done == nil || !maps.Equal(now, done)) {
			for device, faults := range usual {
				box := f.named[device]
				set, was := now[device], done[device]
				if box == nil || set == was {
					continue
				}
				if set.Fault == "" {
					box.SetFaults(faults)
					continue
				}
				for _, each := range FaultsOf(box.Kind) {
					if each.Name == set.Fault {
						box.setFaultsAfter(set.After, each.Faults)
					}
				}
			}
			if err := writeFaults(dir, followedFile, now); err == nil { // else once more, at the next look
				done = now
			}
		}
		select {
		case <-time.After(followEvery):
		case <-stop:
			return
		}
	}
}

// setFaultsAfter has faults begin once the box was asked so many more things.
func (r *Running) setFaultsAfter(n int, f Faults) {
	if n == 0 {
		r.SetFaults(f)
		return
	}
	r.lock.Lock()
	defer r.lock.Unlock()
	r.soon, r.soonAfter = &f, n
}

// counted counts what the box is asked, for faults that begin later.
func (r *Running) counted(what string) {
	if what == "handshake" { // readings would count
		return
	}
	r.lock.Lock()
	soon := r.soon
	if soon != nil {
		if r.soonAfter--; r.soonAfter > 0 {
			soon = nil
		} else {
			r.soon = nil
		}
	}
	r.lock.Unlock()
	if soon != nil {
		r.SetFaults(*soon)
	}
}
