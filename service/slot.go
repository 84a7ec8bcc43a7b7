package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"freshseal/core/cert"
	"freshseal/core/chain"
	"freshseal/core/due"
	"freshseal/core/finding"
	"freshseal/core/judge"
	"freshseal/core/request"
	"freshseal/store"
	"freshseal/wire"
)

// Slot is a slot as the API shows it; see the design's contracts.
type Slot struct {
	Device        string            `json:"device" required:"true"`
	Name          string            `json:"name" required:"true"`
	Site          string            `json:"site" required:"true"`
	Address       string            `json:"address" required:"true"`
	Port          int               `json:"port" required:"true"`
	Protocol      string            `json:"protocol" required:"true"`
	ServerName    string            `json:"server_name" required:"true"`
	Condition     due.Condition     `json:"condition" required:"true" enum:"dark,lapsed,stray,factory,flawed,overdue,due,fresh"`
	Findings      []finding.Finding `json:"findings" required:"true"`
	ExpiresAt     *time.Time        `json:"expires_at"`
	ExpiresInDays *int              `json:"expires_in_days"`
	ActBy         *time.Time        `json:"act_by"`
	ReadAt        *time.Time        `json:"read_at"`
	Version       string            `json:"version,omitempty"`
	Suite         string            `json:"suite,omitempty"`
	Certificate   *cert.Facts       `json:"certificate,omitempty"`
	Chain         []Link            `json:"chain,omitempty"`
	Trust         []Trust           `json:"trust,omitempty" description:"which audiences trust this chain, and what the others lack"`
	Subject       string            `json:"subject,omitempty"`
	Replaceable   bool              `json:"replaceable" required:"true"`
}

// Link is one certificate of a drawn chain: as served, or known here and not served.
type Link struct {
	cert.Facts
	Role   string `json:"role" required:"true" enum:"leaf,intermediate,anchor,root,surplus" description:"an anchor is a root that the fleet trusts"`
	Served bool   `json:"served" required:"true"`
	PEM    string `json:"pem" required:"true"`
}

// summary shows a slot by what its row says, without looking at certificates.
func (s *Service) summary(row store.Slot) Slot {
	out := Slot{Device: row.Device, Name: row.Name, Site: row.Site, Address: row.Address, Port: row.Port,
		Protocol: row.Protocol, ServerName: row.ServerName, Findings: row.Findings.V, Version: row.Version, Suite: row.Suite, Subject: row.Subject}
	if out.Findings == nil {
		out.Findings = []finding.Finding{}
	}
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
	row, err := s.slotRow(ctx, device, name)
	if err != nil {
		return Slot{}, err
	}
	out := s.summary(row)
	d, err := s.store.Device(ctx, device)
	if err != nil {
		return out, err
	}
	out.Replaceable = d.Family != ""
	served, err := s.store.Certificates(ctx, row.Chain.V)
	if err != nil || len(served) == 0 {
		return out, err
	}
	p, err := s.pools(ctx)
	if err != nil {
		return out, err
	}
	trusting, err := s.trusting(ctx, p)
	facts := served[0].Facts()
	out.Certificate, out.Chain, out.Trust = &facts, links(p.path(served, s.now()), served), trusting.of(served, s.now())
	return out, err
}

func (s *Service) slotRow(ctx context.Context, device, name string) (store.Slot, error) {
	row, err := s.store.Slot(ctx, device, name)
	return row, notFound(err, "see: freshseal slot list", "there is no slot %s/%s", device, name)
}

// links draws a chain: the path leaf first, then what is served besides.
func links(path chain.Path, served []*cert.Certificate) []Link {
	isServed := map[string]bool{}
	for _, c := range served {
		isServed[c.SHA256] = true
	}
	var out []Link
	onPath := map[string]bool{}
	for i, c := range path.Certificates {
		role := "intermediate"
		switch {
		case i == 0:
			role = "leaf"
		case i == len(path.Certificates)-1 && path.Anchored:
			role = "anchor"
		case i == len(path.Certificates)-1 && path.Complete:
			role = "root"
		}
		onPath[c.SHA256] = true
		out = append(out, Link{c.Facts(), role, isServed[c.SHA256], string(c.PEM())})
	}
	for _, c := range served {
		if !onPath[c.SHA256] {
			out = append(out, Link{c.Facts(), "surplus", true, string(c.PEM())})
		}
	}
	return out
}

// pools are what paths are completed from.
type pools struct {
	anchors *chain.Pool // the fleet's trusted roots
	signers map[string]Signer
	pool    *chain.Pool // authorities that came with some pile; trusted by nobody for that
	rules   policies
	tried   map[string]bool // addresses from which nothing could be had
}

// path completes the path of a served leaf from what was served, the pool and
// the fleet's anchors.
func (p pools) path(served []*cert.Certificate, at time.Time) chain.Path {
	p.pool.Add(served[1:]...)
	return chain.Complete(served[0], p.pool, p.anchors, at)
}

func (s *Service) pools(ctx context.Context) (pools, error) {
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return pools{}, err
	}
	signers, err := s.signersByName(ctx)
	return pools{anchors: snapshot.Anchors, pool: snapshot.Authorities.With(), signers: signers, rules: policies{snapshot}, tried: map[string]bool{}}, err
}

// ReadSlot reads a slot now, records what was seen and shows it.
func (s *Service) ReadSlot(ctx context.Context, device, name string) (Slot, error) {
	row, err := s.slotRow(ctx, device, name)
	if err != nil {
		return Slot{}, err
	}
	if _, err := s.read(ctx, row); err != nil {
		return Slot{}, err
	}
	return s.Slot(ctx, device, name)
}

func (s *Service) targetOf(row store.Slot) wire.Target {
	return wire.Target{Address: row.Address, Port: row.Port, ServerName: row.ServerName, Way: s.way(row.Site), Enter: func(ctx context.Context) (func(), error) { return s.enter(ctx, "reading", row.Site) }}
}

func (s *Service) read(ctx context.Context, row store.Slot) (wire.Reading, error) {
	reading := s.reader.Read(ctx, s.targetOf(row))
	if err := ctx.Err(); err != nil {
		return reading, err // who asked is gone: what was seen says nothing of the slot
	}
	return reading, s.record(ctx, row, reading)
}

// ReadAll reads every slot of the fleet, many at once, and says how many were
// read and how many of them are dark.
func (s *Service) ReadAll(ctx context.Context) (read, dark int, err error) {
	rows, err := s.store.Slots(ctx)
	if err != nil {
		return 0, 0, err
	}
	targets := make([]wire.Target, len(rows))
	for i, row := range rows {
		targets[i] = s.targetOf(row)
	}
	type seen struct {
		row     store.Slot
		reading wire.Reading
	}
	all := make(chan seen)
	go func() {
		defer close(all)
		s.reader.ReadAll(ctx, targets, readAtOnce, func(i int, reading wire.Reading) { all <- seen{rows[i], reading} })
	}()
	keep := recorder{s: s}
	for one := range all {
		if err != nil || ctx.Err() != nil {
			continue
		}
		read++
		if one.reading.Why != nil {
			dark++
		}
		if err = keep.take(ctx, one.row, one.reading); errors.Is(err, store.ErrNotFound) {
			err = nil // removed while it was read
		}
	}
	return read, dark, cmp.Or(err, keep.flush(context.WithoutCancel(ctx)), ctx.Err())
}

// Seen is a reading of an address that is in no inventory.
type Seen struct {
	Address    string            `json:"address" required:"true"`
	Port       int               `json:"port" required:"true"`
	ServerName string            `json:"server_name" required:"true"`
	At         time.Time         `json:"at" required:"true"`
	Version    string            `json:"version,omitempty"`
	Suite      string            `json:"suite,omitempty"`
	Chain      []Link            `json:"chain" required:"true"`
	Findings   []finding.Finding `json:"findings" required:"true"`
	Failure    *finding.Failure  `json:"failure,omitempty"`
}

// ReadAddress reads something that is in no inventory; nothing is kept.
func (s *Service) ReadAddress(ctx context.Context, address string, port int, serverName string) (Seen, error) {
	t := wire.Target{Address: address, Port: port, ServerName: request.PlainName(serverName)}
	if !request.IsName(t.Address) || t.Port < 1 || t.Port > 65535 {
		return Seen{}, invalid("this cannot be read", fmt.Sprintf("%q and %d are not an address and a port", t.Address, t.Port), "write it as 192.0.2.1:443 or [2001:db8::1]:443")
	}
	reading := s.reader.Read(ctx, t)
	out := Seen{Address: t.Address, Port: t.Port, ServerName: t.ServerName, At: reading.At, Version: reading.Version, Suite: reading.Suite,
		Chain: []Link{}, Findings: []finding.Finding{}, Failure: reading.Why}
	if reading.Why != nil {
		return out, nil
	}
	p, err := s.pools(ctx)
	if err != nil {
		return out, err
	}
	out.Chain = links(p.path(reading.Chain, s.now()), reading.Chain)
	snapshot, err := s.snapshot(ctx)
	if err != nil {
		return out, err
	}
	out.Findings = append(out.Findings, snapshot.Judge(reading.Chain, judge.Slot{ServerName: t.ServerName}, s.now()).Findings...)
	return out, nil
}

// PastReading is one line of a slot's history.
type PastReading struct {
	At      time.Time        `json:"at" required:"true"`
	SHA256  string           `json:"sha256,omitempty"`
	Subject string           `json:"subject,omitempty"`
	Version string           `json:"version,omitempty"`
	Failure *finding.Failure `json:"failure,omitempty"`
}

// Readings are a slot's history, newest first: a line whenever something changed.
func (s *Service) Readings(ctx context.Context, device, name string) ([]PastReading, error) {
	row, err := s.slotRow(ctx, device, name)
	if err != nil {
		return nil, err
	}
	past, err := s.store.Readings(ctx, row.ID, 50)
	if err != nil {
		return nil, err
	}
	out := make([]PastReading, 0, len(past))
	for _, p := range past {
		line := PastReading{At: p.At.Time, Version: p.Version, Failure: p.Failure.V}
		if len(p.Chain.V) > 0 {
			leaf, err := s.store.Certificates(ctx, p.Chain.V[:1])
			if err != nil {
				return nil, err
			}
			line.SHA256, line.Subject = leaf[0].SHA256, leaf[0].ShortName()
		}
		out = append(out, line)
	}
	return out, nil
}
