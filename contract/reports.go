package contract

import (
	"time"

	"freshseal/core/judgement/due"
	"freshseal/core/replacement"
)

// SiteCount is how many slots of a batch a site has.
type SiteCount struct {
	Site  string `json:"site" required:"true"`
	Count int    `json:"count" required:"true"`
}

// Expiries is when certificates end: by month and condition, and by week and site.
type Expiries struct {
	// this one and the 23 after it; what has ended counts into the month in which it did, or into the first one
	Months []ExpiryMonth `json:"months" required:"true"`
	Weeks  []time.Time   `json:"weeks" required:"true"` // the first days of the next 26 weeks
	// those where a certificate ends in these weeks, or has, the fullest first
	Sites []ExpirySite `json:"sites" required:"true"`
}

// ExpiryMonth is a month.
type ExpiryMonth struct {
	Month      string                `json:"month" required:"true"` // 2027-03
	Ended      bool                  `json:"ended" required:"true"` // it stands for all that ended before this month
	Conditions map[due.Condition]int `json:"conditions" required:"true"`
}

// ExpirySite is a site.
type ExpirySite struct {
	Site  string `json:"site" required:"true"`
	Ended int    `json:"ended" required:"true"`
	Weeks []int  `json:"weeks" required:"true"`
}

// Expiring is something besides the leaves of slots that ends by itself.
type Expiring struct {
	Kind   string    `json:"kind" required:"true" enum:"intermediate,root,domain,token,calendar,order"`
	Name   string    `json:"name" required:"true"`
	EndsAt time.Time `json:"ends_at" required:"true"`
	Days   int       `json:"days" required:"true"`
	Slots  int       `json:"slots" required:"true"` // whose path it is on
	SHA256 string    `json:"sha256,omitempty"`
	Of     string    `json:"of,omitempty"` // the signer of a domain's validation, the user of a token
	Remedy string    `json:"remedy" required:"true"`
}

// Figures are what a monitoring system is told.
type Figures struct {
	Slots        map[SiteCondition]int
	FirstEnd     map[string]time.Time // by site
	Replacements map[replacement.State]int
	WaitingFor   map[replacement.WaitingFor]int
	Tasks        int // open
	PendingPins  int
	LateParcels  int
	DueReadings  int // slots whose reading is due
	Readings     Tally
	At           time.Time
}

// SiteCondition is a site with one of the conditions.
type SiteCondition struct {
	Site      string
	Condition due.Condition
}

// Forecast is how many replacements are to come.
type Forecast struct {
	Site  string         `json:"site,omitempty"`        // empty: the whole fleet
	Slots int            `json:"slots" required:"true"` // that serve a certificate
	Weeks []ForecastWeek `json:"weeks" required:"true"`
	Years []ForecastYear `json:"years" required:"true"` // calendar years; the first and the last are parts of one
	Sites []ForecastSite `json:"sites" required:"true"` // the whole period, the busiest first
	Took  []Took         `json:"took" required:"true"`  // how long sealed replacements of the last year took, by hand
	// the longest lives of publicly trusted certificates that are counted with
	Rules []Maximum `json:"rules" required:"true"`
}

// ForecastWeek is a week that begins on a day.
type ForecastWeek struct {
	Begins time.Time `json:"begins" required:"true"`
	Today  Hands     `json:"today" required:"true"`  // if certificates live as long as now
	Coming Hands     `json:"coming" required:"true"` // under the coming longest lives
}

// ForecastYear is a calendar year.
type ForecastYear struct {
	Year   int   `json:"year" required:"true"`
	Weeks  int   `json:"weeks" required:"true"` // of the forecast that are in it
	Today  Hands `json:"today" required:"true"`
	Coming Hands `json:"coming" required:"true"`
	// of people, for guided replacements and those without a procedure; by the median of those that were done
	HoursToday   float64 `json:"hours_a_week_today" required:"true"`
	HoursComing  float64 `json:"hours_a_week_coming" required:"true"`
	PeopleComing float64 `json:"people_coming" required:"true"` // with 20 hours a week each
}

// ForecastSite is a site.
type ForecastSite struct {
	Site   string `json:"site" required:"true"`
	Today  int    `json:"today" required:"true"`
	Coming int    `json:"coming" required:"true"`
}

// Hands are numbers of replacements, by what it takes.
type Hands struct {
	Automatic int `json:"automatic" required:"true"`
	Guided    int `json:"guided" required:"true"`
	Outside   int `json:"outside" required:"true"` // of devices without a procedure
}

// Took is how long replacements of a hand took.
type Took struct {
	Hand  due.Hand `json:"hand" required:"true" enum:"automatic,guided"`
	Count int      `json:"count" required:"true"`
	// from the beginning to the seal, waiting included
	Minutes       float64 `json:"median_minutes" required:"true"`
	PersonMinutes float64 `json:"median_person_minutes" required:"true"` // in which a step by hand was open
}

// Maximum is the longest life of publicly trusted certificates from a day on.
type Maximum struct {
	From time.Time `json:"from" required:"true"`
	Days int       `json:"days" required:"true"`
}

// Overview is a summary of the fleet.
type Overview struct {
	Slots       int                            `json:"slots" required:"true"`
	Conditions  map[due.Condition]int          `json:"conditions" required:"true"`
	UnderWay    int                            `json:"under_way" required:"true"`
	Waiting     int                            `json:"waiting" required:"true"`
	WaitingFor  map[replacement.WaitingFor]int `json:"waiting_for" required:"true"` // how many wait for whom
	Held        int                            `json:"held" required:"true"`
	PendingPins int                            `json:"pending_pins" required:"true"` // how many pins are not confirmed
	// how many requests of each signer are in no parcel yet
	Unpacked map[string]int `json:"unpacked" required:"true"`
	// parcels whose signer should have answered by now
	Late []Parcel `json:"late" required:"true"`
	// how far the fleet has been judged again since a change of policy or trust
	Judging *Judging `json:"judging,omitempty"`
	// how many certificates end in this month and the eleven after it
	Ends []Ends `json:"ends" required:"true"`
}

// Ends is how many certificates end in a month.
type Ends struct {
	Month string `json:"month" required:"true"` // 2026-11
	Count int    `json:"count" required:"true"`
}

// AskReport says which report is wanted. Days are such as 2026-11-27, in UTC.
type AskReport struct {
	Kind  string
	Form  string // csv, xlsx or html; empty: csv
	Day   string // of the state; empty: today
	From  string // the first day of a period; empty: thirty days before its last
	Until string // its last day; empty: today
	Site  string // empty: everywhere
}
