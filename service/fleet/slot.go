package fleet

import (
	"context"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/next"
	"freshseal/core/pki/pack"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// summary shows a slot by what its row says, without looking at certificates.
func (s *Service) summary(row store.Slot) contract.Slot {
	out := contract.Slot{Device: row.Device, Name: row.Name, Site: row.Site, Address: row.Address, Port: row.Port,
		Protocol: row.Protocol, ServerName: row.ServerName, Others: append([]judge.Other{}, row.Others.V...),
		Findings: finding.On(row.Device+"/"+row.Name, row.Findings.V), Identity: row.Identity,
		TrustGroups: row.TrustGroups.V, ClientUse: row.ClientUse, Version: row.Version, Suite: row.Suite,
		Subject: row.Subject, Issuer: row.Issuer, KeyType: row.KeyType, Signature: row.Signature}
	if !row.ReadAt.IsZero() {
		out.ReadAt = &row.ReadAt.Time
	}
	now := s.now()
	if len(row.Chain.V) > 0 {
		days := int(row.NotAfter.Sub(now).Hours() / 24) // towards zero: three days ago is -3
		out.ExpiresAt, out.ExpiresInDays, out.ActBy = &row.NotAfter.Time, &days, &row.OverdueFrom.Time
	}
	out.Condition = due.State{Base: row.Base, Overdue: row.OverdueFrom.Time,
		Due: row.DueFrom.Time}.At(row.NotAfter.Time, now)
	return out
}

// Slot shows one slot with its chain and what is wrong with it.
func (s *Service) Slot(ctx context.Context, device, name string) (contract.Slot, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return contract.Slot{}, err
	}
	out := s.summary(row)
	d, err := s.store.Devices.Get(ctx, device)
	if err != nil {
		return out, err
	}
	out.Replaceable, out.Closer = d.Family != "", row.Closer.V
	after, err := s.monitor.Aftermath(ctx, row, out.Condition)
	if err != nil {
		return out, err
	}
	out.Findings = slices.Insert(out.Findings, 0, after...)
	served, err := s.store.Chains.Certificates(ctx, row.Chain.V)
	if err != nil || len(served) == 0 {
		return out, err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return out, err
	}
	trusting, err := s.monitor.Trusting(ctx, p)
	facts := served[0].Facts()
	out.Certificate, out.Chain, out.Trust = &facts, monitor.Draw(p.Path(served, s.now()), served),
		trusting.Of(served, s.now())
	return out, err
}

// Chain writes the chain of a slot, completed from what is known, in the form and encoding that are asked for.
func (s *Service) Chain(ctx context.Context, device, name string, form pack.Form,
	encoding pack.Encoding) ([]byte, error) {
	const cannot = "the chain was not written"
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return nil, err
	}
	if len(row.Chain.V) == 0 {
		return nil, problem.New(problem.Conflict, cannot, "the slot could not be read", "read it",
			next.ShowSlot.On(device+"/"+name))
	}
	served, err := s.store.Chains.Certificates(ctx, row.Chain.V)
	if err != nil {
		return nil, err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return nil, err
	}
	content, err := pack.Write(form, pack.Options{Encoding: encoding}, p.Path(served, s.now()), nil)
	if err != nil {
		return nil, problem.Reject(cannot, err.Error(), "choose another form or encoding, or take in what is missing")
	}
	return content, nil
}

// Certificate shows a certificate by its SHA-256.
func (s *Service) Certificate(ctx context.Context, sha256 string) (contract.KnownDefault, error) {
	found, err := s.store.Chains.Of(ctx, strings.ToLower(sha256))
	if err != nil {
		return contract.KnownDefault{}, problem.Missing(err, next.ListSlots, "no certificate with the SHA-256 "+
			"%s is known", sha256)
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return contract.KnownDefault{}, err
	}
	trusting, err := s.monitor.Trusting(ctx, p)
	return contract.KnownDefault{Certificate: found[0].Facts(), Chain: monitor.Draw(p.Path(found, s.now()), found),
		Trust: trusting.Of(found, s.now())}, err
}

func (s *Service) SlotRow(ctx context.Context, device, name string) (store.Slot, error) {
	row, err := s.store.Slots.Get(ctx, device, name)
	return row, problem.Missing(err, next.ListSlots, "there is no slot %s/%s", device, name)
}

// ReadSlot reads a slot now, records what was seen and shows it.
func (s *Service) ReadSlot(ctx context.Context, device, name string) (contract.Slot, error) {
	row, err := s.SlotRow(ctx, device, name)
	if err != nil {
		return contract.Slot{}, err
	}
	if _, err := s.monitor.ReadCloser(ctx, row); err != nil {
		return contract.Slot{}, err
	}
	return s.Slot(ctx, device, name)
}
