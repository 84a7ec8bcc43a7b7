package replace

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"freshseal/contract"
	"freshseal/core/language/procedure"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/device"
	"freshseal/service/monitor"
	"freshseal/service/problem"
	"freshseal/store"
)

// orderItself fits an order to a family whose devices, or their manager, make and sign
// their certificates themselves. Such a device decides on key and subject: who asks for
// another one is told so instead of being passed over.
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

// seeSigned reads the slots until all of them serve one new leaf that the device's own
// authority signed, and records its path: from then on it counts as any other.
func (s *Service) seeSigned(ctx context.Context, j *job, runner *device.Runner) error {
	authorities, err := authoritiesOf(j.scope)
	if err != nil {
		return err
	}
	issuers := chain.NewPool(authorities...)
	var new *cert.Certificate
	var served []*cert.Certificate
	err = s.await(ctx, *j, runner, func(t store.Target, sight monitor.Sight) string {
		leaf := sight.Leaf()
		switch {
		case leaf == nil:
			return sight.Why.What
		case leaf.SHA256 == t.OldSHA256:
			return fmt.Sprintf("it still serves the old certificate “%s” (SHA-256 %.16s…)", leaf.ShortName(),
				leaf.SHA256)
		case !signedByOne(leaf, sight.Chain, issuers):
			return fmt.Sprintf("it serves “%s” (SHA-256 %.16s…), issued by “%s”, which the device's authority “%s” "+
				"did not sign", leaf.ShortName(), leaf.SHA256, leaf.Issuer(), authorities[0].Subject())
		case t.ID != j.targets[0].ID && leaf.SHA256 != new.SHA256:
			return fmt.Sprintf("the slot %s serves another certificate than the slot %s", t.Name, j.targets[0].Name)
		}
		new, served = leaf, sight.Chain
		return ""
	})
	if err != nil {
		return err
	}
	p, err := s.monitor.Pools(ctx)
	if err != nil {
		return err
	}
	p.Pool.Add(authorities...)
	path := p.Path(served, s.now())
	if err := s.store.Chains.AddAuthorities(ctx, path.Certificates[1:]); err != nil {
		return err
	}
	s.monitor.Forget()
	if err := s.store.Replacements.SetPath(ctx, j.ID, path.Certificates); err != nil {
		return err
	}
	j.NewSHA256, j.material.Path = new.SHA256, &path
	j.scope = j.scope.WithMaterial(j.material)
	return nil
}

// signedByOne says that an authority signed a leaf, or an intermediate that is served with it did.
func signedByOne(leaf *cert.Certificate, served []*cert.Certificate, issuers *chain.Pool) bool {
	if len(issuers.Issuers(leaf)) > 0 {
		return true
	}
	between := chain.NewPool(served[1:]...)
	for _, middle := range between.Issuers(leaf) {
		if len(issuers.Issuers(middle)) > 0 {
			return true
		}
	}
	return false
}

// authoritiesOf reads the certificates of the device's authority that its procedure captured.
func authoritiesOf(scope *procedure.Scope) ([]*cert.Certificate, error) {
	captured, missing := scope.Value(procedure.Issuer)
	if missing != nil {
		return nil, fmt.Errorf("the certificate of the device's authority %w", missing)
	}
	accounts, err := pile.Sort([]pile.File{{Name: procedure.Issuer, Content: []byte(captured.Text)}}, pile.Options{})
	if err != nil {
		return nil, fmt.Errorf("reading the certificate of the device's authority: %w", err)
	}
	found := pile.Certificates(accounts)
	for _, c := range found {
		if !c.IsAuthority() {
			return nil, fmt.Errorf("what the device gave as its authority is “%s”, which is no authority",
				c.ShortName())
		}
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("what the device gave as the certificate of its authority holds none: %.60q",
			strings.TrimSpace(cmp.Or(captured.Text, "nothing")))
	}
	return found, nil
}
