package contract

import "freshseal/core/next"

// Problem is the body of every error answer (RFC 9457).
type Problem struct {
	Type   string `json:"type" required:"true"`
	Title  string `json:"title" required:"true"` // what went wrong
	Status int    `json:"status" required:"true"`
	Detail string `json:"detail,omitempty"` // why
	Next   string `json:"next,omitempty"`   // what to do next, in words

	Actions []next.Action `json:"actions,omitempty"` // what a person can do next, the best first

	Instance string `json:"instance,omitempty"` // the request's id, as the log has it
}
