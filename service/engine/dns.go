package engine

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"freshseal/core/judgement/finding"
	"freshseal/core/language/procedure"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/store"
)

// Resolver looks up names and addresses. *net.Resolver implements it.
type Resolver interface {
	LookupHost(ctx context.Context, host string) (addresses []string, err error)
	LookupAddr(ctx context.Context, address string) (names []string, err error)
}

// lookupLimit bounds all lookups for one slot.
const lookupLimit = 4 * time.Second

// Leads returns the names that do not resolve to the slot's address, and whether the address resolves back to another
// name. Without a resolver nothing is looked up.
func (s *Service) Leads(ctx context.Context, names []string, slot store.Slot) []finding.Finding {
	if s.resolver == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, lookupLimit)
	defer cancel()
	var here []string
	for _, at := range monitor.Places(slot.ToRead()) {
		if _, err := netip.ParseAddr(at.Address); err == nil {
			here = append(here, at.Address)
			continue
		}
		found, err := s.resolver.LookupHost(ctx, at.Address)
		if err != nil {
			return []finding.Finding{finding.NameLeadsElsewhere.Found("%s, the address of the slot, cannot "+
				"be resolved", at.Address)}
		}
		here = append(here, found...)
	}
	var found []finding.Finding
	for _, name := range names {
		if net.ParseIP(name) != nil || strings.HasPrefix(name, "*.") {
			continue
		}
		there, err := s.resolver.LookupHost(ctx, name)
		switch {
		case err != nil:
			found = append(found, finding.NameLeadsElsewhere.Found("%s cannot be resolved", name))
		case !slices.ContainsFunc(there, func(a string) bool { return slices.Contains(here, a) }):
			found = append(found, finding.NameLeadsElsewhere.Found("%s leads to %s, and the slot is at %s", name,
				strings.Join(there, ", "), here[0]))
		}
	}
	back, err := s.resolver.LookupAddr(ctx, here[0])
	if err == nil && len(back) > 0 && !slices.ContainsFunc(back, func(n string) bool {
		return slices.Contains(names, strings.TrimSuffix(n, "."))
	}) {
		found = append(found, finding.NameLeadsElsewhere.Found("the address %s leads back to %s, which is not "+
			"among the names", here[0], strings.TrimSuffix(back[0], ".")).As(finding.Note))
	}
	return found
}

// lookUp writes into the journal what the planned names resolve to. It warns and stops nothing: names often move on the
// same day as the device.
func (s *Service) lookUp(ctx context.Context, j *Job, keep device.Journal) error {
	if s.resolver == nil {
		return nil
	}
	const step = "see where the names lead"
	names := strings.Join(j.Plan.V.Names, " ")
	if _, done := keep.Done(procedure.Survey, step, names); done {
		return nil
	}
	id, err := keep.Begin(ctx, device.Entry{Section: procedure.Survey, Name: step, Verb: "dns", Text: names,
		Repeat: true})
	if err != nil {
		return err
	}
	said := "all of them lead to the device"
	if found := s.Leads(ctx, j.Plan.V.Names, j.First); len(found) > 0 {
		said = ""
		for _, f := range found {
			said += fmt.Sprintf("%s: %s\n", f.Severity, f.What)
		}
	}
	return keep.End(context.WithoutCancel(ctx), id, device.Outcome{OK: true, Output: said})
}
