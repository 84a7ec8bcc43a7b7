package contract

import (
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/language/look"
	"freshseal/core/language/rehearsal"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
)

// Again asks for a new request in place of the pending one.
type Again struct {
	Reason  string          `json:"reason" required:"true"` // what was wrong with the one that is out
	Names   []string        `json:"names,omitempty"`        // that it lacked
	Without []string        `json:"without,omitempty"`      // names that it should not have
	Signer  string          `json:"signer,omitempty"`       // another one
	Key     request.KeyType `json:"key,omitempty"`
	Subject request.Subject `json:"subject,omitempty"` // fields that differ
}

// OldRequest is a request that was replaced by a newer one.
type OldRequest struct {
	RequestFacts
	Reason string `json:"reason" required:"true"`
	Parcel string `json:"parcel,omitempty"` // with which it went out
	By     string `json:"by" required:"true"`
}

// Effect is what a replacement is about to do to its device: what is approved. The digest changes with it.
type Effect struct {
	// SHA-256 of what will happen: certificates, names, procedure, settings, addresses, who trusts and who pinned
	Digest     string      `json:"digest" required:"true"`
	Old        *cert.Facts `json:"old,omitempty"`
	New        *cert.Facts `json:"new,omitempty"`
	NamesAdded []string    `json:"names_added" required:"true"`
	NamesLost  []string    `json:"names_lost" required:"true"`
	Trust      []Trust     `json:"trust" required:"true"` // which trust groups will trust it, and what the others lack
	Pins       []Pin       `json:"pins" required:"true"`
	// those in which the device is worked on, each with its steps
	Stages []string `json:"stages" required:"true"`
}

// Approval says what a person approves.
type Approval struct {
	// of what the person saw (effect.digest); where it changed since, nothing is approved
	Digest string `json:"digest,omitempty"`
}

// Closing asks for the end of a held replacement, as the wire shows.
type Closing struct {
	// what the device serves: new and old need every address to serve it, neither accepts whatever is served
	As     string `json:"as" required:"true" enum:"new,old,neither"`
	Reason string `json:"reason" required:"true"` // stands in the audit log
}

// GoAhead lets a replacement go on that was paused or was to stop, or touch its device outside of the windows.
type GoAhead struct {
	// why the device is touched outside of its windows, freezes and holidays; needed for that alone
	Reason string `json:"reason,omitempty"`
}

// KeyExport asks for a key that was kept.
type KeyExport struct {
	Reason     string `json:"reason" required:"true"`     // stands in the audit log
	Passphrase string `json:"passphrase" required:"true"` // locks the store, at least 12 characters
	Old        bool   `json:"old,omitempty"`              // 3DES, for boxes that know nothing newer
}

// KeptFile is a file of a device that is kept off it, such as an export that was made before a change.
type KeptFile struct {
	Name   string    `json:"name" required:"true"`
	At     time.Time `json:"at" required:"true"`
	Bytes  int       `json:"bytes" required:"true"`
	SHA256 string    `json:"sha256" required:"true"`
}

// FileExport asks for a file that was kept.
type FileExport struct {
	Reason string `json:"reason" required:"true"` // stands in the audit log
}

// Order asks for a replacement.
type Order struct {
	Device  string          `json:"device" required:"true"`
	Slot    string          `json:"slot" required:"true"`
	Also    []string        `json:"also,omitempty"`   // further slots of the device that get the same certificate
	Signer  string          `json:"signer,omitempty"` // if nobody is named: the policy's
	Names   []string        `json:"names,omitempty"`  // besides those that are known
	Key     request.KeyType `json:"key,omitempty"`
	Subject request.Subject `json:"subject,omitempty"` // fields that differ from today's certificate

	// nothing live is touched before; what can be prepared is prepared at once
	At *time.Time `json:"at,omitempty"`
	// wait for the next window that opens, even if one is open now
	NextOpen bool `json:"next_window,omitempty"`
	// the stage after which it waits for a go-ahead
	StopAfter string `json:"stop_after,omitempty" enum:"sign,trial"`

	// go on although the slot cannot be read now; a way back can then not be proven
	Unseen bool `json:"unseen,omitempty"`
	OneWay bool `json:"one_way,omitempty"` // go on although some steps of the family cannot be undone
}

// Rehearsal is what a replacement would do, with nothing sent.
type Rehearsal struct {
	Plan request.Plan `json:"plan" required:"true"`
	// the slots that get the certificate, with their addresses
	Targets []Target              `json:"targets" required:"true"`
	Steps   []rehearsal.Rehearsed `json:"steps" required:"true"`

	Pins []Pin `json:"pins" required:"true"` // the pins of the old certificate
	// names that do not lead to the device, as far as DNS was asked
	Findings []finding.Finding `json:"findings" required:"true"`
}

// RehearsalOrder asks for a rehearsal.
type RehearsalOrder struct {
	Order
	// sign in to the device and read the files that steps would edit, to show what would change; nothing is changed
	Differences bool `json:"differences,omitempty"`
}

// Kept is what a replacement that went back keeps for another try.
type Kept struct {
	// when it is removed; a later sealed replacement of the slot removes it too
	Until time.Time `json:"until" required:"true"`
	What  []string  `json:"what" required:"true"`
}

// Replacement is a replacement as the API shows it.
type Replacement struct {
	ID string `json:"id" required:"true"`
	replacement.Progress
	Device string       `json:"device" required:"true"`
	Slot   string       `json:"slot" required:"true"`
	Signer string       `json:"signer" required:"true"`
	Plan   request.Plan `json:"plan" required:"true"`
	// the slots that get the certificate, the first one first
	Targets   []Target             `json:"targets" required:"true"`
	OldSHA256 string               `json:"old_sha256" required:"true"`
	NewSHA256 string               `json:"new_sha256" required:"true"`
	Request   *RequestFacts        `json:"request,omitempty"`
	Differs   []request.Difference `json:"differs,omitempty"` // in what the request differs from the plan
	Former    []OldRequest         `json:"former,omitempty"`  // requests in whose place this one was asked for
	Unused    []UnusedAnswer       `json:"unused,omitempty"`  // answers that came and were not used, newest first
	Chain     []Link               `json:"chain,omitempty"`
	Findings  []finding.Finding    `json:"findings,omitempty"` // of the chain that is going to be installed
	Steps     []Step               `json:"steps,omitempty"`
	// the time spent in each stage so far
	StageTimes []replacement.Spent `json:"stage_times,omitempty"`
	Parcel     string              `json:"parcel,omitempty"`
	AskedBy    string              `json:"asked_by" required:"true"`
	ApprovedBy string              `json:"approved_by,omitempty"`
	NotBefore  *time.Time          `json:"not_before,omitempty"` // nothing live is touched before
	// of one that waits for a window: when the device may be touched, as far as is known
	OpensAt *time.Time `json:"opens_at,omitempty"`
	// of one that waits for a window or another replacement: what is in the way
	Closed   string `json:"closed,omitempty"`
	PausedBy string `json:"paused_by,omitempty"`
	// the stage after which it waits for a go-ahead
	StopAfter string `json:"stop_after,omitempty" enum:"sign,trial"`
	// why it touches the device outside of its windows
	AnyTime        string      `json:"any_time,omitempty"`
	OldCertificate *cert.Facts `json:"old_certificate,omitempty"` // what stood before it

	// of one that waits for approval: what it is about to do
	Effect *Effect `json:"effect,omitempty"`
	// how many pins of the old certificate are not confirmed
	PendingPins int `json:"pending_pins" required:"true"`
	// of a held replacement: what each address served when it was last read
	Serves []Serving `json:"serves,omitempty"`
	// what is kept for another try after it went back
	Kept *Kept `json:"kept,omitempty"`
	// the replacement whose request and certificate it uses
	RetryOf string `json:"retry_of,omitempty"`
	// of a closed replacement: what a person took it for
	ClosedAs string `json:"closed_as,omitempty" enum:"new,old,neither"`
	// files of the device that are kept here, such as an export that was made before the change
	KeptFiles []KeptFile `json:"kept_files,omitempty"`
	// what is left on the device after the end
	Leftover  string        `json:"leftover,omitempty"`
	StartedAt time.Time     `json:"started_at" required:"true"`
	ChangedAt time.Time     `json:"changed_at" required:"true"`
	Next      string        `json:"next,omitempty"` // what a person can do now
	Actions   []next.Action `json:"actions,omitempty"`
}

// UnusedAnswer is a certificate that came for a replacement and was not used.
type UnusedAnswer struct {
	Certificate cert.Facts `json:"certificate" required:"true"`
	Why         string     `json:"why" required:"true"`
	Acceptable  bool       `json:"acceptable" required:"true"` // it is doubtful, and a person can accept it
	CameAt      time.Time  `json:"came_at" required:"true"`
	CameBy      string     `json:"came_by" required:"true"`

	// of the one that can be accepted, or that came last for the pending request
	Findings []finding.Finding `json:"findings,omitempty"`
}

// RequestFacts is a request as people read it.
type RequestFacts struct {
	Subject string   `json:"subject" required:"true"`
	Names   []string `json:"names" required:"true"`
	Key     string   `json:"key" required:"true"`
	SHA256  string   `json:"sha256" required:"true"`
	PEM     string   `json:"pem" required:"true"`
}

// Step is a line of a replacement's journal.
type Step struct {
	Stage   string     `json:"stage" required:"true"`
	Name    string     `json:"name" required:"true"`
	Verb    string     `json:"verb" required:"true"`
	Text    string     `json:"text" required:"true"`
	Outcome string     `json:"outcome" required:"true" enum:"running,done,failed,unknown"`
	Exit    int        `json:"exit" required:"true"`
	Output  string     `json:"output,omitempty"`
	Why     string     `json:"why,omitempty"`
	BeganAt time.Time  `json:"began_at" required:"true"`
	EndedAt *time.Time `json:"ended_at,omitempty"`
	// how much of it is done, as far as the device says; output is then what stands on its screen
	Percent int `json:"percent,omitempty"`
	// of a step under way: how long it usually takes on devices of this family
	Usual int `json:"usual_seconds,omitempty"`
}

// Serving is what one address of a held replacement served when it was last read.
type Serving struct {
	Slot    string `json:"slot" required:"true"`
	Address string `json:"address" required:"true"`
	SHA256  string `json:"sha256,omitempty"`
	// what stood before the replacement, its new certificate, a third one, or nothing that can be read
	Which look.Word `json:"which" required:"true" enum:"before,new,other,unknown"`
	Text  string    `json:"text" required:"true"`
}

// Tidied lists what was removed from a device.
type Tidied struct {
	Device string `json:"device" required:"true"`
	// whose work folders were removed; they cannot be reverted any more
	Replacements []string `json:"replacements" required:"true"`
}

// Target is a slot that gets the new certificate, as the API shows it.
type Target struct {
	Slot string `json:"slot" required:"true"`
	// where it is read and must serve the new certificate: its own, further ones, and those of nodes
	Addresses []judge.Other `json:"addresses" required:"true"`
	OldSHA256 string        `json:"old_sha256,omitempty"`
}

// String names the slot with its addresses.
func (t Target) String() string {
	places := make([]string, len(t.Addresses))
	for i, at := range t.Addresses {
		places[i] = at.String()
	}
	return t.Slot + " at " + strings.Join(places, ", ")
}

// Known is what a person knows of a step whose end nobody saw.
type KnownOutcome struct {
	// of the step whose end nobody saw: it was done; it was not, and is done now; or it is done again whatever became
	// of it
	Step string `json:"step,omitempty" enum:"done,not-done,repeat"`
	// what the step would have captured, where it was done
	Values map[string]string `json:"values,omitempty"`
}
