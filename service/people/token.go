package people

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
)

// Tokens are what programs sign in with.
type Tokens struct{ *Service }

// Limits of tokens.
const (
	tokenID          = 12  // how much of a token's digest names it
	mostTokenDays    = 730 // that one holds
	mostOverlap      = 168 // hours in which the old and the new secret both hold
	mostNetworks     = 32
	mostLabel        = 100 // bytes
	tokenNotMade     = "the token was not made"
	tokenNotReplaced = "the token was not rotated"
)

// Add creates a token for a program, for the user who asks.
func (s Tokens) Add(ctx context.Context, n contract.NewToken, by Bearer) (contract.Token, error) {
	networks, err := checkNetworks(n.Networks)
	switch {
	case err != nil:
		return contract.Token{}, err
	case !slices.Contains(contract.Roles, n.Role):
		return contract.Token{}, problem.Reject(tokenNotMade, fmt.Sprintf("no role is called %q", n.Role),
			fmt.Sprintf("give one of %v", contract.Roles), next.Give.On("role"))
	case n.Days < 1 || n.Days > mostTokenDays || n.Label == "" || len(n.Label) > mostLabel:
		return contract.Token{}, problem.Reject(tokenNotMade, "its label or its validity is invalid",
			fmt.Sprintf("give a label of up to %d bytes, and 1 to %d days", mostLabel, mostTokenDays))
	}
	u, err := s.store.Users.Get(ctx, by.User)
	if err != nil {
		return contract.Token{}, err
	}
	session := accounts.Session{Kind: "client", How: "token", Role: string(n.Role), Label: n.Label, Final: n.Final,
		EndsAt: store.At(s.now().AddDate(0, 0, n.Days))}
	session.Networks.V = networks
	audit.Say(ctx, "%q as %s for %d days", n.Label, n.Role, n.Days)
	if len(networks) > 0 {
		audit.Say(ctx, "from %v", networks)
	}
	if n.Final {
		audit.Say(ctx, "for what cannot be taken back, too")
	}
	return s.made(ctx, u, session)
}

// checkNetworks returns networks as they are compared; an address is a network of one.
func checkNetworks(texts []string) ([]string, error) {
	out := []string{}
	for _, text := range texts {
		n, err := netip.ParsePrefix(text)
		if at, single := netip.ParseAddr(text); single == nil && at.Zone() == "" {
			n, err = netip.PrefixFrom(at, at.BitLen()), nil
		}
		if err != nil || n.Addr().Is4In6() {
			return nil, problem.Reject(tokenNotMade, fmt.Sprintf("%.60q is not a network", text),
				"give networks such as 192.0.2.0/24, or addresses", next.Give.On("networks"))
		}
		out = append(out, n.Masked().String())
	}
	if len(out) > mostNetworks {
		return nil, problem.Reject(tokenNotMade, fmt.Sprintf("%d networks are given", len(out)),
			fmt.Sprintf("give up to %d", mostNetworks), next.Give.On("networks"))
	}
	return out, nil
}

func (s Tokens) made(ctx context.Context, u accounts.User, session accounts.Session) (contract.Token, error) {
	b, err := s.openSession(ctx, u, session)
	if err != nil {
		return contract.Token{}, err
	}
	session.SHA256, session.User = digest(b.Secret), u.Name
	out := showToken(session)
	out.Secret = b.Secret
	return out, nil
}

func showToken(row accounts.Session) contract.Token {
	out := contract.Token{ID: row.SHA256[:tokenID], Label: row.Label, User: row.User, Role: contract.Role(row.Role),
		EndsAt: row.EndsAt.Time, Networks: row.Networks.V, Final: row.Final, SeenFrom: row.SeenFrom}
	if out.Networks == nil {
		out.Networks = []string{}
	}
	if !row.SeenAt.IsZero() {
		out.SeenAt = &row.SeenAt.Time
	}
	return out
}

// List returns all tokens that have not ended.
func (s Tokens) List(ctx context.Context) ([]contract.Token, error) {
	rows, err := s.store.Sessions.Tokens(ctx, s.moment())
	out := make([]contract.Token, 0, len(rows))
	for _, row := range rows {
		if row.Label == "" {
			continue // a client that somebody signed in with: see Sessions
		}
		last := s.used.last(row.SHA256, accounts.Seen{At: row.SeenAt, From: row.SeenFrom})
		row.SeenAt, row.SeenFrom = last.At, last.From
		out = append(out, showToken(row))
	}
	return out, err
}

// Rotate makes a token in the place of another one, with its label, role and networks. The old one goes on for
// some hours, so that a program is never without one.
func (s Tokens) Rotate(ctx context.Context, id string, n contract.TokenRotation) (contract.Token, error) {
	if n.Days < 1 || n.Days > mostTokenDays || n.Hours < 0 || n.Hours > mostOverlap {
		return contract.Token{}, problem.Reject(tokenNotReplaced, "its validity or its overlap is invalid",
			fmt.Sprintf("give 1 to %d days, and up to %d hours", mostTokenDays, mostOverlap))
	}
	rows, err := s.store.Sessions.Tokens(ctx, s.moment())
	if err != nil {
		return contract.Token{}, err
	}
	at := slices.IndexFunc(rows, func(row accounts.Session) bool {
		return row.Label != "" && len(id) == tokenID && row.SHA256[:tokenID] == id
	})
	if at < 0 {
		return contract.Token{}, problem.Missing(store.ErrNotFound, next.ListTokens, "no token is called %q", id)
	}
	old := rows[at]
	u, err := s.store.Users.Get(ctx, old.User)
	if err != nil {
		return contract.Token{}, err
	}
	fresh := accounts.Session{Kind: old.Kind, How: old.How, Role: old.Role, Label: old.Label, Final: old.Final,
		Networks: old.Networks, EndsAt: store.At(s.now().AddDate(0, 0, n.Days))}
	made, err := s.made(ctx, u, fresh)
	if err != nil {
		return made, err
	}
	ends := earlier(old.EndsAt.Time, s.now().Add(time.Duration(n.Hours)*time.Hour))
	audit.Say(ctx, "%q: %s in place of %s, which ends at %s", old.Label, made.ID, id, ends.Format(time.RFC3339))
	return made, s.store.Sessions.SetEnd(ctx, old.SHA256, store.At(ends))
}

// Remove revokes a token.
func (s Tokens) Remove(ctx context.Context, id string) error {
	err := store.ErrNotFound
	if len(id) == tokenID {
		err = s.store.Sessions.End(ctx, id)
	}
	return problem.Missing(err, next.ListTokens, "no token is called %q", id)
}
