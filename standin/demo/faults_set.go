package demo

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

	"freshseal/standin"
)

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

// ErrNotFollowed means that a fault is set and that no running fleet followed it yet.
var ErrNotFollowed = errors.New("the demo does not run, or is busy")

// SetFault sets a fault of a box of the fleet in a folder, and waits until the running fleet follows it. An empty
// fault clears it.
func SetFault(dir, device string, set FaultSet) error {
	kind, ok := kindOf(device)
	if !ok {
		return fmt.Errorf("the demo has no box %q", device)
	}
	known := standin.FaultsOf(kind)
	if set.Fault != "" && !slices.ContainsFunc(known, func(f standin.Fault) bool { return f.Name == set.Fault }) {
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
func kindOf(device string) (standin.Kind, bool) {
	for _, m := range members {
		if m.name == device && !m.off {
			return m.kind, true
		}
	}
	return "", false
}

// FaultsOfDevice returns the faults that a box of the demo's fleet knows.
func FaultsOfDevice(device string) ([]standin.Fault, error) {
	kind, ok := kindOf(device)
	if !ok {
		return nil, fmt.Errorf("the demo has no box %q", device)
	}
	return standin.FaultsOf(kind), nil
}

// followEvery is how often a running fleet looks at the faults that are set.
const followEvery = 300 * time.Millisecond

// follow sets the faults of the fleet's boxes as the file in its folder says, and writes beside it what it follows,
// until stop is closed.
func (f *Fleet) follow(dir string, stop <-chan struct{}) {
	_ = os.Remove(filepath.Join(dir, followedFile)) // of a run before
	usual := map[string]standin.Faults{}
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
				for _, each := range standin.FaultsOf(box.Kind) {
					if each.Name == set.Fault {
						box.SetFaultsAfter(set.After, each.Faults)
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
