package report

import (
	"context"
	"errors"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/service/problem"
	"freshseal/store"
)

// What else expires.
const (
	EndsIntermediate = "intermediate"
	EndsRoot         = "root"
	EndsDomain       = "domain"
	EndsToken        = "token"
	EndsCalendar     = "calendar"
	EndsOrder        = "order"
)

// SignedIn is the name of a token that somebody got by signing in with the client, and not for a program.
const SignedIn = "a client that signed in"

// Expiring lists what ends within some days, besides the leaves of slots: certificates above them that are
// in use, validations of domains, and where they may be seen, tokens of programs and calendars.
func (s *Service) Expiring(ctx context.Context, within int, tokens bool) ([]contract.Expiring, error) {
	if within < 0 || within > 36500 {
		return nil, problem.Reject("this cannot be listed", "the number of days must be from 0 to 36500",
			"give another one")
	}
	now, until := s.now(), s.now().AddDate(0, 0, within)
	out := []contract.Expiring{}
	add := func(e contract.Expiring) {
		if e.EndsAt.Before(until) {
			e.Days = int(e.EndsAt.Sub(now).Hours() / 24)
			out = append(out, e)
		}
	}
	for sha256, slots := range s.store.Reports.Uppers() {
		found, err := s.store.Chains.Certificates(ctx, []string{sha256})
		if errors.Is(err, store.ErrNotFound) {
			continue
		} else if err != nil {
			return nil, err
		}
		c := found[0]
		e := contract.Expiring{Kind: EndsIntermediate, Name: c.ShortName(), EndsAt: c.NotAfter.UTC(), Slots: slots,
			SHA256: sha256, Remedy: "ask the signer for its current intermediate, and replace what was signed by " +
				"this one before it ends"}
		if c.SelfSigned() {
			e.Kind, e.Remedy = EndsRoot, "ask the signer for its next root, and give it to the clients before "+
				"this one ends"
		}
		add(e)
	}
	signers, err := s.signing.Signers(ctx)
	if err != nil {
		return nil, err
	}
	days := map[string]int{}
	for _, each := range signers {
		days[each.Name] = each.Proof.Days
		if ends := each.Order.Ends(); !ends.IsZero() {
			add(contract.Expiring{Kind: EndsOrder, Name: strings.TrimSpace("order " + each.Order.Number),
				EndsAt: ends, Of: each.Name, Remedy: "order again before it ends; its requests are refused or " +
					"charged from then on"})
		}
	}
	proofs, err := s.store.Reports.Proofs(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range proofs {
		if n := days[p.Signer]; n > 0 {
			add(contract.Expiring{Kind: EndsDomain, Name: p.Domain, EndsAt: p.At.AddDate(0, 0, n), Of: p.Signer,
				Remedy: "the signer wants the domain proven again with the next request"})
		}
	}
	if tokens {
		sessions, err := s.store.Sessions.ThatEnd(ctx, s.moment())
		if err != nil {
			return nil, err
		}
		for _, row := range sessions {
			e := contract.Expiring{Kind: EndsToken, Name: row.Label, EndsAt: row.EndsAt.Time, Of: row.User,
				Remedy: "make a new token, give it to the program, and revoke this one"}
			if row.Kind == EndsCalendar {
				e.Kind, e.Remedy = EndsCalendar, "make a new calendar, and give its address to the calendar program"
			}
			if e.Name == "" {
				e.Name = SignedIn
				if e.Kind == EndsCalendar {
					e.Name = "the whole fleet"
				}
			}
			add(e)
		}
	}
	slices.SortFunc(out, func(a, b contract.Expiring) int { return a.EndsAt.Compare(b.EndsAt) })
	return out, nil
}
