package contract

import (
	"time"

	"freshseal/core/judgement/notice"
)

// Channel is where messages go, without its secret.
type Channel struct {
	Name string `json:"name" required:"true"`
	ChannelSetup
	// the password of the mail server, or the key that signs a webhook's messages
	Secret   bool     `json:"has_secret" required:"true"`
	Revision Revision `json:"revision" required:"true"`
}

// Revised returns how often people changed it.
func (c Channel) Revised() Revision { return c.Revision }

// NewChannel sets a channel.
type NewChannel struct {
	ChannelSetup
	// the password of the mail server, or the key that signs a webhook's messages (32 characters or more); left out:
	// the one from before. Never shown
	Secret string `json:"secret,omitempty"`
}

// Trial is what became of a message that was sent to try a channel.
type Trial struct {
	Sent bool   `json:"sent" required:"true"`
	Why  string `json:"why,omitempty"` // why it was not
}

// Notice is one that was made, and what became of it.
type Notice struct {
	notice.Item
	State string `json:"state" required:"true" enum:"waiting,sent,failed"` // failed: over some channel it never went
	Over  string `json:"over" required:"true"`                             // the channels
	Error string `json:"error,omitempty"`                                  // of the last try
}

// NoticeFilter narrows a list of notices.
type NoticeFilter struct {
	Rule string `query:"rule" json:"-"`
	Slot string `query:"slot" json:"-" description:"DEVICE/SLOT"`
}

// Rule says about which slots somebody is told.
type Rule struct {
	Name string `json:"name" required:"true"`
	notice.Rule
	Revision Revision `json:"revision" required:"true"`
}

// Revised returns how often people changed it.
func (r Rule) Revised() Revision { return r.Revision }

// Acknowledgement is that somebody knows of a slot.
type Acknowledgement struct {
	Slot   string    `json:"slot" required:"true"` // DEVICE/SLOT
	By     string    `json:"by" required:"true"`
	Reason string    `json:"reason" required:"true"`
	At     time.Time `json:"at" required:"true"`
	Until  time.Time `json:"until" required:"true"`
}

// AskAcknowledge is what somebody says who knows of a slot.
type AskAcknowledge struct {
	Reason string `json:"reason" required:"true"` // why no notice is needed of it
	Until  string `json:"until" required:"true"`  // a day such as 2027-01-31; at most a year away
}

// ChannelSetup says where a channel sends to.
type ChannelSetup struct {
	Kind    string `json:"kind" required:"true" enum:"mail,webhook,syslog"`
	Address string `json:"address,omitempty"` // of a mail or syslog server
	Port    int    `json:"port,omitempty"`
	// of mail and syslog; mail: starttls, syslog: tls where it is left out
	Security string `json:"security,omitempty" enum:"starttls,tls,plain"`
	// SHA-256 of the server's certificate; empty: one that the system trusts
	Pin  string `json:"pin,omitempty"`
	From string `json:"from,omitempty"` // of mail
	// of mail: for owners that have no address of their own
	To []string `json:"to,omitempty"`
	// of mail: the address of each owner
	Owners map[string]string `json:"owners,omitempty"`
	User   string            `json:"user,omitempty"` // of the mail server
	// of a webhook: HTTPS, or HTTP on the same machine
	URL string `json:"url,omitempty"`
}

// The kinds of channels.
const (
	MailChannel    = "mail"
	WebhookChannel = "webhook"
	SyslogChannel  = "syslog"
)
