package report

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/policy"
	"freshseal/core/replacement"
	"freshseal/service/problem"
	"freshseal/service/sheet"
	"freshseal/store"
)

// Reports are the kinds of report.
var Reports = []string{"state", "replaced", "exceptions"}

const (
	reportAtOnce = 2000
	usualPeriod  = 30
)

// Report makes a report: the state of the fleet as of the end of a day, what was replaced in a period, or what is
// excepted and why.
func (s *Service) Report(ctx context.Context, ask contract.AskReport) (sheet.File, error) {
	const cannot = "there is no report"
	until, err := s.day(ask.Until)
	day, err2 := s.day(ask.Day)
	from := until.AddDate(0, 0, -usualPeriod)
	var err3 error
	if ask.From != "" {
		from, err3 = s.day(ask.From)
	}
	if err != nil || err2 != nil || err3 != nil {
		return sheet.File{}, problem.Reject(cannot, "a day is not one", "write days as 2026-11-27")
	}
	if until.Before(from) {
		return sheet.File{}, problem.Reject(cannot, "the period ends before it begins", "exchange the two days")
	}
	t := sheet.Table{Of: "Fresh Seal, " + s.now().Format("2006-01-02 15:04 UTC")}
	if ask.Site != "" {
		t.Of += ", " + ask.Site
	}
	switch ask.Kind {
	case "state":
		t.Name, t.Title = "state-"+day.Format(time.DateOnly), "State of the fleet at the end of "+
			day.Format(time.DateOnly)
		t.Rows, err = s.stateThen(ctx, day.AddDate(0, 0, 1), ask.Site)
	case "replaced":
		t.Name = "replaced-" + from.Format(time.DateOnly) + "-" + until.Format(time.DateOnly)
		t.Title = "Certificates replaced from " + from.Format(time.DateOnly) + " to " + until.Format(time.DateOnly)
		t.Rows, err = s.replacedBetween(ctx, from, until.AddDate(0, 0, 1), ask.Site)
	case "exceptions":
		t.Name, t.Title = "exceptions-"+s.now().Format(time.DateOnly), "Exceptions as of "+s.now().Format(time.DateOnly)
		t.Rows, err = s.exceptions(ctx, ask.Site)
	default:
		return sheet.File{}, problem.Reject(cannot, fmt.Sprintf("no report is called %q", ask.Kind),
			fmt.Sprintf("give one of %v", Reports))
	}
	if err != nil {
		return sheet.File{}, err
	}
	return sheet.Write(ask.Form, t)
}

// day reads a day; today where it is empty.
func (s *Service) day(text string) (time.Time, error) {
	if text == "" {
		return s.now().Truncate(24 * time.Hour), nil
	}
	return time.Parse(time.DateOnly, text)
}

// stateThen returns what every slot served before a moment.
func (s *Service) stateThen(ctx context.Context, then time.Time, site string) ([][]string, error) {
	out := [][]string{{"device", "slot", "site", "owner", "family", "condition", "certificate", "issuer", "expires",
		"days_left", "sha256", "since"}}
	then = then.Add(-time.Millisecond)
	for last := int64(0); ; {
		rows, err := s.store.Reports.StatesThen(ctx, store.At(then), last, reportAtOnce)
		if err != nil {
			return nil, err
		}
		for _, row := range rows {
			if last = row.SlotID; site != "" && row.Site != site {
				continue
			}
			record := []string{row.Device, row.Slot, row.Site, row.Owner, row.Family, string(row.Condition), "", "",
				"", "", "", ""}
			if !row.At.IsZero() {
				record[11] = row.At.Format(time.DateOnly)
			}
			if len(row.Chain.V) > 0 {
				served, err := s.store.Chains.Certificates(ctx, row.Chain.V[:1])
				if err != nil {
					return nil, err
				}
				leaf := served[0]
				record[6], record[7], record[8], record[10] = leaf.ShortName(), leaf.Issuer(),
					leaf.NotAfter.UTC().Format(time.DateOnly), leaf.SHA256
				record[9] = strconv.Itoa(int(leaf.NotAfter.Sub(then).Hours() / 24))
				if record[5] == "" { // no event reaches back so far: what the certificate itself says
					standing := due.StateOf(due.Facts{Read: true, NotBefore: leaf.NotBefore, NotAfter: leaf.NotAfter,
						SelfSigned: leaf.SelfSigned(), SHA256: leaf.SHA256}, policy.Default.Due())
					record[5] = string(standing.At(leaf.NotAfter, then))
				}
			} else if record[5] == "" {
				record[5] = string(due.Unreachable)
			}
			out = append(out, record)
		}
		if len(rows) < reportAtOnce {
			return out, nil
		}
	}
}

func (s *Service) replacedBetween(ctx context.Context, from, until time.Time, site string) ([][]string, error) {
	rows, err := s.store.Reports.SealedBetween(ctx, store.At(from), store.At(until), site)
	out := [][]string{{"replacement", "device", "slot", "site", "owner", "signer", "old_sha256", "new_sha256",
		"asked_by", "approved_by", "started", "sealed"}}
	for _, r := range rows {
		approved := r.ApprovedBy
		if approved == "" {
			approved = "not required"
		}
		out = append(out, []string{replacement.Name(r.ID), r.Device, r.Slot, r.Site, r.Owner, r.Signer, r.Old, r.New,
			r.AskedBy, approved, r.StartedAt.Format("2006-01-02 15:04"), r.SealedAt.Format("2006-01-02 15:04")})
	}
	return out, err
}

// exceptions returns what somebody allowed or put off.
func (s *Service) exceptions(ctx context.Context, site string) ([][]string, error) {
	out := [][]string{{"what", "of", "site", "by", "since", "until", "reason"}}
	known, err := s.store.Notices.Acknowledgements(ctx, s.moment())
	if err != nil {
		return nil, err
	}
	at := func(device string) string {
		d, err := s.store.Devices.Get(ctx, device)
		if err != nil {
			return ""
		}
		return d.Site
	}
	for _, a := range known {
		out = append(out, []string{"acknowledged", a.Device + "/" + a.Slot, at(a.Device), a.By,
			a.At.Format(time.DateOnly), a.Until.Format(time.DateOnly), a.Reason})
	}
	policies, err := s.monitor.Policies(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range policies {
		if policy.Is(p.Rules.WeakKeys) {
			device := p.Scope[len("device/"):]
			out = append(out, []string{"weak keys allowed", device, at(device), "", "", "", "the policy of the device"})
		}
	}
	sites, err := s.store.Sites.List(ctx)
	if err != nil {
		return nil, err
	}
	for _, each := range sites {
		if each.Paused {
			out = append(out, []string{"site paused", each.Name, each.Name, "", "", "", "its slots are read only " +
				"when asked"})
		}
	}
	if site != "" {
		out = append(out[:1], slices.DeleteFunc(out[1:], func(row []string) bool { return row[2] != site })...)
	}
	return out, nil
}
