package fleet

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/protocol"
	"freshseal/core/stock"
	"freshseal/core/visible"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/service/watch"
	"freshseal/store"
	"freshseal/wire"
)

const (
	usualRate   = 50
	mostRate    = 500
	takingsKept = 20
)

// usualPorts are looked at where none are given.
var usualPorts = []string{"443", "8443", "636", "993", "3389"}

func stockID(id int64) string { return "k" + strconv.FormatInt(id, 10) }

func showTaking(row store.Stocktaking) contract.Stocktaking {
	out := contract.Stocktaking{ID: stockID(row.ID), Asked: contract.AskedStock(row.Asked.V), By: row.By, Total: row.Total, Done: row.Done, Found: row.Found, Strange: row.Strange, BeganAt: row.BeganAt.Time, Why: row.Why}
	if !row.EndedAt.IsZero() {
		out.EndedAt = &row.EndedAt.Time
	}
	return out
}

// plan reads what is asked for.
func plan(asked contract.AskedStock) (stock.Plan, error) {
	return stock.Read(asked.Ranges, asked.Except, asked.Ports, func(port int) string {
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

// TakeStock begins to look at addresses. One is under way at a time.
func (s *Service) TakeStock(ctx context.Context, by string, asked contract.AskedStock) (contract.Stocktaking, error) {
	const cannot = "no stock is taken"
	if len(asked.Ports) == 0 {
		asked.Ports = usualPorts
	}
	if asked.Rate == 0 {
		asked.Rate = usualRate
	}
	p, err := plan(asked)
	if err != nil {
		return contract.Stocktaking{}, problem.Reject(cannot, err.Error(), "give networks such as 192.0.2.0/24, ranges such as 192.0.2.10-192.0.2.20, addresses or host names; and ports such as 443 or 25/smtp")
	}
	for _, word := range asked.Ports {
		if _, name, named := strings.Cut(word, "/"); named {
			if about, known := protocol.Named(name); !known || about.OverEAP {
				return contract.Stocktaking{}, watch.UnknownProtocol(cannot, name)
			}
		}
	}
	if asked.Rate < 1 || asked.Rate > mostRate {
		return contract.Stocktaking{}, problem.Reject(cannot, fmt.Sprintf("%d connections a second are out of bounds", asked.Rate), fmt.Sprintf("give a rate from 1 to %d", mostRate))
	}
	if asked.Site != "" {
		if _, err := s.store.Sites.Get(ctx, asked.Site); err != nil {
			return contract.Stocktaking{}, problem.Missing(err, next.ListSites, "no site is called %s", asked.Site)
		}
	}
	deed.Say(ctx, "%s; ports %s; except %s; %d a second; site %s", strings.Join(asked.Ranges, " "), strings.Join(asked.Ports, " "), strings.Join(asked.Except, " "), asked.Rate, asked.Site)
	row := store.Stocktaking{By: by, Total: p.Count(), BeganAt: s.moment()}
	row.Asked.V = store.AskedStock(asked)
	row, err = s.store.Stock.Add(ctx, row, takingsKept)
	if errors.Is(err, store.ErrTaken) {
		return contract.Stocktaking{}, problem.New(problem.Conflict, cannot, "stock is being taken already", "wait until it has ended, or stop it", next.ListStock.On(""))
	}
	if err != nil {
		return contract.Stocktaking{}, err
	}
	s.running.Go(func() { s.lookFor(row, p) })
	return showTaking(row), nil
}

// takeUpStock goes on with what was under way when the service ended.
func (s *Service) takeUpStock(ctx context.Context) error {
	rows, err := s.store.Stock.List(ctx)
	for _, row := range rows {
		if !row.EndedAt.IsZero() {
			continue
		}
		p, err := plan(contract.AskedStock(row.Asked.V))
		if err != nil {
			return errors.Join(err, s.store.Stock.End(ctx, row.ID, s.moment(), err.Error()))
		}
		s.running.Go(func() { s.lookFor(row, p) })
	}
	return err
}

// Stocktakings are those that are kept, newest first.
func (s *Service) Stocktakings(ctx context.Context) ([]contract.Stocktaking, error) {
	rows, err := s.store.Stock.List(ctx)
	out := make([]contract.Stocktaking, len(rows))
	for i, row := range rows {
		out[i] = showTaking(row)
	}
	return out, err
}

func (s *Service) taking(ctx context.Context, id string) (store.Stocktaking, error) {
	n, err := strconv.ParseInt(strings.TrimPrefix(id, "k"), 10, 64)
	if err != nil {
		n = 0
	}
	row, err := s.store.Stock.Get(ctx, n)
	return row, problem.Missing(err, next.ListStock, "no stocktaking is called %s", id)
}

// StopStock ends one that is under way; what it found is kept.
func (s *Service) StopStock(ctx context.Context, by, id string) (contract.Stocktaking, error) {
	row, err := s.taking(ctx, id)
	if err != nil {
		return contract.Stocktaking{}, err
	}
	if err := s.store.Stock.End(ctx, row.ID, s.moment(), "stopped by "+by); errors.Is(err, store.ErrNotFound) {
		return contract.Stocktaking{}, problem.New(problem.Conflict, id+" is not stopped", "it has ended", "", next.ListStock.On(""))
	} else if err != nil {
		return contract.Stocktaking{}, err
	}
	if row, err = s.store.Stock.Get(ctx, row.ID); err != nil {
		return contract.Stocktaking{}, err
	}
	return showTaking(row), nil
}

// RemoveStock forgets a stocktaking that has ended.
func (s *Service) RemoveStock(ctx context.Context, id string) error {
	row, err := s.taking(ctx, id)
	if err != nil {
		return err
	}
	if row.EndedAt.IsZero() {
		return problem.New(problem.Conflict, id+" is not removed", "it is under way", "stop it first", next.ListStock.On(""))
	}
	return s.store.Stock.Remove(ctx, row.ID)
}

// Stock shows what a stocktaking found, and which devices that may be.
func (s *Service) Stock(ctx context.Context, id string) (contract.Stock, error) {
	row, err := s.taking(ctx, id)
	if err != nil {
		return contract.Stock{}, err
	}
	out := contract.Stock{Stocktaking: showTaking(row), Finds: []contract.Find{}, Proposals: []contract.Proposal{}}
	rows, err := s.store.Stock.Finds(ctx, row.ID)
	if err != nil {
		return out, err
	}
	slots, err := s.store.Stock.SlotPlaces(ctx)
	if err != nil {
		return out, err
	}
	defaults := s.watch.Defaults()
	at := map[string]map[string]bool{} // certificate → addresses
	for _, f := range rows {
		if len(f.Chain.V) > 0 {
			if at[f.Chain.V[0]] == nil {
				at[f.Chain.V[0]] = map[string]bool{}
			}
			at[f.Chain.V[0]][f.Address] = true
		}
	}
	var seen []stock.Seen
	for _, f := range rows {
		find := contract.Find{Address: f.Address, Port: f.Port, Protocol: f.Protocol, ServerName: f.ServerName, Slot: slots[store.Place{Address: f.Address, Port: f.Port}.String()], Version: f.Version, Banner: f.Banner, Failure: f.Failure.V}
		if len(f.Chain.V) > 0 {
			served, err := s.store.Chains.Certificates(ctx, f.Chain.V[:1])
			if err != nil {
				return out, err
			}
			leaf := served[0]
			facts := leaf.Facts()
			known, is := defaults.Of(leaf)
			find.Certificate, find.Default, find.SharedKey, find.Factory, find.Same = &facts, known.About, is && known.Shared(), leaf.SelfSigned() || is, len(at[leaf.SHA256])-1
			seen = append(seen, stock.Seen{Target: stock.Target{Address: f.Address, Port: stock.Port{Number: f.Port, Protocol: f.Protocol}}, ServerName: f.ServerName, SHA256: leaf.SHA256, Subject: leaf.Subject(), Issuer: leaf.Issuer(),
				Names: leaf.Names(), NotAfter: leaf.NotAfter, SelfSigned: leaf.SelfSigned(), Default: known.About, Banner: f.Banner})
		}
		out.Finds = append(out.Finds, find)
	}
	for _, p := range stock.Propose(seen, s.recognized()) {
		known := ""
		for _, slot := range p.Slots {
			if device, _, there := strings.Cut(slots[store.Place{Address: slot.Address, Port: slot.Port}.String()], "/"); there {
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

// recognized are the families that say by what they are recognized.
func (s *Service) recognized() []stock.Family {
	var out []stock.Family
	for name, source := range s.families.all() {
		if source.Usable() && len(source.Marks) > 0 {
			out = append(out, stock.Family{Name: name, Marks: source.Marks})
		}
	}
	return out
}

// mostBanner bounds what is kept of a web server's name.
const mostBanner = 200

func banner(look *wire.Closer) string {
	if look == nil {
		return ""
	}
	text := visible.Line(look.Server)
	return text[:min(len(text), mostBanner)]
}
