package service

import (
	"context"
	"errors"
	"fmt"
	"freshseal/core/due"
	"strconv"
	"strings"
	"time"

	"freshseal/core/cert"
	"freshseal/core/chain"
	"freshseal/core/finding"
	"freshseal/core/pile"
	"freshseal/core/policy"
	"freshseal/core/replacement"
	"freshseal/core/request"
	"freshseal/signer"
	"freshseal/store"
)

// benchLifetime is what is asked of bench.
const benchLifetime = signer.BenchLeaf

// Parcel is a bundle of requests that went out to a signer.
type Parcel struct {
	ID       string    `json:"id" required:"true"`
	Signer   string    `json:"signer" required:"true"`
	PackedAt time.Time `json:"packed_at" required:"true"`
	PackedBy string    `json:"packed_by" required:"true"`
	Requests int       `json:"requests" required:"true"`
	Open     int       `json:"open" required:"true"`

	State     string     `json:"state" required:"true" enum:"packed,handed-over,partly-back,complete"`
	HandedTo  string     `json:"handed_to,omitempty"`
	Reference string     `json:"reference,omitempty" description:"the signer's number for it"`
	HandedAt  *time.Time `json:"handed_at,omitempty"`
	BackBy    *time.Time `json:"back_by,omitempty" description:"when the signer should have answered, working days counted"`
	Late      bool       `json:"late" required:"true" description:"that time is over and something is not back"`
	Obsolete  int        `json:"obsolete" required:"true" description:"requests of it that were asked for anew since"`
	Reminder  string     `json:"reminder,omitempty" description:"what to do about what is late"`
}

func parcelText(id int64) string { return "p" + strconv.FormatInt(id, 10) }

func (s *Service) showParcel(ctx context.Context, p store.Parcel) (Parcel, error) {
	out := Parcel{ID: parcelText(p.ID), Signer: p.Signer, PackedAt: p.PackedAt.Time, PackedBy: p.PackedBy, Requests: p.Requests, Open: p.Open, Obsolete: p.Obsolete,
		State: "packed", HandedTo: p.HandedTo, Reference: p.Reference}
	signer, err := s.signer(ctx, p.Signer)
	if known := (*Error)(nil); err != nil && !errors.As(err, &known) { // it may have been removed since
		return out, err
	}
	if !p.HandedAt.IsZero() {
		out.State, out.HandedAt = "handed-over", &p.HandedAt.Time
		if signer.TurnaroundDays > 0 {
			back := due.WorkingDays(p.HandedAt.Time, signer.TurnaroundDays)
			out.BackBy, out.Late = &back, p.Open > 0 && s.now().After(back)
		}
		if out.Late {
			out.Reminder = fmt.Sprintf("it was due back on %s: ask %s", out.BackBy.Format(time.DateOnly), p.HandedTo)
			if signer.Contact != "" && signer.Contact != p.HandedTo {
				out.Reminder += " (" + signer.Contact + ")"
			}
			if p.Reference != "" {
				out.Reminder += ", reference " + p.Reference
			}
		}
	}
	switch {
	case p.Open == 0:
		out.State = "complete"
	case p.Open < p.Requests:
		out.State = "partly-back"
	}
	return out, nil
}

// PackParcel bundles the requests that wait for this signer and are in no
// parcel yet.
func (s *Service) PackParcel(ctx context.Context, signerName, by string) (Parcel, error) {
	signer, err := s.signer(ctx, signerName)
	if err != nil {
		return Parcel{}, err
	}
	if signer.Kind != DeskSigner {
		return Parcel{}, invalid("no parcel was packed", fmt.Sprintf("%s takes no parcels: it signs at once", signerName), "give --signer desk")
	}
	id, _, err := s.store.AddParcel(ctx, signerName, by, s.moment())
	if errors.Is(err, store.ErrNotFound) {
		return Parcel{}, &Error{Conflict, "no parcel was packed", "no request waits for this signer that is not in a parcel already", "see: freshseal parcel list; an earlier one can be had again with parcel get"}
	}
	if err != nil {
		return Parcel{}, err
	}
	p, _, err := s.store.Parcel(ctx, id)
	if err != nil {
		return Parcel{}, err
	}
	return s.showParcel(ctx, p)
}

// Parcels are all parcels, newest first.
func (s *Service) Parcels(ctx context.Context) ([]Parcel, error) {
	rows, err := s.store.Parcels(ctx)
	out := make([]Parcel, 0, len(rows))
	for _, row := range rows {
		p, err := s.showParcel(ctx, row)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, err
}

func (s *Service) parcelRow(ctx context.Context, id string) (store.Parcel, []store.Replacement, error) {
	digits, ok := strings.CutPrefix(id, "p")
	n, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || !ok {
		n = 0
	}
	p, packed, err := s.store.Parcel(ctx, n)
	return p, packed, notFound(err, "see: freshseal parcel list", "no parcel is called %q", id)
}

// ParcelArchive is the zip that goes to the signer; it can be had again.
func (s *Service) ParcelArchive(ctx context.Context, id string) ([]byte, error) {
	p, packed, err := s.parcelRow(ctx, id)
	if err != nil {
		return nil, err
	}
	var wish signer.Wish
	to, err := s.signer(ctx, p.Signer)
	if err == nil {
		wish = signer.Wish{Profile: to.Terms.Profile, Notes: to.Notes}
	}
	var errands []signer.Errand
	for _, r := range packed {
		made, err := request.Parse(r.Request)
		if err != nil {
			return nil, err
		}
		device, err := s.store.Device(ctx, r.Device)
		if err != nil {
			return nil, err
		}
		rules, err := s.rulesOf(ctx, r)
		if err != nil {
			return nil, err
		}
		errands = append(errands, signer.Errand{Replacement: idText(r.ID), Device: r.Device, Slot: r.Slot, Request: made, Days: rules.Lifetime(to.MaxDays, to.Terms.Public, s.now()), Notes: device.Notes})
	}
	return signer.Parcel(parcelText(p.ID), p.PackedAt.Time, wish, errands)
}

// Intake is the account of a pile that came back.
type Intake struct {
	Files   []pile.Account `json:"files" required:"true"`
	Answers []Answer       `json:"answers" required:"true"`
}

// IntakeTerms say how a pile is to be taken.
type IntakeTerms struct {
	TrustRoots  bool     // trust the roots in it from now on
	Passphrases []string // of PKCS #12 stores in it
}

// Answer is one leaf of a pile and what became of it.
type Answer struct {
	Leaf        string            `json:"leaf" required:"true" description:"its common name"`
	SHA256      string            `json:"sha256" required:"true"`
	Replacement string            `json:"replacement,omitempty"`
	Device      string            `json:"device,omitempty"`
	Slot        string            `json:"slot,omitempty"`
	Accepted    bool              `json:"accepted" required:"true"`
	Why         string            `json:"why,omitempty" description:"why it was not accepted"`
	Next        string            `json:"next,omitempty"`
	Findings    []finding.Finding `json:"findings" required:"true"`
	Chain       []Link            `json:"chain" required:"true"`
	Trust       []Trust           `json:"trust" required:"true" description:"which audiences will trust it, and what the others lack"`
	Aside       bool              `json:"aside" required:"true" description:"nobody waits for it, and it was kept aside"`
	Near        []Near            `json:"near" required:"true" description:"for whom it may have been meant"`
}

// TakeIn sorts a pile, matches leaves to waiting requests by their public key,
// completes and judges each chain, and lets those go on that are good. Roots
// in the pile are trusted only when the terms say so.
func (s *Service) TakeIn(ctx context.Context, files []pile.File, terms IntakeTerms, by string) (Intake, error) {
	accounts, err := pile.Sort(files, pile.Options{Passphrases: terms.Passphrases})
	if err != nil {
		return Intake{}, invalid("the pile was not taken in", err.Error(), "split it")
	}
	out := Intake{Files: accounts, Answers: []Answer{}}
	authorities, leaves := split(pile.Certificates(accounts))
	if err := s.store.AddAuthorities(ctx, authorities); err != nil {
		return out, err
	}
	if terms.TrustRoots {
		for _, c := range authorities {
			if c.SelfSigned() {
				if _, err := s.AddAnchors(ctx, Fleet, c.PEM()); err != nil {
					return out, err
				}
			}
		}
	}
	if leaves, err = s.withEarlier(ctx, leaves); err != nil {
		return out, err
	}
	p, err := s.pools(ctx)
	if err != nil {
		return out, err
	}
	p.pool.Add(authorities...)
	t := &taking{pools: p, by: by}
	if t.trusting, err = s.trusting(ctx, p); err != nil {
		return out, err
	}
	defer func() { // also of a pile that could not be taken in whole
		for _, each := range t.accepted {
			s.drive(each.id, each.action)
		}
	}()
	for _, leaf := range leaves {
		answer, err := s.answer(ctx, leaf, t)
		if err != nil {
			return out, err
		}
		s.options.Log.Info("intake", "leaf", leaf.ShortName(), "replacement", answer.Replacement, "accepted", answer.Accepted, "why", answer.Why, "by", by)
		out.Answers = append(out.Answers, answer)
	}
	return out, nil
}

// taking is a pile that is being taken in.
type taking struct {
	pools
	trusting
	by       string
	accepted []accepted
	near     neighbours // once somebody wants to know
}

// accepted is a replacement that goes on once the whole pile is sorted.
type accepted struct {
	id     int64
	action replacement.Action
}

func split(certificates []*cert.Certificate) (authorities, leaves []*cert.Certificate) {
	for _, c := range certificates {
		if c.IsAuthority() || c.SelfSigned() {
			authorities = append(authorities, c)
		} else {
			leaves = append(leaves, c)
		}
	}
	return authorities, leaves
}

// withEarlier adds the leaves that came earlier and still lack something, which
// this pile may bring, and those that lay aside and are waited for by now.
func (s *Service) withEarlier(ctx context.Context, leaves []*cert.Certificate) ([]*cert.Certificate, error) {
	waiting, err := s.store.ReplacementsIn(ctx, replacement.Waiting)
	if err != nil {
		return nil, err
	}
	given, asked := map[string]bool{}, map[string]bool{}
	for _, leaf := range leaves {
		given[cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)] = true
	}
	for _, r := range waiting {
		if given[r.SPKI] || !r.Progress().AtSigner() {
			continue
		}
		asked[r.SPKI] = true
		if r.Offered == "" {
			continue
		}
		earlier, err := s.store.Certificates(ctx, []string{r.Offered})
		if err != nil {
			return nil, err
		}
		leaves = append(leaves, earlier...)
	}
	asides, err := s.store.Asides(ctx)
	for _, a := range asides {
		leaf, err := cert.Parse(a.DER)
		if err != nil {
			return nil, err
		}
		if asked[cert.Fingerprint(leaf.RawSubjectPublicKeyInfo)] {
			leaves = append(leaves, leaf)
		}
	}
	return leaves, err
}

// answer finds the request that a leaf answers, and lets its replacement go on
// when the chain is good.
func (s *Service) answer(ctx context.Context, leaf *cert.Certificate, t *taking) (Answer, error) {
	p := t.pools
	out := Answer{Leaf: leaf.ShortName(), SHA256: leaf.SHA256, Findings: []finding.Finding{}, Chain: []Link{}, Trust: []Trust{}, Near: []Near{}}
	matches, err := s.store.ReplacementsByKey(ctx, cert.Fingerprint(leaf.RawSubjectPublicKeyInfo))
	if err != nil {
		return out, err
	}
	if len(matches) == 0 {
		if former, err := s.answersFormer(ctx, leaf, &out); err != nil || former {
			return out, err
		}
		return out, s.layAside(ctx, leaf, &out, t)
	}
	r := matches[0]
	out.Replacement, out.Device, out.Slot = idText(r.ID), r.Device, r.Slot
	switch {
	case leaf.SHA256 == r.OldSHA256: // the same key again: what stands has it too
		out.Why = "it is what the slot serves already"
		out.Next = "give what the signer made of the newer request"
		return out, nil
	case !r.Progress().AtSigner():
		out.Why = fmt.Sprintf("the replacement it answers does not wait for it: it is %s in stage %s", r.State, r.Stage)
		out.Next = "see: freshseal replacement show " + idText(r.ID)
		return out, nil
	}
	path, found, err := s.judgeNew(ctx, leaf, p, r)
	for range mostFetches {
		more := false
		if err == nil {
			more, err = s.fetchMissing(ctx, path, p)
		}
		if err != nil || !more {
			break
		}
		path, found, err = s.judgeNew(ctx, leaf, p, r)
	}
	if err != nil {
		return out, err
	}
	out.Chain = links(path, path.Certificates)
	out.Trust = t.trusting.of(path.Certificates, s.now())
	out.Findings = append(out.Findings, found...)
	if wrong := finding.Errors(found); len(wrong) > 0 {
		out.Why, out.Next = wrong[0].What, wrong[0].Remedy
		return out, s.store.SetOffered(ctx, r.ID, leaf)
	}
	_, action, err := s.store.Accept(ctx, r.ID, path.Certificates, s.moment())
	if errors.Is(err, store.ErrNotFound) || errors.As(err, new(replacement.Impossible)) {
		out.Why, out.Next = "somebody gave an answer to it at the same moment", "see: freshseal replacement show "+idText(r.ID)
		return out, nil
	}
	if err != nil {
		return out, err
	}
	s.watchers.tell(r.ID)
	out.Accepted = true
	t.accepted = append(t.accepted, accepted{r.ID, action})
	return out, nil
}

// judgeNew completes and judges a chain that is going to be installed. A root
// that came with the pile but is not trusted by the fleet is a warning: who
// gives the pile may know better than we do.
func (s *Service) judgeNew(ctx context.Context, leaf *cert.Certificate, p pools, r store.Replacement) (chain.Path, []finding.Finding, error) {
	made, err := request.Parse(r.Request)
	if err != nil {
		return chain.Path{}, nil, err
	}
	path := chain.Complete(leaf, p.pool, p.anchors, s.now())
	found := chain.Judge(path, chain.Terms{At: s.now(), Names: r.Plan.V.Names, SPKI: made.SPKI(), Weak: r.Plan.V.Weak})
	found = append(found, lifetime(leaf, p.signers[r.Signer])...)
	for i, f := range found {
		if f.Code == finding.AnchorUnknown {
			found[i] = f.As(finding.Warning)
		}
	}
	slot, err := s.store.Slot(ctx, r.Device, r.Slot)
	if err != nil {
		return path, nil, err
	}
	for _, f := range p.rules.of(slot).Judge(path.Certificates) {
		found = append(found, f.As(finding.Warning)) // clients take it; the policy may change
	}
	return path, found, nil
}

// lifetime finds leaves that live longer than they may, or so short that it
// must be a trial.
func lifetime(leaf *cert.Certificate, signer Signer) []finding.Finding {
	days := int((leaf.NotAfter.Sub(leaf.NotBefore) + time.Hour).Hours() / 24)
	var found []finding.Finding
	if most := policy.PublicMaxDays(leaf.NotBefore); signer.Terms.Public && days > most {
		found = append(found, finding.LifetimeTooLong.Found("%s lives for %d days; publicly trusted ones of that day may live %d", leaf.ShortName(), days, most).
			WithRemedy("ask the signer for a shorter one: clients refuse this one"))
	}
	if signer.MaxDays > 0 && days < signer.MaxDays/3 {
		found = append(found, finding.LifetimeTooShort.Found("%s lives for %d days, and %s issues up to %d", leaf.ShortName(), days, signer.Name, signer.MaxDays))
	}
	return found
}
