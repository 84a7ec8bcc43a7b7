package request

import (
	"fmt"
	"time"
)

// Order is a purchase by which a signer signs, often of several years: its number, who approved it, and until when it
// lasts.
type Order struct {
	Number     string `json:"number,omitempty"`
	ApprovedBy string `json:"approved_by,omitempty"`
	Until      string `json:"until,omitempty"`
}

// maxOrder bounds each text of an order, in bytes.
const maxOrder = 200

// Check returns what is wrong with an order; empty: nothing.
func (o Order) Check() string {
	if len(o.Number) > maxOrder || len(o.ApprovedBy) > maxOrder {
		return fmt.Sprintf("a text of the order is longer than %d characters", maxOrder)
	}
	if _, err := time.Parse(time.DateOnly, o.Until); o.Until != "" && err != nil {
		return fmt.Sprintf("%q is not a day such as 2028-06-30", o.Until)
	}
	return ""
}

// Ends returns when the order is over; zero: nobody said.
func (o Order) Ends() time.Time {
	last, err := time.Parse(time.DateOnly, o.Until)
	if err != nil {
		return time.Time{}
	}
	return last.AddDate(0, 0, 1)
}
