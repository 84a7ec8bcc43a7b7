package standin

import (
	"io"
	"net"
	"net/http"
	"reflect"

	"mvdan.cc/sh/v3/interp"
)

// Kind is what a box is like, beyond a shell with files. Each kind has a file, which registers it: see Make.
type Kind string

// The kinds.
const (
	// a node of a pair that lets people into a network: web pages, and EAP over RADIUS with a certificate of its own
	AccessServer       Kind = "access server"
	BareHost           Kind = "bare host"           // maintenance, and agents that restart
	BuildingController Kind = "building controller" // a key store, and a supervisor that must trust it
	Collector          Kind = "collector"           // two files under fixed names, read only when its service starts
	ConferenceBridge   Kind = "conference bridge"   // leaf and intermediates apart; HTTPS is switched on
	// the first of several nodes, with a tool that carries on to the others
	Dashboard           Kind = "dashboard"
	EncryptionAppliance Kind = "encryption appliance" // what is staged is deployed to its nodes
	// a key that goes in a header; what is chosen counts once it is committed
	Firewall         Kind = "firewall"
	HostManager      Kind = "host manager"      // signs for the hosts under it, as a task
	HostWithPage     Kind = "host with page"    // takes a certificate at once
	LoadBalancer     Kind = "load balancer"     // named objects, a test listener, and a pair that is synchronised
	MenuManager      Kind = "menu manager"      // everything happens in a text menu
	NetworkGear      Kind = "network gear"      // a command line of its own, and no shell
	PlantRoom        Kind = "plant room"        // one combined file, a configuration, and a reboot
	ReportingGateway Kind = "reporting gateway" // listeners that are bound to a name and a certificate
	// configured by NETCONF: a candidate, and commits that go back by themselves
	Router      Kind = "router"
	ServerBoard Kind = "server board" // Redfish
	// outstanding requests with an id, and processes that start one after another
	SignOnServer    Kind = "sign-on server"
	SignalMast      Kind = "signal mast"      // a menu whose change goes back by itself unless it is confirmed
	SiteServer      Kind = "site server"      // a site whose configuration names its files
	StagedVault     Kind = "staged vault"     // files are staged, and a menu applies them
	StopServer      Kind = "stop server"      // its settings can be changed only while its server is off
	TicketOffice    Kind = "ticket office"    // JSON, with a task for each change
	TideGauge       Kind = "tide gauge"       // a shell tool that knows one step back
	TraversalPeer   Kind = "traversal peer"   // one of several that check each other
	VoiceManager    Kind = "voice manager"    // forms with hidden tokens; restarted over SSH
	WANController   Kind = "wan controller"   // a JSON interface with a session and an anti-forgery header
	WirelessManager Kind = "wireless manager" // a request in DER, and no word about the leaf
)

// Command is a command of a shell.
type Command func(r *Running, h interp.HandlerContext, options, operands []string) error

// Program is an interactive program, until it ends.
type Program func(*Running, *Terminal) error

// Make says how a kind of box differs from a shell with files. What is nil is as it is with that.
type Make struct {
	// Faults are the names of what it can do wrong on purpose; see FaultList.
	Faults []string
	// Start lays what it needs before it serves, and says what it serves first where that is not the usual pair.
	Start func(*Running) error
	// Web is its web interface.
	Web func(*Running) *http.ServeMux
	// Programs are its interactive programs by their command; that of the empty command is its own command line.
	Programs map[string]Program
	// Commands are those that its shell knows beside the usual ones.
	Commands map[string]Command
	// Power has it serve what it does after a power failure.
	Power func(*Running) error
	// NETCONF holds a session in place of a shell.
	NETCONF func(*Running, io.ReadWriter)
	// Plain answers over plain HTTP, where it has a page there.
	Plain func(*Running, net.Conn)
	// LeavesOut: with the fault leaf-alone it leaves out something else, which it sees to itself.
	LeavesOut bool
	// NoShell: it has a command line of its own alone.
	NoShell bool
}

// makes are the kinds that are registered; a box of no kind is a shell with files.
var makes = map[Kind]Make{"": {Faults: FilesFaults}}

// HasWeb reports whether a box of this kind has a web interface.
func (k Kind) HasWeb() bool { return makes[k].Web != nil }

// StateOf returns what a kind remembers of a box; it begins empty.
func StateOf[T any](r *Running) *T {
	s, _ := r.states.LoadOrStore(reflect.TypeFor[T](), new(T))
	return s.(*T)
}

// Register adds a kind.
func Register(k Kind, m Make) bool {
	makes[k] = m
	return true
}

// What most kinds can do wrong: those that are given files over SSH, and those with a web interface.
var (
	FilesFaults = []string{"refuses", "keeps-serving", "leaf-alone", "disk-full", "read-only", "drops-upload",
		"never-back",
		"hangs"}
	WebFaults = []string{"refuses", "keeps-serving", "leaf-alone", "session-lost", "third-certificate"}
)

// And returns faults of a kind with more of them.
func And(usual []string, more ...string) []string {
	return append(append([]string{}, usual...), more...)
}
