package signing

import (
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"freshseal/contract"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/pile"
	"freshseal/core/replacement"
	"freshseal/store"
)

// takeKey finds the private key of a leaf in its pile, and the one replacement that waits for its names; that gets
// the key in place of the one that it asked with. It reports whether a replacement has the key now. Why in the answer
// says why none could get it.
func (s *Service) takeKey(ctx context.Context, leaf *cert.Certificate, out *contract.Answer, t *taking) (bool, error) {
	item := keyOf(t.accounts, leaf)
	if item == nil {
		return false, nil
	}
	waiting, err := s.store.Replacements.In(ctx, replacement.Waiting)
	if err != nil {
		return false, err
	}
	waiting = slices.DeleteFunc(waiting, func(r store.Replacement) bool {
		return !r.Progress().AtSigner() || len(r.Plan.V.Names) == 0 ||
			slices.ContainsFunc(r.Plan.V.Names, func(name string) bool { return !leaf.Matches(name) })
	})
	switch len(waiting) {
	case 0:
		return false, nil
	case 1:
	default:
		var names []string
		for _, r := range waiting {
			names = append(names, replacement.Name(r.ID))
		}
		out.Why, out.Next = "its key and its names fit several replacements: "+strings.Join(names, ", "),
			"cancel those that it is not meant for, then take it in again"
		return false, nil
	}
	r := waiting[0]
	out.Replacement, out.Device, out.Slot = replacement.Name(r.ID), r.Device, r.Slot
	why, err := s.replacements.TakeKey(ctx, r.ID, item.Key, t.by)
	if err != nil || why != "" {
		if out.Why = why; why != "" {
			out.Next, out.Actions = "have the request of "+out.Replacement+" signed instead",
				[]next.Action{next.ShowReplacement.On(out.Replacement)}
		}
		return false, err
	}
	item.Note = fmt.Sprintf("the private key for %s: it is sealed here until the device has it. Delete the file",
		out.Replacement)
	return true, nil
}

// keyOf returns the key of a leaf among the files of a pile; nil where it is not there.
func keyOf(accounts []pile.Account, leaf *cert.Certificate) *pile.Item {
	for i := range accounts {
		for j := range accounts[i].Holds {
			item := &accounts[i].Holds[j]
			if item.Key == nil {
				continue
			}
			if public, err := x509.MarshalPKIXPublicKey(item.Key.Public()); err == nil &&
				bytes.Equal(public, leaf.RawSubjectPublicKeyInfo) {
				return item
			}
		}
	}
	return nil
}
