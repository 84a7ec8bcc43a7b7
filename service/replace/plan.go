package replace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// planning is the input of a plan.
type planning struct {
	order  contract.Order
	slot   store.Slot // the first of those that get the certificate
	slots  []store.Target
	device store.Device
	rules  policy.Rules
	terms  request.Terms // of the signer
	family procedure.Procedure
}

// plan fills in what the request must say, and records the source of each part: the name that clients use, the names
// and subject of today's certificate if an authority signed it, what the policy adds and what the order says. A factory
// certificate's names are the maker's.
func (s *Service) plan(ctx context.Context, p planning) (request.Plan, error) {
	plan := request.Plan{Key: p.order.Key, Weak: policy.Is(p.rules.WeakKeys), ClientUse: p.slot.ClientUse}
	var today *cert.Certificate
	if len(p.slot.Chain.V) > 0 && !p.slot.SelfSigned {
		served, err := s.store.Chains.Certificates(ctx, p.slot.Chain.V[:1])
		if err != nil {
			return plan, err
		}
		today = served[0]
	}
	candidates, err := s.candidates(ctx, p, today)
	if err != nil {
		return plan, err
	}
	plan.Names, plan.Sources, plan.LeftOut = request.Gather(candidates, p.terms)
	say := func(subject request.Subject, source string) {
		for _, field := range overlay(&plan.Subject, subject) {
			plan.Sources[field] = source
		}
	}
	say(s.subject, "the service's default")
	site, err := s.store.Sites.Get(ctx, p.slot.Site)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return plan, err
	}
	say(site.Subject.V, "the site "+p.slot.Site)
	if today != nil && (p.rules.OldSubject == nil || *p.rules.OldSubject) {
		say(subjectOf(today), "today's certificate")
	}
	say(p.order.Subject, "the order")
	if p.family.Traits.SignsItself {
		return plan.Complete(), nil // the device chooses its key
	}
	again := p.family.TakesKeyAgain()
	if p.family.Traits.KeyGiven && today != nil {
		_, err := s.KeptKey(ctx, today)
		if again = err == nil; err != nil && !errors.Is(err, store.ErrNotFound) {
			return plan, err
		}
	}
	p.chooseKey(&plan, today, again)
	plan = plan.Complete()
	if cn := plan.Subject.CommonName; plan.Sources["common_name"] == "" && cn != "" { // which name it became, and why
		plan.Sources["common_name"] = "the first name, " + cn + ": " + plan.Sources[cn]
	}
	return plan.Carried(p.family.Carries), nil
}

// gathering collects the known names with their sources.
type gathering struct {
	planning
	out []request.Candidate
}

func (g *gathering) add(name, source string, derived bool) {
	if name != "" {
		g.out = append(g.out, request.Candidate{Name: name, Source: source, Derived: derived})
	}
}

// candidates returns the known names. The first becomes the common name: the one that the order gives, else the name
// that clients use.
func (s *Service) candidates(ctx context.Context, p planning, today *cert.Certificate) ([]request.Candidate, error) {
	g := &gathering{planning: p}
	g.given(today)
	own := slices.Clone(g.out)
	g.byServices(own)
	g.byAddress()
	if !policy.Is(p.rules.ClusterNames) || p.device.Cluster == "" {
		return g.out, nil
	}
	cluster := p.device.Cluster
	if !strings.Contains(cluster, ".") && len(own) > 0 {
		cluster = request.Beside(own[0].Name, cluster)
	}
	g.add(cluster, "the policy: the cluster "+p.device.Cluster, true)
	peers, err := s.store.Slots.Peers(ctx, p.slot, p.device.Cluster)
	for _, peer := range peers {
		g.add(peer.ServerName, "the policy: "+peer.Device+", of the same cluster", true)
	}
	return g.out, err
}

// given adds the names that somebody stated: in the order, the slot, today's certificate, the policy, and the nodes.
func (g *gathering) given(today *cert.Certificate) {
	g.add(g.order.Subject.CommonName, "the order", false)
	if g.slot.ServerName != "" {
		g.add(g.slot.ServerName, "the slot's server name", false)
	} else if strings.Contains(g.slot.Device, ".") {
		g.add(g.slot.Device, "the device's name", false)
	}
	for _, name := range g.order.Names {
		g.add(name, "the order", false)
	}
	for _, t := range g.slots[1:] {
		g.add(t.ServerName, "the server name of the slot "+t.Name, false)
	}
	if today != nil {
		for _, name := range today.Names() {
			g.add(name, "today's certificate", false)
		}
	}
	for _, name := range g.rules.RequiredNames {
		g.add(name, "the policy", false)
	}
	for _, n := range g.device.Nodes.V {
		switch wild := request.Beside(n.Name, "*"); {
		case wild != "" && policy.Is(g.rules.NodeWildcard) && g.terms.Wildcards && strings.Count(wild, ".") > 1:
			g.add(wild, "the policy: a wildcard for the nodes", true)
		case strings.Contains(n.Name, "."):
			g.add(n.Name, "the device's node", true)
		}
	}
}

// byServices adds the names that the policy derives from the device's own.
func (g *gathering) byServices(own []request.Candidate) {
	if policy.Is(g.rules.ShortNames) {
		for _, c := range own {
			g.add(request.Short(c.Name), "the policy: the short form of "+request.PlainName(c.Name), true)
		}
	}
	if len(own) > 0 {
		for _, label := range g.rules.NamePrefixes {
			g.add(request.Beside(own[0].Name, label), "the policy: the service "+label, true)
		}
	}
	for _, domain := range g.rules.ServiceDomains {
		if len(g.rules.NamePrefixes) == 0 {
			g.add(domain, "the policy: the service domain", true)
		}
		for _, label := range g.rules.NamePrefixes {
			g.add(label+"."+request.PlainName(domain), "the policy: the service "+label+" of a service domain", true)
		}
	}
}

// byAddress adds the addresses, if the policy wants them as names.
func (g *gathering) byAddress() {
	if !policy.Is(g.rules.AddressNames) {
		return
	}
	for _, t := range g.slots {
		for _, at := range monitor.Places(t.Slot.ToRead()) {
			source := "the policy: the slot's address"
			if len(g.slots) > 1 {
				source = "the policy: the address of the slot " + t.Name
			}
			g.add(at.Address, source, true)
		}
	}
	g.add(g.device.Address, "the policy: the device's address", true)
}

// chooseKey chooses the key of the request: of the type that the order or the policy names, and new unless the policy
// reuses the current one and the family can.
func (p planning) chooseKey(plan *request.Plan, today *cert.Certificate, again bool) {
	if plan.Key == "" && p.rules.Key != nil && *p.rules.Key != "" {
		plan.Key, plan.Sources["key"] = *p.rules.Key, "the policy"
	}
	if plan.Key == "" {
		// The latter so that the reason is reported.
		for _, kind := range slices.Concat(p.family.Traits.KeyTypes, request.KeyTypes) {
			if p.rules.Refuses(kind) == "" && kind != request.RSA1024 &&
				(len(p.terms.Keys) == 0 || slices.Contains(p.terms.Keys, kind)) {
				plan.Key, plan.Sources["key"] = kind, "the first that family, signer and policy allow"
				break
			}
		}
	}
	if *p.rules.RenewalKey != policy.SameKey || p.order.Key != "" || today == nil {
		return
	}
	kind := slices.IndexFunc(request.AllKeyTypes, func(k request.KeyType) bool { return k.Text() == today.Key() })
	switch {
	case !again:
		plan.Sources["key"] = "a new one: the one in use cannot be used again, by its family or since it was not kept"
	case kind < 0:
		plan.Sources["key"] = "a new one: the one in use is " + today.Key()
	default:
		plan.Key, plan.SameKey, plan.Sources["key"] = request.AllKeyTypes[kind], true, "the one in use, as the "+
			"policy wants"
	}
}

func subjectOf(c *cert.Certificate) request.Subject {
	first := func(list []string) string { return strings.Join(list[:min(1, len(list))], "") }
	n := c.X509().Subject
	return request.Subject{Organization: first(n.Organization), Unit: first(n.OrganizationalUnit),
		Locality: first(n.Locality), State: first(n.Province), Country: first(n.Country), Email: cert.EmailOf(n)}
}

// overlay replaces fields of a subject by the filled fields of another, and returns which.
func overlay(s *request.Subject, with request.Subject) (filled []string) {
	for _, name := range request.SubjectFields {
		if from := *with.Field(name); from != "" {
			*s.Field(name) = from
			filled = append(filled, name)
		}
	}
	return filled
}

// orderItself adapts an order to a family whose devices, or their manager, create and sign their certificates
// themselves. Such a device decides on key and subject: an order that asks for others is refused.
func orderItself(o *contract.Order, family procedure.Procedure, cannot string) error {
	if !family.Traits.SignsItself {
		return nil
	}
	asked := ""
	switch {
	case o.Signer != "" && o.Signer != contract.DeviceSigner:
		return problem.Reject(cannot, fmt.Sprintf("devices of the family %s sign their certificates themselves, so "+
			"the signer %s gets no request", family.Name, o.Signer), "leave the signer out, or give the device "+
			"another family", next.ListProcedures.On(""))
	case o.Key != "":
		asked = "key type"
	case o.Unseen:
		return problem.Reject(cannot, "its slot must be readable: that it serves another certificate afterwards is "+
			"the only proof where the device signs for itself", "have the slot read first, then begin without unseen",
			next.ShowSlot.On(o.Device+"/"+o.Slot))
	case len(o.Names) > 0:
		asked = "names"
	case o.Subject != request.Subject{}:
		asked = "subject"
	}
	if asked != "" {
		return problem.Reject(cannot, fmt.Sprintf("devices of the family %s decide themselves on the %s", family.Name,
			asked), "leave the "+asked+" out; change it where the device or its manager is configured")
	}
	o.Signer = contract.DeviceSigner
	return nil
}
