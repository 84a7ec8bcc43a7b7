package contract

import (
	"time"

	"freshseal/core/language/verb"
	"freshseal/core/next"
)

// Task is a step that a person does by hand: what to do, what to copy and carry
// there, and what must come back.
type Task struct {
	ID          string      `json:"id" required:"true"`
	Replacement string      `json:"replacement" required:"true"`
	Device      string      `json:"device" required:"true"`
	Slot        string      `json:"slot" required:"true"`
	Stage       string      `json:"stage" required:"true"`
	Name        string      `json:"name" required:"true"`
	Text        string      `json:"text" required:"true"`
	Copy        []TaskValue `json:"copy" required:"true"`
	Files       []TaskFile  `json:"files" required:"true"`
	// what must be given back; where it is empty, only that it is done
	Ask string `json:"ask,omitempty"`
	// what must be given back is a private key; it is sealed and never shown
	Key bool `json:"key,omitempty"`
	// which leaf must be served; the task then ends by itself
	Seen    verb.Sight    `json:"seen,omitempty" enum:"new,old"`
	BeganAt time.Time     `json:"began_at" required:"true"`
	DueAt   time.Time     `json:"due_at" required:"true"`
	TakenBy string        `json:"taken_by" required:"true"`
	Notes   []TaskNote    `json:"notes" required:"true"`
	Domains []string      `json:"domains,omitempty"` // that it proves to the signer
	Open    bool          `json:"open" required:"true"`
	Actions []next.Action `json:"actions,omitempty"` // what a person can do next
}

// TaskValue is a value to copy.
type TaskValue struct {
	Label string `json:"label" required:"true"`
	Text  string `json:"text" required:"true"`
}

// TaskFile is a file to upload to the device.
type TaskFile struct {
	Name   string `json:"name" required:"true"`
	Size   int    `json:"size,omitempty"` // in bytes; not told of a secret
	SHA256 string `json:"sha256,omitempty"`
	// it is a private key: sealed here, and each download is in the audit log
	Secret bool `json:"secret,omitempty"`
}

// TaskNote is a note on a task.
type TaskNote struct {
	At   time.Time `json:"at" required:"true"`
	By   string    `json:"by" required:"true"`
	Text string    `json:"text" required:"true"`
}
