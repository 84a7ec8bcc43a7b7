package contract

import "freshseal/core/next"

// Problem is the body of every error answer (RFC 9457).
type Problem struct {
	Type   string `json:"type" required:"true"`
	Title  string `json:"title" required:"true" description:"what went wrong"`
	Status int    `json:"status" required:"true"`
	Detail string `json:"detail,omitempty" description:"why"`
	Next   string `json:"next,omitempty" description:"what to do next, in words"`

	Actions []next.Action `json:"actions,omitempty" description:"what a person can do next, the best first"`

	Instance string `json:"instance,omitempty" description:"the request's id, as the log has it"`
}
