package replace

import (
	"context"
	"errors"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/policy"
	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/service/monitor"
	"freshseal/store"
)

// planning is all that a plan is made from.
type planning struct {
	order  contract.Order
	slot   store.Slot // the first of those that get the certificate
	slots  []store.Target
	device store.Device
	rules  policy.Rules
	terms  request.Terms // of the signer
	family procedure.Procedure
}

// plan pre-fills what the request must say, and tells where each part of it came
// from: the name that clients use, the names and subject of today's certificate
// where it was once signed by somebody, what the policy adds and what the order
// says. A factory certificate's names are the maker's, not ours.
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
		_, err := s.keptKey(ctx, today)
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

// candidates are the names that are known. The first becomes the common name: that which the order gives for it, else
// the name that clients use.
func (s *Service) candidates(ctx context.Context, p planning, today *cert.Certificate) ([]request.Candidate, error) {
	var out []request.Candidate
	add := func(name, source string, derived bool) {
		if name != "" {
			out = append(out, request.Candidate{Name: name, Source: source, Derived: derived})
		}
	}
	add(p.order.Subject.CommonName, "the order", false)
	if p.slot.ServerName != "" {
		add(p.slot.ServerName, "the slot's server name", false)
	} else if strings.Contains(p.slot.Device, ".") {
		add(p.slot.Device, "the device's name", false)
	}
	for _, name := range p.order.Names {
		add(name, "the order", false)
	}
	for _, t := range p.slots[1:] {
		add(t.ServerName, "the server name of the slot "+t.Name, false)
	}
	if today != nil {
		for _, name := range today.Names() {
			add(name, "today's certificate", false)
		}
	}
	for _, name := range p.rules.RequiredNames {
		add(name, "the policy", false)
	}
	for _, n := range p.device.Nodes.V {
		switch wild := request.Beside(n.Name, "*"); {
		case wild != "" && policy.Is(p.rules.NodeWildcard) && p.terms.Wildcards && strings.Count(wild, ".") > 1:
			add(wild, "the policy: a wildcard for the nodes", true)
		case strings.Contains(n.Name, "."):
			add(n.Name, "the device's node", true)
		}
	}
	own := slices.Clone(out)
	if policy.Is(p.rules.ShortNames) {
		for _, c := range own {
			add(request.Short(c.Name), "the policy: the short form of "+request.PlainName(c.Name), true)
		}
	}
	if len(own) > 0 {
		for _, label := range p.rules.NamePrefixes {
			add(request.Beside(own[0].Name, label), "the policy: the service "+label, true)
		}
	}
	for _, domain := range p.rules.ServiceDomains {
		if len(p.rules.NamePrefixes) == 0 {
			add(domain, "the policy: the service domain", true)
		}
		for _, label := range p.rules.NamePrefixes {
			add(label+"."+request.PlainName(domain), "the policy: the service "+label+" of a service domain", true)
		}
	}
	if policy.Is(p.rules.AddressNames) {
		for _, t := range p.slots {
			for _, at := range monitor.Places(t.Slot.ToRead()) {
				source := "the policy: the slot's address"
				if len(p.slots) > 1 {
					source = "the policy: the address of the slot " + t.Name
				}
				add(at.Address, source, true)
			}
		}
		add(p.device.Address, "the policy: the device's address", true)
	}
	if policy.Is(p.rules.ClusterNames) && p.device.Cluster != "" {
		cluster := p.device.Cluster
		if !strings.Contains(cluster, ".") && len(own) > 0 {
			cluster = request.Beside(own[0].Name, cluster)
		}
		add(cluster, "the policy: the cluster "+p.device.Cluster, true)
		peers, err := s.store.Slots.Peers(ctx, p.slot, p.device.Cluster)
		if err != nil {
			return nil, err
		}
		for _, peer := range peers {
			add(peer.ServerName, "the policy: "+peer.Device+", of the same cluster", true)
		}
	}
	return out, nil
}

// chooseKey says which key the request is for: of the kind that the order or the
// policy names, and new unless the policy wants the one in use and the family
// can use it again.
func (p planning) chooseKey(plan *request.Plan, today *cert.Certificate, again bool) {
	if plan.Key == "" && p.rules.Key != nil && *p.rules.Key != "" {
		plan.Key, plan.Sources["key"] = *p.rules.Key, "the policy"
	}
	if plan.Key == "" {
		// the latter so that what is wrong is told
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

// overlay lays the filled fields of a subject over another one, and says which.
func overlay(s *request.Subject, with request.Subject) (filled []string) {
	for _, name := range request.SubjectFields {
		if from := *with.Field(name); from != "" {
			*s.Field(name) = from
			filled = append(filled, name)
		}
	}
	return filled
}
