package engine

import (
	"context"
	"fmt"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/cert"
	"freshseal/service/monitor"
	"freshseal/store"
)

// ShowTargets returns the slots of a replacement as users see them.
func ShowTargets(rows []store.Target) []contract.Target {
	out := []contract.Target{}
	for _, row := range rows {
		out = append(out, contract.Target{Slot: row.Name, Addresses: monitor.Places(row.Slot.ToRead()),
			OldSHA256: row.OldSHA256})
	}
	return out
}

// NotNew returns what a slot serves instead of the new leaf, at the first address that does not serve it. Nodes count
// if they must have it by now.
func NotNew(new string, sight monitor.Sight, nodes bool) string {
	switch leaf := sight.Leaf(); {
	case leaf == nil:
		return sight.Why.What
	case leaf.SHA256 != new:
		return fmt.Sprintf("it serves “%s” (SHA-256 %.16s…) instead of the new leaf", leaf.ShortName(), leaf.SHA256)
	}
	for _, o := range sight.Others {
		switch {
		case o.Node != "" && !nodes:
		case o.Failure != nil:
			return o.Failure.What
		case o.SHA256 != new:
			return fmt.Sprintf("%s serves “%s” (SHA-256 %.16s…) instead of the new leaf", o, o.Subject, o.SHA256)
		}
	}
	return ""
}

// NotOld returns what a slot serves instead of the former leaf. If that is unknown, anything but the new one is
// accepted, also at its further addresses.
func NotOld(old, new string, sight monitor.Sight) string {
	switch leaf := sight.Leaf(); {
	case leaf == nil && old != "":
		return sight.Why.What
	case leaf != nil && leaf.SHA256 != old && (old != "" || leaf.SHA256 == new):
		return fmt.Sprintf("it serves “%s” (SHA-256 %.16s…) instead of the old leaf", leaf.ShortName(), leaf.SHA256)
	}
	for _, o := range sight.Others {
		if o.Failure == nil && o.SHA256 == new {
			return fmt.Sprintf("%s still serves the new leaf (SHA-256 %.16s…)", o, o.SHA256)
		}
	}
	return ""
}

// WrongAt reads every slot of a replacement and returns the first problem that wrong finds. A slot that has a second
// certificate, for another key type, is read once more as clients of the new leaf's key type read it.
func (s wires) WrongAt(ctx context.Context, targets []store.Target, new string,
	wrong func(store.Target, monitor.Sight) string) (string, error) {
	for _, t := range targets {
		sight, err := s.monitor.Read(ctx, t.Slot)
		if err != nil {
			return "", err
		}
		said := wrong(t, sight)
		if kind := s.otherKind(ctx, new, sight); said != "" && kind != "" {
			if said, err = s.wrongAs(ctx, t, new, kind, said, wrong); err != nil {
				return "", err
			}
		}
		if said != "" {
			if len(targets) > 1 {
				said = "slot " + t.Name + ": " + said
			}
			return said, nil
		}
	}
	return "", nil
}

const (
	bothSeen = 4                      // closer looks that must find both certificates of a slot
	between  = 500 * time.Millisecond // the pause between two of them
)

// wrongAs returns what is wrong with a slot for clients that accept one key type only. It counts only if several closer
// looks in a row find both certificates: a server that is reloading shows alternately the old and the new one, and
// would pass for one with two.
func (s wires) wrongAs(ctx context.Context, t store.Target, new string, kind cert.KeyKind, said string,
	wrong func(store.Target, monitor.Sight) string) (string, error) {
	for seen := 0; ; {
		as, err := s.monitor.ReadAs(ctx, t.Slot, kind)
		if err != nil || as.Leaf() == nil || wrong(t, as) != "" {
			return said, err
		}
		look, err := s.monitor.ReadCloser(ctx, t.Slot)
		if err != nil {
			return said, err
		}
		if look.Closer == nil || len(look.Closer.Second) == 0 || look.Closer.Second[0].SHA256 != new {
			return wrong(t, look), nil
		}
		if seen++; seen == bothSeen {
			return "", nil
		}
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return said, ctx.Err()
		}
	}
}

// otherKind returns the key type of the new leaf if a slot serves a certificate of another type.
func (s wires) otherKind(ctx context.Context, new string, sight monitor.Sight) cert.KeyKind {
	leaf := sight.Leaf()
	if new == "" || leaf == nil || leaf.SHA256 == new {
		return ""
	}
	found, err := s.store.Chains.Certificates(ctx, []string{new})
	if err != nil {
		return ""
	}
	served, _ := leaf.KeySize()
	if kind, _ := found[0].KeySize(); kind != served && (kind == cert.RSA || kind == cert.ECDSA) {
		return kind
	}
	return ""
}
