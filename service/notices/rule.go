package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/notice"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/replacement"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/messages"
)

const mostRules = 200

// Rules returns all rules by name.
func (s *Service) Rules(ctx context.Context) ([]contract.Rule, error) {
	rows, err := s.store.Channels.Rules(ctx)
	out := []contract.Rule{}
	for _, row := range rows {
		out = append(out, contract.Rule{Name: row.Name, Rule: row.Terms.V, Revision: row.Revision})
	}
	return out, err
}

// Rule shows one rule.
func (s *Service) Rule(ctx context.Context, name string) (contract.Rule, error) {
	all, err := s.Rules(ctx)
	if err != nil {
		return contract.Rule{}, err
	}
	if i := slices.IndexFunc(all, func(r contract.Rule) bool { return r.Name == name }); i >= 0 {
		return all[i], nil
	}
	return contract.Rule{}, problem.New(problem.NotFound, "no rule for notices is called "+name, "", "",
		next.ListNoticeRules.On(""))
}

// SetRule sets a rule, a new one or one of a known revision.
func (s *Service) SetRule(ctx context.Context, name string, terms notice.Rule,
	known problem.Revision) (contract.Rule, error) {
	cannot := "the rule " + name + " was not set"
	if !naming.Label(name) {
		return contract.Rule{}, problem.Reject(cannot, fmt.Sprintf("%q is not a valid name", name), naming.Rule)
	}
	if err := terms.Check(); err != nil {
		return contract.Rule{}, problem.Reject(cannot, err.Error(), "correct it and try again")
	}
	for _, channel := range append(slices.Clone(terms.To), terms.Escalate...) {
		if _, err := s.store.Channels.Get(ctx, channel); err != nil {
			return contract.Rule{}, problem.Missing(err, next.ListChannels, "no channel is called %s", channel)
		}
	}
	all, err := s.store.Channels.Rules(ctx)
	if err != nil {
		return contract.Rule{}, err
	}
	before := messages.NoticeRule{Name: name}
	if i := slices.IndexFunc(all, func(r messages.NoticeRule) bool { return r.Name == name }); i >= 0 {
		before = all[i]
	} else if len(all) >= mostRules {
		return contract.Rule{}, problem.New(problem.Conflict, cannot, fmt.Sprintf("there are %d rules", mostRules),
			"remove one first", next.ListNoticeRules.On(""))
	}
	row := messages.NoticeRule{Name: name, AddedAt: s.moment()}
	row.Terms.V = terms
	if err := s.store.Channels.PutRule(ctx, row, known); err != nil {
		return contract.Rule{}, problem.Outdated(err)
	}
	audit.Differences(ctx, map[string]string{name: asText(before.Terms.V)}, map[string]string{name: asText(terms)})
	s.changed()
	return s.Rule(ctx, name)
}

func asText(r notice.Rule) string {
	text, _ := json.Marshal(r) // plain fields cannot fail
	return string(text)
}

// RemoveRule deletes a rule; what was made by it is sent all the same.
func (s *Service) RemoveRule(ctx context.Context, name string) error {
	return problem.Missing(s.store.Channels.RemoveRule(ctx, name), next.ListNoticeRules,
		"no rule for notices is called %s", name)
}

const longestKnown = 366 * 24 * time.Hour

// Acknowledge says that somebody knows of a slot: until a day nobody is notified, unless it gets worse.
func (s *Service) Acknowledge(ctx context.Context, device, slot string, a contract.AskAcknowledge,
	by string) (contract.Acknowledgement, error) {
	cannot := fmt.Sprintf("%s/%s is not acknowledged", device, slot)
	row, err := s.store.Notices.SlotForRules(ctx, device, slot)
	if err != nil {
		return contract.Acknowledgement{}, problem.Missing(err, next.ListSlots, "no slot %s/%s was read yet", device,
			slot)
	}
	until, err := time.Parse(time.DateOnly, a.Until)
	now := s.now()
	switch {
	case err != nil:
		return contract.Acknowledgement{}, problem.Reject(cannot, fmt.Sprintf("%q is not a day", a.Until),
			"write it as 2027-01-31", next.Give.On("until"))
	case !until.After(now) || until.Sub(now) > longestKnown:
		return contract.Acknowledgement{}, problem.Reject(cannot, a.Until+" is past, or more than a year away",
			"give a day within a year", next.Give.On("until"))
	case strings.TrimSpace(a.Reason) == "" || len(a.Reason) > 500:
		return contract.Acknowledgement{}, problem.Reject(cannot, "there is no reason, or one that is too long",
			"give a reason of at most 500 characters", next.Give.On("reason"))
	}
	rules, err := s.store.Channels.Rules(ctx)
	if err != nil {
		return contract.Acknowledgement{}, err
	}
	known := messages.Acknowledgement{SlotID: row.ID, By: by, Reason: strings.TrimSpace(a.Reason), At: s.moment(),
		Until: store.At(until), Worst: notice.None.Rank, Device: device, Slot: slot}
	told, err := s.asSlot(ctx, row, now)
	if err != nil {
		return contract.Acknowledgement{}, err
	}
	for _, r := range rules {
		known.Worst = min(known.Worst, r.Terms.V.StageOf(told, now).Rank)
	}
	if known.Worst == notice.None.Rank { // nobody is notified now: what it is counts
		known.Worst = told.Condition.Rank()
	}
	audit.Say(ctx, "until %s: %s", a.Until, known.Reason)
	return shown(known), s.store.Notices.Acknowledge(ctx, known)
}

// Withdraw takes an acknowledgement back.
func (s *Service) Withdraw(ctx context.Context, device, slot string) error {
	row, err := s.store.Notices.SlotForRules(ctx, device, slot)
	if err == nil {
		err = s.store.Notices.Withdraw(ctx, row.ID)
	}
	s.changed()
	return problem.Missing(err, next.ListSlots, "%s/%s is not acknowledged", device, slot)
}

func shown(a messages.Acknowledgement) contract.Acknowledgement {
	return contract.Acknowledgement{Slot: a.Device + "/" + a.Slot, By: a.By, Reason: a.Reason, At: a.At.Time,
		Until: a.Until.Time}
}

// Acknowledgements returns those that have not ended.
func (s *Service) Acknowledgements(ctx context.Context) ([]contract.Acknowledgement, error) {
	rows, err := s.store.Notices.Acknowledgements(ctx, s.moment())
	out := []contract.Acknowledgement{}
	for _, row := range rows {
		out = append(out, shown(row))
	}
	return out, err
}

// asSlot returns a row as rules see it.
func (s *Service) asSlot(ctx context.Context, row messages.SlotForRules, at time.Time) (notice.Slot, error) {
	out := notice.Slot{Device: row.Device, Name: row.Name, Site: row.Site, Family: row.Family, Owner: row.Owner,
		Tags: row.Tags.V, Expires: row.NotAfter.Time, ActBy: row.Overdue.Time, Subject: row.Subject}
	out.Condition = due.State{Base: row.Base, Overdue: row.Overdue.Time, Due: row.Due.Time}.At(row.NotAfter.Time, at)
	if row.Base == due.Unreachable {
		out.Expires = time.Time{}
	}
	if worst := append(finding.Errors(row.Findings.V), row.Findings.V...); len(worst) > 0 {
		out.Why, out.Remedy = worst[0].What+"; "+worst[0].Why, worst[0].Remedy
	}
	switch out.Condition {
	case due.Expired:
		out.Why, out.Remedy = "the certificate expired on "+out.Expires.Format(time.DateOnly)+"; clients reject it",
			"replace it now"
	case due.Overdue, due.Due:
		out.Why, out.Remedy = "the certificate expires on "+out.Expires.Format(time.DateOnly),
			"begin its replacement by "+out.ActBy.Format(time.DateOnly)
		if out.Condition == due.Overdue {
			out.Remedy = "begin its replacement now: the time that it takes is hardly left"
		}
	case due.Unexpected:
		out.Why, out.Remedy = "it serves another certificate than the one that was installed; somebody else "+
			"changed it", "find out who changed it; replace it, or accept what is served"
	case due.Fresh:
		out.Why, out.Remedy = "the certificate expires on "+out.Expires.Format(time.DateOnly), "plan its replacement"
	}
	if row.InstalledAt.IsZero() || at.Sub(row.InstalledAt.Time) > longAfter {
		return out, nil
	}
	after, err := s.store.Replacements.Aftermath(ctx, row.ID, due.Aftermath)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return out, nil
	case err != nil:
		return out, err
	}
	changed := finding.AfterSeal(row.Device+"/"+row.Name, replacement.Name(after.ReplacementID),
		after.ChangedAt.Sub(after.SealedAt.Time), string(after.Became), after.Revertible())
	out.Replacement = replacement.Name(after.ReplacementID)
	out.Why, out.Remedy = strings.TrimSuffix(changed.What+": "+out.Why, ": "), changed.Remedy
	return out, nil
}

// longAfter is how long after a seal what changed because of it is still told of as such.
const longAfter = 7 * 24 * time.Hour
