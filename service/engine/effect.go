package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strconv"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/replacement"
	"freshseal/store"
)

// Effect returns what a replacement is about to change.
func (s gates) Effect(ctx context.Context, j *Job) (contract.Effect, error) {
	out := contract.Effect{NamesAdded: []string{}, NamesLost: []string{}, Trust: []contract.Trust{}, Stages: []string{}}
	old := []string{}
	if j.OldSHA256 != "" {
		found, err := s.store.Chains.Certificates(ctx, []string{j.OldSHA256})
		if err != nil {
			return out, err
		}
		facts := found[0].Facts()
		out.Old, old = &facts, facts.Names
	}
	if j.Material.Path != nil {
		facts := j.Material.Path.Certificates[0].Facts()
		out.New = &facts
		p, err := s.monitor.Pools(ctx)
		if err != nil {
			return out, err
		}
		trusting, err := s.monitor.Trusting(ctx, p)
		if err != nil {
			return out, err
		}
		out.Trust = trusting.Of(j.Material.Path.Certificates, s.now())
		for _, name := range facts.Names {
			if !slices.Contains(old, name) {
				out.NamesAdded = append(out.NamesAdded, name)
			}
		}
		for _, name := range old {
			if !slices.Contains(facts.Names, name) {
				out.NamesLost = append(out.NamesLost, name)
			}
		}
	}
	var err error
	if out.Pins, err = s.PinsOf(ctx, j.SlotIDs()...); err != nil {
		return out, err
	}
	for _, stage := range replacement.Stages[slices.Index(replacement.Stages, replacement.Backup):] {
		for _, step := range j.Family.Steps[procedure.Section(stage)] {
			if step.When.Hold(j.Scope) {
				out.Stages = append(out.Stages, string(stage)+": "+step.Name)
			}
		}
	}
	text, err := json.Marshal(struct {
		contract.Effect
		Path, Settings any
		Procedure      string
		Signer         string
		Nodes, Slots   any
		Address        string
	}{out, j.Path.V, j.Box.Settings.V, j.Replacement.Procedure, j.Signer, j.Box.Nodes.V, ShowTargets(j.Targets),
		j.Box.Address})
	sum := sha256.Sum256(text)
	out.Digest = hex.EncodeToString(sum[:])
	return out, err
}

// ShapedBy returns the users who shaped what is to be approved: who asked for it, and who asked again with other names,
// another key or signer.
func (s gates) ShapedBy(ctx context.Context, r store.Replacement) ([]string, error) {
	out := []string{r.AskedBy}
	former, err := s.store.Requests.ObsoleteOf(ctx, r.ID)
	for _, f := range former {
		out = append(out, f.By)
	}
	return out, err
}

func pinID(n int64) string { return "p" + strconv.FormatInt(n, 10) }

// PinsOf returns the recorded pins of slots, as users see them.
func (s gates) PinsOf(ctx context.Context, slots ...int64) ([]contract.Pin, error) {
	rows, err := s.store.Pins.List(ctx, slots...)
	out := make([]contract.Pin, 0, len(rows))
	for _, row := range rows {
		out = append(out, ShowPin(row))
	}
	return out, err
}

// ShowPin returns a recorded pin as users see it.
func ShowPin(p store.Pin) contract.Pin {
	return contract.Pin{ID: pinID(p.ID), Device: p.Device, Slot: p.Slot, Who: p.Who, What: p.What, How: p.How,
		Breaks: p.What.Breaks(), AddedBy: p.AddedBy, AddedAt: p.AddedAt.Time}
}
