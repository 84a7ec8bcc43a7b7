package standin

import (
	"slices"
)

// Fault is something that a box can do wrong on purpose.
type Fault struct {
	Name   string `json:"name"`
	About  string `json:"about"` // one sentence
	Faults Faults `json:"-"`
}

// FaultList are all faults that can be set; the kinds name those that they know.
var FaultList = []Fault{
	{"refuses", "It refuses every new certificate, and changes nothing.", Faults{FailTest: true}},
	{"keeps-serving", "It says that the new certificate is in use, and goes on serving the old one.",
		Faults{KeepServing: true}},
	{"leaf-alone", "It serves the new leaf without its intermediates.", Faults{LeafAlone: true}},
	{"rolls-back", "It takes the new certificate back by itself.", Faults{RollBack: true}},
	{"disk-full", "Its disk has no room for the new files.", Faults{DiskFull: true}},
	{"read-only", "Its disk cannot be written.", Faults{ReadOnly: true}},
	{"one-node", "What is done does not reach its other nodes.", Faults{OneNode: true}},
	{"session-lost", "It forgets the session in the middle of the work.", Faults{SessionLost: true}},
	{"drops-upload", "The connection is lost in the middle of the first upload.", Faults{DropUpload: true}},
	{"third-certificate", "It serves a certificate that nobody asked for after the new one.",
		Faults{ThirdCertificate: true}},
	{"never-back", "It serves nothing after the restart with a new certificate.", Faults{NeverBack: true}},
	{"never-done", "Its task never ends.", Faults{NeverDone: true}},
	{"hangs", "Its commands never end.", Faults{Hang: true}},
	{"silent", "Its prompt never comes.", Faults{Silent: true}},
	{"other-prompt", "Its prompts are worded otherwise.", Faults{OtherPrompt: true}},
	{"stays-in-maintenance", "It does not leave maintenance.", Faults{StaysInMaintenance: true}},
	{"does-not-stop", "Its server does not stop unless it is stopped hard.", Faults{StuckStop: true}},
}

// FaultsOf returns the faults that a kind of box knows.
func FaultsOf(k Kind) []Fault {
	var out []Fault
	for _, f := range FaultList {
		if slices.Contains(makes[k].Faults, f.Name) {
			out = append(out, f)
		}
	}
	return out
}

// SetFaultsAfter has faults begin once the box was asked so many more things.
func (r *Running) SetFaultsAfter(n int, f Faults) {
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
