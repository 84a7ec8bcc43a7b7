package fleet

import (
	"context"
	"slices"
	"strings"
	"time"

	"freshseal/core/cert"
	"freshseal/core/due"
	"freshseal/core/finding"
	"freshseal/core/judge"
	"freshseal/core/next"
	"freshseal/core/pack"
	"freshseal/service/problem"
	"freshseal/service/watch"
	"freshseal/store"
)

// Slot is a slot as the API shows it; see the design's contracts.
type Slot struct {
	Device        string            `json:"device" required:"true"`
	Name          string            `json:"name" required:"true"`
	Site          string            `json:"site" required:"true"`
	Address       string            `json:"address" required:"true"`
	Port          int               `json:"port" required:"true"`
	Others        []judge.Other     `json:"others" required:"true" description:"what its further addresses and its device's nodes serve"`
	Protocol      string            `json:"protocol" required:"true"`
	ServerName    string            `json:"server_name" required:"true"`
	Condition     due.Condition     `json:"condition" required:"true" enum:"dark,lapsed,stray,factory,flawed,overdue,due,fresh"`
	Findings      []finding.Finding `json:"findings" required:"true"`
	ExpiresAt     *time.Time        `json:"expires_at"`
	ExpiresInDays *int              `json:"expires_in_days"`
	ActBy         *time.Time        `json:"act_by"`
	ReadAt        *time.Time        `json:"read_at"`
	Audiences     []string          `json:"audiences,omitempty" description:"the groups of clients that use the slot; none: the fleet"`
	ClientUse     bool              `json:"client_use,omitempty" description:"the device also connects to others with this certificate, as a TLS client"`
	Identity      string            `json:"identity,omitempty" description:"outer identity, where it is read by EAP"`
	Version       string            `json:"version,omitempty"`
	Suite         string            `json:"suite,omitempty"`
	Closer        *judge.Closer     `json:"closer,omitempty" description:"what the last closer look showed: a second certificate, the clock, the stapled OCSP response"`
	Certificate   *cert.Facts       `json:"certificate,omitempty"`
	Chain         []watch.Link      `json:"chain,omitempty"`
	Trust         []watch.Trust     `json:"trust,omitempty" description:"which audiences trust this chain, and what the others lack"`
	Subject       string            `json:"subject,omitempty"`
	Replaceable   bool              `json:"replaceable" required:"true"`
}

// summary shows a slot by what its row says, without looking at certificates.
func (s *Service) summary(row store.Slot) Slot {
	out := Slot{Device: row.Device, Name: row.Name, Site: row.Site, Address: row.Address, Port: row.Port,
		Protocol: row.Protocol, ServerName: row.ServerName, Others: append([]judge.Other{}, row.Others.V...), Findings: finding.On(row.Device+"/"+row.Name, row.Findings.V), Identity: row.Identity, Audiences: row.Audiences.V, ClientUse: row.ClientUse, Version: row.Version, Suite: row.Suite, Subject: row.Subject}
	if !row.ReadAt.IsZero() {
		out.ReadAt = &row.ReadAt.Time
	}
	now := s.now()
	if len(row.Chain.V) > 0 {
		days := int(row.NotAfter.Sub(now).Hours() / 24) // towards zero: three days ago is -3
		out.ExpiresAt, out.ExpiresInDays, out.ActBy = &row.NotAfter.Time, &days, &row.OverdueFrom.Time
	}
	out.Condition = due.Standing{Base: row.Standing, Overdue: row.OverdueFrom.Time, Due: row.DueFrom.Time}.At(row.NotAfter.Time, now)
	return out
}

// Slot shows one slot with its chain and what is wrong with it.
func (s *Service) Slot(ctx context.Context, device, name string) (Slot, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return Slot{}, err
	}
	out := s.summary(row)
	d, err := s.store.Device(ctx, device)
	if err != nil {
		return out, err
	}
	out.Replaceable, out.Closer = d.Family != "", row.Closer.V
	after, err := s.watch.Aftermath(ctx, row, out.Condition)
	if err != nil {
		return out, err
	}
	out.Findings = slices.Insert(out.Findings, 0, after...)
	served, err := s.store.Certificates(ctx, row.Chain.V)
	if err != nil || len(served) == 0 {
		return out, err
	}
	p, err := s.watch.Pools(ctx)
	if err != nil {
		return out, err
	}
	trusting, err := s.watch.Trusting(ctx, p)
	facts := served[0].Facts()
	out.Certificate, out.Chain, out.Trust = &facts, watch.Draw(p.Path(served, s.now()), served), trusting.Of(served, s.now())
	return out, err
}

// Chain writes the chain of a slot, completed from what is known, in the form and encoding that are asked for.
func (s *Service) Chain(ctx context.Context, device, name string, form pack.Form, encoding pack.Encoding) ([]byte, error) {
	const cannot = "the chain was not written"
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return nil, err
	}
	if len(row.Chain.V) == 0 {
		return nil, problem.New(problem.Conflict, cannot, "the slot could not be read", "read it", next.ShowSlot.On(device+"/"+name))
	}
	served, err := s.store.Certificates(ctx, row.Chain.V)
	if err != nil {
		return nil, err
	}
	p, err := s.watch.Pools(ctx)
	if err != nil {
		return nil, err
	}
	content, err := pack.Write(form, pack.Dress{Encoding: encoding}, p.Path(served, s.now()), nil)
	if err != nil {
		return nil, problem.Reject(cannot, err.Error(), "choose another form or encoding, or take in what is missing")
	}
	return content, nil
}

// Known is a certificate that was seen or made here.
type Known struct {
	Certificate cert.Facts    `json:"certificate" required:"true"`
	Chain       []watch.Link  `json:"chain" required:"true" description:"as it is completed from what is known"`
	Trust       []watch.Trust `json:"trust" required:"true" description:"which audiences trust it, and what the others lack"`
}

// Certificate shows a certificate by its SHA-256.
func (s *Service) Certificate(ctx context.Context, sha256 string) (Known, error) {
	found, err := s.store.ChainOf(ctx, strings.ToLower(sha256))
	if err != nil {
		return Known{}, problem.Missing(err, next.ListSlots, "no certificate with the SHA-256 %s is known", sha256)
	}
	p, err := s.watch.Pools(ctx)
	if err != nil {
		return Known{}, err
	}
	trusting, err := s.watch.Trusting(ctx, p)
	return Known{found[0].Facts(), watch.Draw(p.Path(found, s.now()), found), trusting.Of(found, s.now())}, err
}

func (s *Service) SlotRow(ctx context.Context, device, name string) (store.Slot, error) {
	row, err := s.store.Slot(ctx, device, name)
	return row, problem.Missing(err, next.ListSlots, "there is no slot %s/%s", device, name)
}

// ReadSlot reads a slot now, records what was seen and shows it.
func (s *Service) ReadSlot(ctx context.Context, device, name string) (Slot, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return Slot{}, err
	}
	if _, err := s.watch.ReadCloser(ctx, row); err != nil {
		return Slot{}, err
	}
	return s.Slot(ctx, device, name)
}
