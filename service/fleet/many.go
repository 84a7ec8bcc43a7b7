package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// manyText describes a change of many devices for the audit log.
func manyText(m contract.ManyChange) string {
	var out []string
	for name, to := range map[string]*string{"owner": m.Owner, "site": m.Site, "family": m.Family,
		"credential": m.Credential} {
		if to != nil {
			out = append(out, fmt.Sprintf("%s %q", name, *to))
		}
	}
	slices.Sort(out)
	for _, tag := range m.AddTags {
		out = append(out, "+"+tag)
	}
	for _, tag := range m.RemoveTags {
		out = append(out, "-"+tag)
	}
	return strings.Join(out, ", ")
}

// EditDevices changes many devices, each all or nothing: one that is refused stops no
// other. As with one device, a change that would send stored secrets elsewhere is refused.
func (s *Inventory) EditDevices(ctx context.Context, c contract.Changes) (contract.Changed, error) {
	out := contract.Changed{Refused: []contract.Refused{}}
	cannot := "no device is changed"
	if (len(c.Devices) == 0) == (c.Filter == nil) {
		return out, problem.Reject(cannot, "it is not said which", "give their names, or a filter")
	}
	m := c.Change
	if m.Owner == nil && m.Site == nil && m.Family == nil && m.Credential == nil && len(m.AddTags) == 0 &&
		len(m.RemoveTags) == 0 {
		return out, problem.Reject(cannot, "nothing is to be changed", "give at least one field")
	}
	names := c.Devices
	if c.Filter != nil {
		if err := checkCondition(due.Condition(c.Filter.Condition)); err != nil {
			return out, err
		}
		names = s.store.Devices.Names(DevicesThat(*c.Filter))
	}
	audit.Say(ctx, "%d devices: %s", len(names), manyText(m))
	for _, name := range names {
		err := s.editOne(ctx, name, m)
		var known *problem.Error
		switch {
		case err == nil:
			out.Changed++
		case errors.As(err, &known):
			out.Refused = append(out.Refused, contract.Refused{Device: name, Why: known.Why, Next: known.Next})
		default:
			return out, fmt.Errorf("changing %s, after %d devices: %w", name, out.Changed, err)
		}
	}
	return out, nil
}

func (s *Inventory) editOne(ctx context.Context, name string, m contract.ManyChange) error {
	d, err := s.store.Devices.Get(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return problem.Reject("", "it is not in the inventory", "")
	}
	if err != nil {
		return err
	}
	change := contract.DeviceChange{Owner: m.Owner, Site: m.Site, Family: m.Family}
	if m.Credential != nil {
		change.Access = []contract.AccessChange{{Credential: m.Credential}}
	}
	if len(m.AddTags)+len(m.RemoveTags) > 0 {
		tags := slices.DeleteFunc(slices.Clone(d.Tags.V), func(tag string) bool {
			return slices.Contains(m.RemoveTags, tag) || slices.Contains(m.AddTags, tag)
		})
		change.Tags = append(append([]string{}, tags...), m.AddTags...)
	}
	_, err = s.EditDevice(ctx, name, change, d.Revision)
	return err
}
