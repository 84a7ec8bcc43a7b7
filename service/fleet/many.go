package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshseal/core/due"
	"freshseal/service/deed"
	"freshseal/service/problem"
	"freshseal/service/reach"
	"freshseal/store"
)

// Changes changes many devices in the same way.
type Changes struct {
	Devices []string      `json:"devices,omitempty" description:"their names"`
	Filter  *DeviceChoice `json:"filter,omitempty" description:"instead of names: all that fit"`
	Change  ManyChange    `json:"change" required:"true"`
}

// DeviceChoice is a filter of devices.
type DeviceChoice struct {
	Condition string `json:"condition,omitempty"`
	Site      string `json:"site,omitempty"`
	Family    string `json:"family,omitempty"`
	Cluster   string `json:"cluster,omitempty"`
	Tag       string `json:"tag,omitempty"`
	Owner     string `json:"owner,omitempty"`
	Text      string `json:"text,omitempty"`
}

// ManyChange is what can be changed on many devices at once.
type ManyChange struct {
	Owner      *string  `json:"owner,omitempty"`
	Site       *string  `json:"site,omitempty"`
	Family     *string  `json:"family,omitempty"`
	Credential *string  `json:"credential,omitempty" description:"a shared one, over the first link of the family"`
	AddTags    []string `json:"add_tags,omitempty"`
	RemoveTags []string `json:"remove_tags,omitempty"`
}

// Changed says what became of each device.
type Changed struct {
	Changed int       `json:"changed" required:"true"`
	Refused []Refused `json:"refused" required:"true"`
}

// Refused is a device that was left as it was.
type Refused struct {
	Device string `json:"device" required:"true"`
	Why    string `json:"why" required:"true"`
	Next   string `json:"next,omitempty"`
}

// String says what is changed, for the ledger.
func (m ManyChange) String() string {
	var out []string
	for name, to := range map[string]*string{"owner": m.Owner, "site": m.Site, "family": m.Family, "credential": m.Credential} {
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

func (c DeviceChoice) filter() DeviceFilter {
	return DeviceFilter{Condition: due.Condition(c.Condition), Site: c.Site, Family: c.Family, Cluster: c.Cluster, Tag: c.Tag, Owner: c.Owner, Text: c.Text}
}

// EditDevices changes many devices, each all or nothing: one that is refused stops no
// other. As with one device, a change that would send stored secrets elsewhere is refused.
func (s *Service) EditDevices(ctx context.Context, c Changes) (Changed, error) {
	out := Changed{Refused: []Refused{}}
	cannot := "no device is changed"
	if (len(c.Devices) == 0) == (c.Filter == nil) {
		return out, problem.Reject(cannot, "it is not said which", "give their names, or a filter")
	}
	m := c.Change
	if m.Owner == nil && m.Site == nil && m.Family == nil && m.Credential == nil && len(m.AddTags) == 0 && len(m.RemoveTags) == 0 {
		return out, problem.Reject(cannot, "nothing is to be changed", "give at least one field")
	}
	names := c.Devices
	if c.Filter != nil {
		if err := checkCondition(due.Condition(c.Filter.Condition)); err != nil {
			return out, err
		}
		var err error
		if names, err = s.store.DeviceNames(ctx, s.moment(), c.Filter.filter()); err != nil {
			return out, err
		}
	}
	deed.Say(ctx, "%d devices: %s", len(names), m)
	for _, name := range names {
		err := s.editOne(ctx, name, m)
		var known *problem.Error
		switch {
		case err == nil:
			out.Changed++
		case errors.As(err, &known):
			out.Refused = append(out.Refused, Refused{name, known.Why, known.Next})
		default:
			return out, fmt.Errorf("changing %s, after %d devices: %w", name, out.Changed, err)
		}
	}
	return out, nil
}

func (s *Service) editOne(ctx context.Context, name string, m ManyChange) error {
	d, err := s.store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return problem.Reject("", "it is not in the inventory", "")
	}
	if err != nil {
		return err
	}
	change := DeviceChange{Owner: m.Owner, Site: m.Site, Family: m.Family}
	if m.Credential != nil {
		change.Access = []reach.AccessChange{{Credential: m.Credential}}
	}
	if len(m.AddTags)+len(m.RemoveTags) > 0 {
		tags := slices.DeleteFunc(slices.Clone(d.Tags.V), func(tag string) bool { return slices.Contains(m.RemoveTags, tag) || slices.Contains(m.AddTags, tag) })
		change.Tags = append(append([]string{}, tags...), m.AddTags...)
	}
	_, err = s.EditDevice(ctx, name, change, d.Revision)
	return err
}
