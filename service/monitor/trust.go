package monitor

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"freshseal/contract"
	"freshseal/core/naming"
	"freshseal/core/next"
	"freshseal/core/pki/cert"
	"freshseal/core/pki/chain"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/trust"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
)

// TrustGroups returns all trust groups, the fleet first.
func (s *Service) TrustGroups(ctx context.Context) ([]contract.TrustGroup, error) {
	counts, err := s.store.Chains.CountAnchors(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.store.Revisions.OfKind(ctx, "trust-group")
	out := []contract.TrustGroup{{Name: Fleet, Roots: counts[Fleet], Revision: known[Fleet]}}
	for name, n := range counts {
		if name != Fleet {
			out = append(out, contract.TrustGroup{Name: name, Roots: n, Revision: known[name]})
		}
	}
	slices.SortFunc(out[1:], func(a, b contract.TrustGroup) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// Anchors returns the roots that a trust group trusts.
func (s *Trust) Anchors(ctx context.Context, name string) ([]cert.Facts, error) {
	roots, err := s.store.Chains.Anchors(ctx, name)
	if err == nil && len(roots) == 0 && name != Fleet {
		err = noTrustGroup(name)
	}
	out := make([]cert.Facts, 0, len(roots))
	for _, c := range roots {
		out = append(out, c.Facts())
	}
	return out, err
}

// KnownTrustGroups refuses trust groups that do not exist, or are named twice.
func (s *Trust) KnownTrustGroups(ctx context.Context, cannot string, names []string) error {
	counts, err := s.store.Chains.CountAnchors(ctx)
	if err != nil {
		return err
	}
	for i, name := range names {
		if _, has := counts[name]; !has && name != Fleet {
			return problem.Reject(cannot, fmt.Sprintf("no trust group is called %q", name),
				"to create a trust group, add a root to it", next.ListTrustGroups.On(""))
		}
		if slices.Contains(names[:i], name) {
			return problem.Reject(cannot, "the trust group "+name+" is named twice", "name each once",
				next.Give.On("trust_groups"))
		}
	}
	return nil
}

func noTrustGroup(name string) error {
	return problem.New(problem.NotFound, fmt.Sprintf("no trust group is called %q", name), "",
		"to create a trust group, add a root to it", next.ListTrustGroups.On(""))
}

// AddAnchors makes a trust group trust every root in a file; the first root creates the group. A file with anything
// else is refused, so that trust is given deliberately.
func (s *Service) AddAnchors(ctx context.Context, name string, content []byte,
	known problem.Revision) ([]cert.Facts, error) {
	if !naming.Label(name) {
		return nil, problem.Reject("no anchor was added", fmt.Sprintf("%q is not a valid trust group name", name),
			naming.Rule)
	}
	accounts, err := pile.Sort([]pile.File{{Content: content}}, pile.Options{})
	if err != nil {
		return nil, problem.Reject("no anchor was added", err.Error(), "give one root")
	}
	roots := pile.Certificates(accounts)
	if len(roots) == 0 {
		return nil, problem.Reject("no anchor was added", "the file holds no certificate: "+accounts[0].Holds[0].Note,
			"give a root as PEM or DER")
	}
	var out []cert.Facts
	for _, c := range roots {
		if !c.SelfSigned() || c.Version == 3 && !c.IsAuthority() {
			return nil, problem.Reject("no anchor was added", "“"+c.ShortName()+"” is not a root certificate",
				"give the self-signed root; intermediates are not trusted by themselves")
		}
		audit.Say(ctx, "root %s “%s”", c.SHA256, c.ShortName())
		out = append(out, c.Facts())
	}
	s.anchorLock.Lock()
	defer s.anchorLock.Unlock()
	if err := s.store.Chains.AddAnchors(ctx, name, s.moment(), roots, known); err != nil {
		return nil, problem.Outdated(err)
	}
	return out, s.judgeFor(ctx, name)
}

// RemoveAnchor removes a root from a trust group. A trust group without roots no longer exists.
func (s *Trust) RemoveAnchor(ctx context.Context, name, sha256 string, known problem.Revision) error {
	s.anchorLock.Lock()
	defer s.anchorLock.Unlock()
	if err := s.store.Chains.RemoveAnchor(ctx, name, sha256, known); err != nil {
		return noRoot(problem.Outdated(err), name, sha256)
	}
	return s.judgeFor(ctx, name)
}

func noRoot(err error, name, sha256 string) error {
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return problem.New(problem.NotFound, fmt.Sprintf("the trust group %s has no root %s", name, sha256), "", "",
		next.ShowTrustGroup.On(name))
}

// judgeFor judges all slots again, since what a trust group trusts changed.
func (s *Service) judgeFor(ctx context.Context, name string) error {
	s.Forget()
	return s.rejudging.judgeAgain(ctx) // slots may be judged by any of them
}

// ExportAnchors writes the roots of a trust group in the form in which a kind of
// client takes them.
func (s *Trust) ExportAnchors(ctx context.Context, name string, e contract.Export) (trust.File, error) {
	roots, err := s.store.Chains.Anchors(ctx, name)
	if err != nil {
		return trust.File{}, err
	}
	if len(roots) == 0 {
		return trust.File{}, noTrustGroup(name)
	}
	if e.LackedBy != "" {
		held, err := s.store.Chains.Anchors(ctx, e.LackedBy)
		if err != nil {
			return trust.File{}, err
		}
		if len(held) == 0 {
			return trust.File{}, noTrustGroup(e.LackedBy)
		}
		has := chain.NewPool(held...)
		if roots = slices.DeleteFunc(roots, has.Has); len(roots) == 0 {
			return trust.File{},
				problem.Reject("nothing was exported", fmt.Sprintf("%s has every root of %s", e.LackedBy, name),
					"there is nothing to add")
		}
		name = e.LackedBy
	}
	f, err := trust.Export(trust.Form(e.Form), name, roots, e.Passphrase)
	if err != nil {
		return f, problem.Reject("nothing was exported", err.Error(), fmt.Sprintf("the forms are %v", trust.Forms),
			next.Give.On("form"))
	}
	return f, nil
}

// ExportAuthority writes a root or an intermediate that is known here in the form in which a kind of client takes it.
func (s *Trust) ExportAuthority(ctx context.Context, sha256 string, e contract.Export) (trust.File, error) {
	found, err := s.store.Chains.Certificates(ctx, []string{strings.ToLower(sha256)})
	if errors.Is(err, store.ErrNotFound) || err == nil && len(found) == 0 {
		return trust.File{}, problem.New(problem.NotFound, "no certificate with the SHA-256 "+sha256+" is known", "",
			"", next.ListAuthorities.On(""))
	}
	if err != nil {
		return trust.File{}, err
	}
	if c := found[0]; !c.IsAuthority() && !c.SelfSigned() {
		return trust.File{}, problem.Reject("nothing was exported", "“"+c.ShortName()+"” is neither a root nor an "+
			"intermediate", "export the chain of its slot instead", next.ListAuthorities.On(""))
	}
	f, err := trust.Export(trust.Form(e.Form), "authority-"+found[0].SHA256[:16], found, e.Passphrase)
	if err != nil {
		return f, problem.Reject("nothing was exported", err.Error(), fmt.Sprintf("the forms are %v", trust.Forms),
			next.Give.On("form"))
	}
	return f, nil
}

// Trusting holds what every trust group trusts.
type Trusting struct {
	names []string
	roots map[string]*chain.Pool
	known *chain.Pool // all that is known: roots can be named as what is lacking
}

// Trusting loads what every trust group trusts, and all that paths can be made of.
func (s *Service) Trusting(ctx context.Context, p Pools) (Trusting, error) {
	all, err := s.TrustGroups(ctx)
	if err != nil {
		return Trusting{}, err
	}
	t := NewTrusting(p)
	for _, each := range all {
		roots, err := s.store.Chains.Anchors(ctx, each.Name)
		if err != nil {
			return t, err
		}
		t.Add(each.Name, roots...)
	}
	return t, nil
}

// NewTrusting returns what no trust group trusts yet; paths are made of what is in the pools.
func NewTrusting(p Pools) Trusting {
	t := Trusting{roots: map[string]*chain.Pool{}, known: chain.NewPool(p.Pool.All()...)}
	t.known.Add(p.Anchors.All()...)
	return t
}

// Add adds a trust group with its roots.
func (t *Trusting) Add(group string, roots ...*cert.Certificate) {
	t.names, t.roots[group] = append(t.names, group), chain.NewPool(roots...)
}

// Of asks every trust group about a chain as it is served.
func (t Trusting) Of(served []*cert.Certificate, at time.Time) []contract.Trust {
	t.known.Add(served[1:]...)
	out := make([]contract.Trust, 0, len(t.names))
	for _, name := range t.names {
		path := chain.Complete(served[0], t.known, t.roots[name], at)
		trust := contract.Trust{TrustGroup: name, Trusted: path.Anchored}
		switch {
		case trust.Trusted:
		case path.Root() != nil:
			trust.Lacks = path.Root().ShortName()
		case path.Missing != nil:
			trust.Lacks = path.Missing.Subject
		default:
			trust.Lacks = served[0].ShortName()
		}
		out = append(out, trust)
	}
	return out
}
