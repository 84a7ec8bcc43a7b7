package fleet

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/discovery"
	"freshseal/core/next"
	"freshseal/core/protocol"
	"freshseal/core/terminal/visible"
	"freshseal/service/audit"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/found"
	"freshseal/wire"
)

const (
	usualRate   = 50
	mostRate    = 500
	takingsKept = 20
)

// usualPorts are scanned if none are given.
var usualPorts = []string{"443", "8443", "636", "993", "3389"}

func discoveryID(id int64) string { return "k" + strconv.FormatInt(id, 10) }

func showTaking(row found.Discovery) contract.Discovery {
	out := contract.Discovery{ID: discoveryID(row.ID), Asked: contract.AskedDiscovery(row.Asked.V), By: row.By,
		Total: row.Total, Done: row.Done, Found: row.Found, Strange: row.Strange, BeganAt: row.BeganAt.Time,
		Why: row.Why}
	if !row.EndedAt.IsZero() {
		out.EndedAt = &row.EndedAt.Time
	}
	return out
}

// plan parses a request for a discovery.
func plan(asked contract.AskedDiscovery) (discovery.Plan, error) {
	return discovery.Read(asked.Ranges, asked.Except, asked.Ports, func(port int) string {
		for _, p := range protocol.All() {
			if p.Port == port && !p.OverEAP && p.Name != protocol.TLS {
				return string(p.Reads())
			}
		}
		if port == 8443 || port == 9443 || port == 10443 || port == 4443 {
			return string(protocol.HTTPS)
		}
		return string(protocol.TLS)
	})
}

// StartDiscovery starts to scan addresses. Only one discovery runs at a time.
func (s *Discoveries) StartDiscovery(ctx context.Context, by string,
	asked contract.AskedDiscovery) (contract.Discovery, error) {
	const cannot = "no discovery was started"
	if len(asked.Ports) == 0 {
		asked.Ports = usualPorts
	}
	if asked.Rate == 0 {
		asked.Rate = usualRate
	}
	p, err := plan(asked)
	if err != nil {
		return contract.Discovery{}, problem.Reject(cannot, err.Error(), "give networks such as 192.0.2.0/24, "+
			"ranges such as 192.0.2.10-192.0.2.20, addresses or host names; and ports such as 443 or 25/smtp")
	}
	for _, word := range asked.Ports {
		if _, name, named := strings.Cut(word, "/"); named {
			if about, known := protocol.Named(name); !known || about.OverEAP {
				return contract.Discovery{}, monitor.UnknownProtocol(cannot, name)
			}
		}
	}
	if asked.Rate < 1 || asked.Rate > mostRate {
		return contract.Discovery{},
			problem.Reject(cannot, fmt.Sprintf("%d connections a second are out of bounds", asked.Rate),
				fmt.Sprintf("give a rate from 1 to %d", mostRate))
	}
	if asked.Site != "" {
		if _, err := s.store.Sites.Get(ctx, asked.Site); err != nil {
			return contract.Discovery{}, problem.Missing(err, next.ListSites, "no site is called %s", asked.Site)
		}
	}
	audit.Say(ctx, "%s; ports %s; except %s; %d a second; site %s", strings.Join(asked.Ranges, " "),
		strings.Join(asked.Ports, " "), strings.Join(asked.Except, " "), asked.Rate, asked.Site)
	row := found.Discovery{By: by, Total: p.Count(), BeganAt: s.moment()}
	row.Asked.V = found.Asked(asked)
	row, err = s.store.Discoveries.Add(ctx, row, takingsKept)
	if errors.Is(err, store.ErrTaken) {
		return contract.Discovery{}, problem.New(problem.Conflict, cannot, "a discovery is under way already",
			"wait until it has ended, or stop it", next.ListDiscoveries.On(""))
	}
	if err != nil {
		return contract.Discovery{}, err
	}
	s.running.Go(func() { s.lookFor(row, p) })
	return showTaking(row), nil
}

// resumeDiscovery continues the discovery that was running when the service stopped.
func (s *Discoveries) resumeDiscovery(ctx context.Context) error {
	rows, err := s.store.Discoveries.List(ctx)
	for _, row := range rows {
		if !row.EndedAt.IsZero() {
			continue
		}
		p, err := plan(contract.AskedDiscovery(row.Asked.V))
		if err != nil {
			return errors.Join(err, s.store.Discoveries.End(ctx, row.ID, s.moment(), err.Error()))
		}
		s.running.Go(func() { s.lookFor(row, p) })
	}
	return err
}

// Discoveries returns the stored discoveries, newest first.
func (s *Discoveries) Discoveries(ctx context.Context) ([]contract.Discovery, error) {
	rows, err := s.store.Discoveries.List(ctx)
	out := make([]contract.Discovery, len(rows))
	for i, row := range rows {
		out[i] = showTaking(row)
	}
	return out, err
}

func (s *Discoveries) taking(ctx context.Context, id string) (found.Discovery, error) {
	n, err := strconv.ParseInt(strings.TrimPrefix(id, "k"), 10, 64)
	if err != nil {
		n = 0
	}
	row, err := s.store.Discoveries.Get(ctx, n)
	return row, problem.Missing(err, next.ListDiscoveries, "no discovery is called %s", id)
}

// StopDiscovery stops the running discovery; what it found is kept.
func (s *Discoveries) StopDiscovery(ctx context.Context, by, id string) (contract.Discovery, error) {
	row, err := s.taking(ctx, id)
	if err != nil {
		return contract.Discovery{}, err
	}
	if err := s.store.Discoveries.End(ctx, row.ID, s.moment(), "stopped by "+by); errors.Is(err, store.ErrNotFound) {
		return contract.Discovery{}, problem.New(problem.Conflict, id+" is not stopped", "it has ended", "",
			next.ListDiscoveries.On(""))
	} else if err != nil {
		return contract.Discovery{}, err
	}
	if row, err = s.store.Discoveries.Get(ctx, row.ID); err != nil {
		return contract.Discovery{}, err
	}
	return showTaking(row), nil
}

// RemoveDiscovery deletes a discovery that has ended.
func (s *Discoveries) RemoveDiscovery(ctx context.Context, id string) error {
	row, err := s.taking(ctx, id)
	if err != nil {
		return err
	}
	if row.EndedAt.IsZero() {
		return problem.New(problem.Conflict, id+" is not removed", "it is under way", "stop it first",
			next.ListDiscoveries.On(""))
	}
	return s.store.Discoveries.Remove(ctx, row.ID)
}

// Discovery returns what a discovery found, and the devices that these may be.
func (s *Discoveries) Discovery(ctx context.Context, id string) (contract.DiscoveryResult, error) {
	row, err := s.taking(ctx, id)
	if err != nil {
		return contract.DiscoveryResult{}, err
	}
	out := contract.DiscoveryResult{Discovery: showTaking(row), Finds: []contract.Find{},
		Proposals: []contract.Proposal{}}
	rows, err := s.store.Discoveries.Finds(ctx, row.ID)
	if err != nil {
		return out, err
	}
	slots, err := s.store.Slots.Places(ctx)
	if err != nil {
		return out, err
	}
	defaults := s.monitor.Surveys.Defaults()
	at := map[string]map[string]bool{} // certificate → addresses
	for _, f := range rows {
		if len(f.Chain.V) > 0 {
			if at[f.Chain.V[0]] == nil {
				at[f.Chain.V[0]] = map[string]bool{}
			}
			at[f.Chain.V[0]][f.Address] = true
		}
	}
	var seen []discovery.Seen
	for _, f := range rows {
		find := contract.Find{Address: f.Address, Port: f.Port, Protocol: f.Protocol, ServerName: f.ServerName,
			Slot: slots[store.Place{Address: f.Address, Port: f.Port}.String()], Version: f.Version, Banner: f.Banner,
			Failure: f.Failure.V}
		if len(f.Chain.V) > 0 {
			served, err := s.store.Chains.Certificates(ctx, f.Chain.V[:1])
			if err != nil {
				return out, err
			}
			leaf := served[0]
			facts := leaf.Facts()
			known, is := defaults.Of(leaf)
			find.Certificate, find.Default, find.SharedKey, find.Factory, find.Same = &facts, known.About, is &&
				known.Shared(), leaf.SelfSigned() || is, len(at[leaf.SHA256])-1
			seen = append(seen,
				discovery.Seen{Target: discovery.Target{Address: f.Address,
					Port: discovery.Port{Number: f.Port, Protocol: f.Protocol}}, ServerName: f.ServerName,
					SHA256: leaf.SHA256, Subject: leaf.Subject(), Issuer: leaf.Issuer(),
					Names: leaf.Names(), NotAfter: leaf.NotAfter, SelfSigned: leaf.SelfSigned(), Default: known.About,
					Banner: f.Banner})
		}
		out.Finds = append(out.Finds, find)
	}
	for _, p := range discovery.Propose(seen, s.recognized()) {
		known := ""
		for _, slot := range p.Slots {
			if device, _, there := strings.Cut(slots[store.Place{Address: slot.Address, Port: slot.Port}.String()],
				"/"); there {
				known = device
			}
		}
		if known == "" {
			if _, err := s.store.Devices.Get(ctx, p.Name); err == nil {
				known = p.Name
			}
		}
		same := 0
		for _, slot := range p.Slots {
			same = max(same, len(at[slot.Of.SHA256])-1-len(slot.More))
		}
		out.Proposals = append(out.Proposals, contract.Proposal{Proposal: p, Known: known, Same: same})
	}
	return out, nil
}

// recognized returns the families that state how they are recognized.
func (s *Discoveries) recognized() []discovery.Family {
	var out []discovery.Family
	for name, source := range s.families.all() {
		if source.Usable() && len(source.Marks) > 0 {
			out = append(out, discovery.Family{Name: name, Marks: source.Marks})
		}
	}
	return out
}

// mostBanner bounds the stored name of a web server, in bytes.
const mostBanner = 200

func banner(look *wire.Closer) string {
	if look == nil {
		return ""
	}
	text := visible.Line(look.Server)
	return text[:min(len(text), mostBanner)]
}
