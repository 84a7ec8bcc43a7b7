package fleet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"freshseal/contract"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// importing is an import that is being planned.
type importing struct {
	store.Inventory
	out   contract.Import
	known map[string]contract.Device // the whole inventory, nil if the file has a small part of it only
}

// ImportDevices makes the inventory match a file: missing devices are added, existing ones are changed if the file
// differs. If one line is wrong nothing is changed, unless the import may be partial. A second import changes nothing,
// and nothing is ever removed.
func (s *Inventory) ImportDevices(ctx context.Context, t contract.ImportTerms) (contract.Import, error) {
	i := importing{out: contract.Import{Lines: []contract.Imported{}}}
	lines, err := readImport(t)
	if err != nil {
		return i.out, err
	}
	groups := groupLines(lines)
	if len(groups)*smallPart > s.store.Devices.Count(store.DeviceFilter{}) {
		if i.known, err = s.inventory(ctx); err != nil {
			return i.out, err
		}
	}
	for _, group := range groups {
		if err := s.plan(ctx, &i, group); err != nil {
			return i.out, err
		}
	}
	slices.SortStableFunc(i.out.Lines, func(a, b contract.Imported) int { return a.Line - b.Line })
	if t.DryRun || i.out.Wrong > 0 && !t.Partial {
		return i.out, nil
	}
	audit.Say(ctx, "%d devices added, %d changed", i.out.Added, i.out.Changed)
	for _, line := range i.out.Lines {
		for _, d := range line.Changes {
			audit.Say(ctx, "%s %s: %q → %q", line.Device, d.What, d.From, d.To)
		}
	}
	defer s.monitor.Forget() // devices may be under other rules now
	if err := s.store.Devices.Apply(ctx, i.Inventory); errors.Is(err, store.ErrTaken) ||
		errors.Is(err, store.ErrStale) {
		return i.out, problem.New(problem.Conflict, "the file was not imported", "somebody changed one of these "+
			"devices at the same moment", "import it again")
	} else if err != nil {
		return i.out, err
	}
	i.out.Done = true
	return i.out, nil
}

// smallPart is the share of the inventory, one device in so many, up to which the devices of a file are read one by
// one.
const smallPart = 20

// inventory returns all devices by their names.
func (s *Inventory) inventory(ctx context.Context) (map[string]contract.Device, error) {
	devices, err := s.Lists.allDevices(ctx)
	out := make(map[string]contract.Device, len(devices))
	for _, d := range devices {
		out[d.Name] = d
	}
	return out, err
}

// find returns a device of the file as it is now, or store.ErrNotFound.
func (s *Inventory) find(ctx context.Context, i *importing, name string) (contract.Device, error) {
	if i.known != nil {
		d, found := i.known[name]
		if !found {
			return d, store.ErrNotFound
		}
		return d, nil
	}
	row, err := s.store.Devices.Get(ctx, name)
	if err != nil {
		return contract.Device{}, err
	}
	return s.show(ctx, row)
}

// plan plans the lines of one device. Errors are recorded with their lines.
func (s *Inventory) plan(ctx context.Context, i *importing, group []importLine) error {
	first := group[0]
	group = i.agreeing(group)
	entries := make([]contract.Imported, len(group))
	for n, line := range group {
		entries[n] = contract.Imported{Line: line.number, Device: first.get("name"), What: "same"}
	}
	before := i.Inventory // slices are only appended to
	wrong := -1
	there, err := s.find(ctx, i, first.get("name"))
	switch {
	case errors.Is(err, store.ErrNotFound):
		wrong, err = s.planNew(ctx, i, group, entries)
	case err != nil:
		return err
	case there.Family == OwnFamily:
		wrong, err = 0, notOwn("it cannot be changed")
	case saysTheSame(there, group): // which is allowed whatever is in progress
	default:
		wrong, err = s.planChanges(ctx, i, group, entries)
	}
	var known *problem.Error
	if errors.As(err, &known) {
		i.Inventory = before
		for n := range entries {
			entries[n] = contract.Imported{Line: entries[n].Line, Device: entries[n].Device, What: "error",
				Why: fmt.Sprintf("line %d of this device is wrong", group[wrong].number)}
		}
		e := &entries[wrong]
		e.Why, e.Next, e.Actions = known.Why, known.Next, known.Actions
		i.out.Wrong += len(entries)
	} else if err != nil {
		return err
	} else if entries[0].What == "add" {
		i.out.Added++
	} else if slices.ContainsFunc(entries, func(e contract.Imported) bool { return e.What == "change" }) {
		i.out.Changed++
	}
	i.out.Lines = append(i.out.Lines, entries...)
	return nil
}

// agreeing returns the lines of a device that agree with its first; the others are recorded as wrong.
func (i *importing) agreeing(group []importLine) []importLine {
	out := group[:1:1]
	slots := map[string]int{group[0].slotName(): group[0].number}
	for _, line := range group[1:] {
		var known *problem.Error
		if errors.As(line.agrees(group[0], slots), &known) {
			i.out.Lines = append(i.out.Lines, contract.Imported{Line: line.number, Device: group[0].get("name"),
				What: "error", Why: known.Why, Next: known.Next})
			i.out.Wrong++
			continue
		}
		slots[line.slotName()] = line.number
		out = append(out, line)
	}
	return out
}

// planNew plans a device to be added, and returns which of its lines is wrong.
func (s *Inventory) planNew(ctx context.Context, i *importing, group []importLine,
	entries []contract.Imported) (wrong int, err error) {
	var d contract.NewDevice
	for n, line := range group {
		one, err := line.device()
		if err != nil {
			return n, err
		}
		if n == 0 {
			d = one
		} else {
			d.Slots = append(d.Slots, one.Slots...)
		}
		entries[n].What = "add"
	}
	row, err := s.newDevice(ctx, d)
	if err == nil {
		i.Add = append(i.Add, row)
	}
	return 0, err
}

// planChanges plans the changes of an existing device, and returns which of its lines is wrong.
func (s *Inventory) planChanges(ctx context.Context, i *importing, group []importLine,
	entries []contract.Imported) (wrong int, err error) {
	name := group[0].get("name")
	change, err := group[0].change()
	if err != nil {
		return 0, err
	}
	e, err := s.planEdit(ctx, name, change)
	// a secret is sealed again only where it has to be: a second import changes nothing
	if err != nil && group[0].passwords() {
		group[0].givePasswords(&change)
		e, err = s.planEdit(ctx, name, change)
	}
	if err != nil {
		return 0, err
	}
	entries[0].Changes = differences("", factsOf(e.before), factsOf(e.after))
	if e.secrets {
		entries[0].Changes = append(entries[0].Changes, contract.Difference{What: "secret", From: "",
			To: sealedSetting})
	}
	if len(entries[0].Changes) > 0 {
		entries[0].What = "change"
		i.Change = append(i.Change, e.DeviceEdit)
	}
	for n, line := range group {
		if err := s.planSlotLine(ctx, i, e, line, &entries[n]); err != nil {
			return n, err
		}
	}
	return 0, nil
}

// planSlotLine plans the slot of a line.
func (s *Inventory) planSlotLine(ctx context.Context, i *importing, e deviceEdit, line importLine,
	entry *contract.Imported) error {
	if !line.namesSlot() {
		return nil
	}
	slot, err := line.slot(e.after.Name)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(e.before.Slots, func(known contract.DeviceSlot) bool { return known.Name == slot.Name }) {
		row, err := checkSlot("", e.after.Address, slot)
		if err != nil {
			return err
		}
		row.DeviceID, row.Device = e.Device.ID, e.Device.Name
		i.AddSlots = append(i.AddSlots, row)
		entry.What, entry.Changes = "change",
			append(entry.Changes, contract.Difference{What: "slot " + slot.Name, To: slotFacts(row)["address"]})
		return nil
	}
	change, err := line.slotChange()
	if err != nil {
		return err
	}
	edit, before, err := s.planSlot(ctx, e.Device.Name, slot.Name, change)
	if err != nil {
		return err
	}
	if change.Address == nil && edit.Slot.Address == e.before.Address {
		edit.Slot.Address = e.after.Address // it follows its device
	}
	if more := differences("slot "+slot.Name+" ", before, slotFacts(edit.Slot)); len(more) > 0 {
		edit.Known = store.Any // its device was looked at above
		i.ChangeSlots = append(i.ChangeSlots, edit)
		entry.What, entry.Changes = "change", append(entry.Changes, more...)
	}
	return nil
}

// differences returns the differences between two sets of facts.
func differences(of string, before, after map[string]string) []contract.Difference {
	names := map[string]bool{}
	for name := range before {
		names[name] = true
	}
	for name := range after {
		names[name] = true
	}
	var out []contract.Difference
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if before[name] != after[name] {
			out = append(out, contract.Difference{What: of + name, From: before[name], To: after[name]})
		}
	}
	return out
}
