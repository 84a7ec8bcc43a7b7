package contract

import (
	"time"

	"freshseal/core/pki/request"
)

// BatchOrder asks for a replacement of each of many slots.
type BatchOrder struct {
	Slots  []string    `json:"slots,omitempty"`  // DEVICE/SLOT of each
	Filter *SlotFilter `json:"filter,omitempty"` // instead of slots: all that fit

	Signer string          `json:"signer,omitempty"` // if nobody is named: the policy's
	Key    request.KeyType `json:"key,omitempty"`
	Unseen bool            `json:"unseen,omitempty"`  // go on although a slot cannot be read now
	OneWay bool            `json:"one_way,omitempty"` // go on although some steps of a family cannot be undone
}

// Batch is many replacements that were asked for as one. The service begins them one
// after the other, also when it was restarted meanwhile.
type Batch struct {
	ID        string    `json:"id" required:"true"`
	Signer    string    `json:"signer" required:"true"` // empty: the policy's
	AskedBy   string    `json:"asked_by" required:"true"`
	StartedAt time.Time `json:"started_at" required:"true"`
	// starting: some are not started yet; started: none is left to start
	State   string        `json:"state" required:"true" enum:"starting,started,stopped"`
	Stopped string        `json:"stopped_by,omitempty"`
	Counts  Account       `json:"counts" required:"true"`
	Sites   []SiteOfBatch `json:"sites" required:"true"`
}

// Account counts the slots of a batch by where they stand.
type Account struct {
	Slots     int `json:"slots" required:"true"`
	Waiting   int `json:"waiting" required:"true"` // not started yet
	Refused   int `json:"refused" required:"true"`
	Left      int `json:"left" required:"true"`      // not started, since the batch was stopped
	UnderWay  int `json:"under_way" required:"true"` // their replacement runs, or waits for somebody
	Held      int `json:"held" required:"true"`
	Sealed    int `json:"sealed" required:"true"`
	Reverted  int `json:"reverted" required:"true"`
	Cancelled int `json:"cancelled" required:"true"`
	Closed    int `json:"closed" required:"true"` // by a person, as the wire showed
}

// SiteOfBatch is the account of one site.
type SiteOfBatch struct {
	Site string `json:"site" required:"true"`
	Account
}

// BatchItem is a slot of a batch.
type BatchItem struct {
	Device      string `json:"device" required:"true"`
	Slot        string `json:"slot" required:"true"`
	Site        string `json:"site" required:"true"`
	Outcome     string `json:"outcome" required:"true" enum:"waiting,started,refused,left"`
	Why         string `json:"why,omitempty"`
	Next        string `json:"next,omitempty"`
	Replacement string `json:"replacement,omitempty"`
	State       string `json:"state,omitempty"` // of the replacement
	WaitingFor  string `json:"waiting_for,omitempty"`
}

// BatchRehearsal is what a batch would do, with nothing sent: how many slots of each
// site, and the steps of the first one that can be replaced.
type BatchRehearsal struct {
	Slots     int         `json:"slots" required:"true"`
	Sites     []SiteCount `json:"sites" required:"true"`
	Watched   int         `json:"watched" required:"true"` // slots of devices without a family, which would be refused
	Sample    string      `json:"sample,omitempty"`        // DEVICE/SLOT of the one that is rehearsed
	Rehearsal *Rehearsal  `json:"rehearsal,omitempty"`
	Why       string      `json:"why,omitempty"` // why the sample cannot be replaced
}

// ItemFilter narrows the items of a batch.
type ItemFilter struct{ Batch, Outcome, State string }
