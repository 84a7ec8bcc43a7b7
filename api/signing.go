package api

import (
	"context"
	"mime/multipart"

	"freshseal/contract"
	"freshseal/core/language/library"
	"freshseal/core/language/procedure"
	"freshseal/core/language/rehearsal"
	"freshseal/core/pki/cert"
	"freshseal/service"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/paging"
	"freshseal/service/people"
	"freshseal/service/signing"
)

type (
	byAnchor struct {
		Name string `path:"name" json:"-"`
		guarded
		SHA256 string `path:"sha256" json:"-"`
	}
	askAuthorities struct {
		Text string `query:"text" json:"-" description:"somewhere in the subject or the SHA-256"`
	}
	bySHA256 struct {
		SHA256 string `path:"sha256" json:"-"`
	}
	askExport struct {
		Name string `path:"name" json:"-"`
		contract.Export
	}
	askAuthorityExport struct {
		SHA256 string `path:"sha256" json:"-"`
		contract.Export
	}
	askAnchors struct {
		Name string `path:"name" json:"-"`
		guarded
		PEM string `json:"pem" required:"true" description:"one or more roots"`
	}
	putSigner struct {
		Name string `path:"name" json:"-"`
		guarded
		contract.SignerTerms
	}
	addIssuer struct {
		Name string `path:"name" json:"-"`
		contract.NewIssuer
	}
	byIssuer struct {
		Name string `path:"name" json:"-"`
		Key  string `path:"key" json:"-"`
	}
	handOver struct {
		ID string `path:"id" json:"-"`
		contract.Handover
	}
	putPolicy struct {
		guarded
		contract.NewPolicy
	}
	askParcel struct {
		Signer string `json:"signer" required:"true"`
		// only the requests of these; none: all that are pending
		Replacements []string `json:"replacements,omitempty"`
	}
	intakeForm struct {
		Files      []*multipart.FileHeader `formData:"file" required:"true" description:"the files of the pile, any names"`
		Passphrase []string                `formData:"passphrase" description:"of PKCS #12 stores and locked keys among them"`
		Keys       bool                    `formData:"keys" description:"take private keys in, for replacements of families that are given their key"`
		TrustRoots bool                    `formData:"trust_roots" description:"trust the roots in the pile"`
	}
)

// deskRoutes are about who signs, what goes out and what comes back.
var deskRoutes = []route{
	listing("/signers", "list signers", theSigning, (*signing.Service).Signers),
	looks("/bench", "show the certificates of the authority bench", func(ctx context.Context, s *service.Service,
		_ people.Bearer, _ nothing) (contract.Bench, error) {
		return s.Signing.Lab.Bench(ctx)
	}),
	does("PUT", "/bench", "set the authority bench up again", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in contract.BenchSetup) (contract.Bench, error) {
		return s.Signing.Lab.SetUpBench(ctx, in)
	}).by(contract.Admin),
	does("PUT", "/signers/{name}", "add or change a signer", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in putSigner) (contract.Signer, error) {
		known, err := in.revision()
		if err != nil {
			return contract.Signer{}, err
		}
		return s.Signing.PutSigner(ctx, in.Name, in.SignerTerms, known)
	}).by(contract.Admin),
	does("POST", "/signers/{name}/issuers", "record with which certification authority a signer signs, or confirm "+
		"one that was learnt", 200, func(ctx context.Context, s *service.Service, who people.Bearer,
		in addIssuer) (contract.Signer, error) {
		return s.Signing.PutIssuer(ctx, in.Name, in.NewIssuer, who.User)
	}).by(contract.Admin),
	ends("DELETE", "/signers/{name}/issuers/{key}", "forget a certification authority of a signer",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byIssuer) error {
			return s.Signing.RemoveIssuer(ctx, in.Name, in.Key)
		}).by(contract.Admin),
	removal("/signers/{name}", "delete a signer that has no pending request", theSigning,
		(*signing.Service).RemoveSigner),
	does("POST", "/parcels/{id}/handover", "record who received a parcel, and its reference number", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, in handOver) (contract.Parcel, error) {
			return s.Signing.HandOver(ctx, in.ID, in.Handover, who.User)
		}),
	looks("/parcels", "list parcels, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in paged) (page[contract.Parcel], error) {
		return pageOf(ctx, in, nothing{}, func(ctx context.Context, _ nothing, p paging.Page) ([]contract.Parcel,
			string, error) {
			return s.Signing.Parcels(ctx, p)
		},
			func(ctx context.Context, _ nothing) (int, error) { return s.Signing.CountParcels(ctx) })
	}),
	posts("/parcels", "pack the requests that wait for a signer", func(ctx context.Context, s *service.Service,
		who people.Bearer, in askParcel) (contract.Parcel, error) {
		return s.Signing.PackParcel(ctx, in.Signer, in.Replacements, who.User)
	}),
	{method: "GET", path: v1 + "/parcels/{id}/archive", summary: "the parcel as a zip archive", status: 200,
		in: byID{}, media: "application/zip", handler: archive},
	listing("/unmatched", "list certificates that match no pending request, newest first", theSigning,
		(*signing.Service).Unmatched),
	ends("DELETE", "/unmatched/{sha256}", "delete a certificate that matches no pending request",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySHA256) error {
			return s.Signing.RemoveUnmatched(ctx, in.SHA256)
		}),
	{method: "POST", path: v1 + "/intakes", summary: "intake: certificates from a signer", status: 200,
		in: intakeForm{}, out: contract.Intake{}, handler: intake},
}

// ruleRoutes are about what is trusted, what is wanted and how it is done.
var ruleRoutes = []route{
	listing("/trust-groups", "list trust groups, the fleet first", theMonitor, (*monitor.Service).TrustGroups),
	showing("/trust-groups/{name}/anchors", "list the roots that a trust group trusts", theTrust,
		func(s *monitor.Trust, ctx context.Context, name string) (page[cert.Facts], error) {
			items, err := s.Anchors(ctx, name)
			return page[cert.Facts]{Items: items}, err
		}),
	posts("/trust-groups/{name}/anchors", "add roots to a trust group", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in askAnchors) (page[cert.Facts], error) {
		known, err := in.revision()
		if err != nil {
			return page[cert.Facts]{}, err
		}
		items, err := s.Monitor.AddAnchors(ctx, in.Name, []byte(in.PEM), known)
		return page[cert.Facts]{Items: items}, err
	}).by(contract.Admin).forGood(),
	ends("DELETE", "/trust-groups/{name}/anchors/{sha256}", "remove a root from a trust group",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byAnchor) error {
			known, err := in.revision()
			if err != nil {
				return err
			}
			return s.Monitor.Trust.RemoveAnchor(ctx, in.Name, in.SHA256, known)
		}).by(contract.Admin),
	{method: "POST", path: v1 + "/trust-groups/{name}/exports", summary: "export the roots of a trust group in the " +
		"form that a kind of client needs", status: 200, in: askExport{}, media: "application/octet-stream",
		handler: exportAnchors, quiet: true, role: contract.Viewer},
	looks("/authorities", "list the certificates from which chains are completed; nobody trusts them for that",
		func(ctx context.Context, s *service.Service, _ people.Bearer,
			in askAuthorities) (contract.Authorities, error) {
			return s.Monitor.Trust.Authorities(ctx, in.Text)
		}),
	{method: "POST", path: v1 + "/authorities/{sha256}/exports", summary: "export a root or an intermediate in the " +
		"form that a kind of client needs", status: 200, in: askAuthorityExport{}, media: "application/octet-stream",
		handler: exportAuthority, quiet: true, role: contract.Viewer},
	ends("DELETE", "/authorities/{sha256}", "remove an authority", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in bySHA256) error {
		return s.Monitor.Trust.RemoveAuthority(ctx, in.SHA256)
	}).by(contract.Admin),
	listing("/policies", "list the rules of every scope, the fleet's first", theRules, (*monitor.Policies).Policies),
	does("PUT", "/policies", "set the rules of a scope", 200, func(ctx context.Context, s *service.Service,
		who people.Bearer, in putPolicy) (contract.Policy, error) {
		known, err := in.revision()
		if err != nil {
			return contract.Policy{}, err
		}
		if changes, err := s.Monitor.Rules.ChangesApproval(ctx, in.NewPolicy); err != nil {
			return contract.Policy{}, err
		} else if changes { // whoever may drop the approval may do without it
			if err := s.People.Sure(ctx, who); err != nil {
				return contract.Policy{}, err
			}
		}
		return s.Monitor.Rules.SetPolicy(ctx, in.NewPolicy, known)
	}).by(contract.Admin),
	listing("/procedures", "list procedures", theFleet,
		func(s *fleet.Service, ctx context.Context) ([]contract.Procedure, error) {
			out := []contract.Procedure{}
			used := s.Families()
			for _, p := range s.Procedures() {
				out = append(out, showProcedure(p, used[p.Name]))
			}
			return out, nil
		}),
	showing("/procedures/{name}", "show a procedure", theFleet,
		func(s *fleet.Service, ctx context.Context, name string) (contract.Procedure, error) {
			p, err := s.Procedure(name)
			if err != nil {
				return contract.Procedure{}, err
			}
			return showProcedure(p, s.Families()[name]), nil
		}),
}

func showProcedure(p library.Source, devices int) contract.Procedure {
	out := contract.Procedure{Name: p.Name, Title: p.Title, About: p.About, Steps: rehearsal.Tell(p.Procedure),
		YAML:     p.YAML,
		Settings: []contract.Setting{}, Keys: []string{}, Links: append([]string{}, p.Links...),
		Signs: p.Traits.SignsItself, Devices: devices, Usable: p.Usable(),
		Faults: append([]procedure.Fault{}, p.Faults...)}
	for _, key := range p.Traits.KeyTypes {
		out.Keys = append(out.Keys, string(key))
	}
	for _, s := range p.Settings {
		out.Settings = append(out.Settings, contract.Setting{Name: s.Name, Kind: string(s.Kind), About: s.About,
			Default: s.Default, Choices: s.Choices})
	}
	return out
}
