package contract

import (
	"freshseal/core/judgement/notice"
	"time"
)

// Channel is where messages go, without its secret.
type Channel struct {
	Name string `json:"name" required:"true"`
	ChannelSetup
	Secret   bool     `json:"has_secret" required:"true" description:"the password of the mail server, or the key that signs a webhook's messages"`
	Revision Revision `json:"revision" required:"true"`
}

// Revised is how often people changed it.
func (c Channel) Revised() Revision { return c.Revision }

// NewChannel sets a channel.
type NewChannel struct {
	ChannelSetup
	Secret string `json:"secret,omitempty" description:"the password of the mail server, or the key that signs a webhook's messages (32 characters or more); left out: the one from before. Never shown"`
}

// Trial is what became of a message that was sent to try a channel.
type Trial struct {
	Sent bool   `json:"sent" required:"true"`
	Why  string `json:"why,omitempty" description:"why it was not"`
}

// Notice is one that was made, and what became of it.
type Notice struct {
	notice.Item
	State string `json:"state" required:"true" enum:"waiting,sent,failed" description:"failed: over some channel it never went"`
	Over  string `json:"over" required:"true" description:"the channels"`
	Error string `json:"error,omitempty" description:"of the last try"`
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

// Revised is how often people changed it.
func (r Rule) Revised() Revision { return r.Revision }

// Acknowledgement is that somebody knows of a slot.
type Acknowledgement struct {
	Slot   string    `json:"slot" required:"true" description:"DEVICE/SLOT"`
	By     string    `json:"by" required:"true"`
	Reason string    `json:"reason" required:"true"`
	At     time.Time `json:"at" required:"true"`
	Until  time.Time `json:"until" required:"true"`
}

// AskAcknowledge is what somebody says who knows of a slot.
type AskAcknowledge struct {
	Reason string `json:"reason" required:"true" description:"why no notice is needed of it"`
	Until  string `json:"until" required:"true" description:"a day such as 2027-01-31; at most a year away"`
}

// ChannelSetup says where a channel sends to.
type ChannelSetup struct {
	Kind     string            `json:"kind" required:"true" enum:"mail,webhook,syslog"`
	Address  string            `json:"address,omitempty" description:"of a mail or syslog server"`
	Port     int               `json:"port,omitempty"`
	Security string            `json:"security,omitempty" enum:"starttls,tls,plain" description:"of mail and syslog; mail: starttls, syslog: tls where it is left out"`
	Pin      string            `json:"pin,omitempty" description:"SHA-256 of the server's certificate; empty: one that the system trusts"`
	From     string            `json:"from,omitempty" description:"of mail"`
	To       []string          `json:"to,omitempty" description:"of mail: for owners that have no address of their own"`
	Owners   map[string]string `json:"owners,omitempty" description:"of mail: the address of each owner"`
	User     string            `json:"user,omitempty" description:"of the mail server"`
	URL      string            `json:"url,omitempty" description:"of a webhook: HTTPS, or HTTP on the same machine"`
}

// The kinds of channels.
const (
	MailChannel    = "mail"
	WebhookChannel = "webhook"
	SyslogChannel  = "syslog"
)
