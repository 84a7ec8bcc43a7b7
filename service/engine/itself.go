package engine

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"freshseal/core/language/procedure"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/service/monitor"
	"freshseal/store"
)

// seeSigned reads the slots until all of them serve one new leaf that the device's own authority signed, and records
// its path. From then on it is treated like any other.
func (w *visit) seeSigned(ctx context.Context) error {
	authorities, err := authoritiesOf(w.j.Scope)
	if err != nil {
		return err
	}
	issuers := chain.NewPool(authorities...)
	var new *cert.Certificate
	var served []*cert.Certificate
	err = w.await(ctx, func(t store.Target, sight monitor.Sight) string {
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
		case t.ID != w.j.Targets[0].ID && leaf.SHA256 != new.SHA256:
			return fmt.Sprintf("the slot %s serves another certificate than the slot %s", t.Name, w.j.Targets[0].Name)
		}
		new, served = leaf, sight.Chain
		return ""
	})
	if err != nil {
		return err
	}
	p, err := w.monitor.Pools(ctx)
	if err != nil {
		return err
	}
	p.Pool.Add(authorities...)
	path := p.Path(served, w.now())
	if err := w.store.Chains.AddAuthorities(ctx, path.Certificates[1:]); err != nil {
		return err
	}
	w.monitor.Forget()
	if err := w.store.Replacements.SetPath(ctx, w.j.ID, path.Certificates); err != nil {
		return err
	}
	w.j.NewSHA256, w.j.Material.Path = new.SHA256, &path
	w.j.Scope = w.j.Scope.WithMaterial(w.j.Material)
	return nil
}

// signedByOne reports whether an authority signed a leaf, or an intermediate that is served with it did.
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

// authoritiesOf returns the certificates of the device's authority that its procedure captured.
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
