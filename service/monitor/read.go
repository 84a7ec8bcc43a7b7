package monitor

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/judge"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/protocol"
	"freshseal/service/access"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/wire"
)

// Sight is what a slot serves: at its first address, and at the others.
type Sight struct {
	wire.Reading
	Others []judge.Other
}

// Places returns the addresses at which a slot is served: its own, further ones, and
// those of the device's nodes.
func Places(row store.SlotToRead) []judge.Other {
	out := []judge.Other{{Address: row.Address, Port: row.Port}}
	add := func(o judge.Other) {
		if !slices.ContainsFunc(out, func(known judge.Other) bool {
			return known.Address == o.Address && known.Port == o.Port
		}) {
			out = append(out, o)
		}
	}
	for _, p := range row.More.V {
		add(judge.Other{Address: p.Address, Port: p.Port})
	}
	for _, n := range row.Nodes.V {
		add(judge.Other{Address: n.Address, Port: row.Port, Node: n.Name})
	}
	return out
}

func (s *Service) targetOf(ctx context.Context, row store.SlotToRead, at judge.Other) wire.Target {
	t := wire.Target{Address: at.Address, Port: at.Port, Protocol: wire.Protocol(row.Protocol),
		ServerName: row.ServerName, Identity: row.Identity,
		Way: s.access.Way(row.Site), Site: row.Site, Gate: access.Readings{Service: s.access}}
	if t.Protocol.OverEAP() {
		var err error
		if t.Secret, err = s.access.SlotSecret(ctx, row.Device, row.Name); err != nil && ctx.Err() == nil {
			s.log.Error("opening a shared secret", "slot", row.Device+"/"+row.Name, "error", err)
		}
	}
	return t
}

// besides turns a reading of a further address into an Other.
func besides(at judge.Other, reading wire.Reading) judge.Other {
	if at.Failure = reading.Why; at.Failure == nil {
		at.SHA256, at.Subject = reading.Leaf().SHA256, reading.Leaf().ShortName()
	}
	return at
}

// Read reads a slot at all its addresses and keeps what was seen.
func (s *Service) Read(ctx context.Context, slot store.Slot) (Sight, error) {
	sight, err := s.sight(ctx, slot, wire.Target{})
	if err != nil {
		return sight, err
	}
	return sight, s.record(ctx, slot, sight)
}

// ReadAs reads the certificate that a slot serves to clients which take one kind of key alone. It is
// not kept: usual clients may get another one.
func (s *Service) ReadAs(ctx context.Context, slot store.Slot, kind cert.KeyKind) (Sight, error) {
	return s.sight(ctx, slot, wire.Target{Kind: kind})
}

// sight reads a slot at all its addresses as that says, closer at the first if wanted.
func (s *Service) sight(ctx context.Context, slot store.Slot, as wire.Target) (Sight, error) {
	var sight Sight
	row := slot.ToRead()
	for i, at := range Places(row) {
		t := s.targetOf(ctx, row, at)
		t.Closer, t.Kind = as.Closer && i == 0, as.Kind
		reading := s.reader.Read(ctx, t)
		if reading.Own != nil {
			return sight, cmp.Or(ctx.Err(), reading.Own)
		}
		if i == 0 {
			sight.Reading = reading
		} else {
			sight.Others = append(sight.Others, besides(at, reading))
		}
	}
	return sight, ctx.Err() // who asked may be gone: then what was seen says nothing of the slot
}

// ReadAddress reads an address that is not in the inventory; nothing is kept.
func (s *Service) ReadAddress(ctx context.Context, ask contract.AskReading) (contract.Seen, error) {
	about, known := protocol.Named(ask.Protocol)
	if ask.Port == 0 {
		ask.Port = about.Port
	}
	t := wire.Target{Address: ask.Address, Port: ask.Port, Protocol: about.Reads(), Closer: true,
		ServerName: request.PlainName(ask.ServerName), Identity: ask.Identity, Secret: []byte(ask.Secret)}
	switch {
	case !known:
		return contract.Seen{}, UnknownProtocol("this cannot be read", ask.Protocol)
	case request.AddressFlaw(t.Address) != "" || t.Port < 1 || t.Port > 65535:
		return contract.Seen{}, problem.Reject("this cannot be read", fmt.Sprintf("%q and %d are not an address "+
			"and a port", t.Address, t.Port), "write it as 192.0.2.1:443 or [2001:db8::1]:443")
	}
	audit.Say(ctx, "%s port %d as %q by %s", t.Address, t.Port, t.ServerName, t.Protocol)
	reading := s.reader.Read(ctx, t)
	if reading.Own != nil {
		return contract.Seen{}, reading.Own
	}
	out := contract.Seen{Address: t.Address, Port: t.Port, ServerName: t.ServerName, At: reading.At,
		Protocol: string(t.Protocol), Version: reading.Version, Suite: reading.Suite,
		Chain: []contract.Link{}, Findings: []finding.Finding{}, Failure: reading.Why}
	if reading.Why != nil {
		return out, nil
	}
	p, err := s.Pools(ctx)
	if err != nil {
		return out, err
	}
	out.Chain = Draw(p.Path(reading.Chain, s.now()), reading.Chain)
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return out, err
	}
	look := s.closely.meaning(*reading.Closer, reading.Chain)
	judged := judge.Slot{ServerName: t.ServerName, Version: reading.Version, Remarks: reading.Remarks, Closer: &look,
		Second: reading.Closer.Second}
	out.Findings = append(out.Findings, snapshot.Judge(reading.Chain, judged, s.now()).Findings...)
	return out, nil
}

// UnknownProtocol is the error for a protocol that cannot be read.
func UnknownProtocol(cannot, name string) error {
	var names []string
	for _, about := range protocol.All() {
		names = append(names, string(about.Name))
	}
	return problem.Reject(cannot, fmt.Sprintf("%q is not a protocol that can be read", name), "give one of "+
		strings.Join(names, ", "), next.Give.On("protocol"))
}

// Protocols returns those that slots can be read by.
func (s *Service) Protocols(context.Context) ([]contract.Protocol, error) {
	var out []contract.Protocol
	for _, a := range protocol.All() {
		out = append(out, contract.Protocol{Name: string(a.Name), Title: a.Title, Port: a.Port, OverEAP: a.OverEAP,
			Spoken: string(a.Spoken)})
	}
	return out, nil
}
