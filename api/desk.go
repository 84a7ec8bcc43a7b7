package api

import (
	"context"
	"mime/multipart"

	"freshseal/core/cert"
	"freshseal/core/procedure"
	"freshseal/service"
)

type (
	byAnchor struct {
		Name   string `path:"name" json:"-"`
		SHA256 string `path:"sha256" json:"-"`
	}
	bySHA256 struct {
		SHA256 string `path:"sha256" json:"-"`
	}
	askExport struct {
		Name string `path:"name" json:"-"`
		service.Export
	}
	askAnchors struct {
		Name string `path:"name" json:"-"`
		PEM  string `json:"pem" required:"true" description:"one or more roots"`
	}
	putSigner struct {
		Name string `path:"name" json:"-"`
		service.SignerTerms
	}
	handOver struct {
		ID string `path:"id" json:"-"`
		service.Handover
	}
	askParcel struct {
		Signer string `json:"signer" required:"true"`
	}
	// Procedure is a family's procedure as the API lists it.
	Procedure struct {
		Name     string            `json:"name" required:"true"`
		Title    string            `json:"title" required:"true"`
		About    string            `json:"about" required:"true"`
		Links    []string          `json:"links" required:"true"`
		Keys     []string          `json:"keys" required:"true" description:"the key types that it can make, the usual one first"`
		Settings []Setting         `json:"settings" required:"true"`
		YAML     string            `json:"yaml" required:"true"`
		Usable   bool              `json:"usable" required:"true"`
		Faults   []procedure.Fault `json:"faults" required:"true" description:"of its file, warnings included"`
		Devices  int               `json:"devices" required:"true" description:"how many are of this family"`
	}
	// Setting is a setting of a procedure.
	Setting struct {
		Name    string   `json:"name" required:"true"`
		Kind    string   `json:"kind" required:"true"`
		About   string   `json:"about" required:"true"`
		Default string   `json:"default" required:"true"`
		Choices []string `json:"choices,omitempty"`
	}
	intakeForm struct {
		Files      []*multipart.FileHeader `formData:"file" required:"true" description:"the files of the pile, any names"`
		Passphrase []string                `formData:"passphrase" description:"of PKCS #12 stores and locked keys among them"`
		TrustRoots bool                    `formData:"trust_roots" description:"trust the roots in the pile"`
	}
)

// deskRoutes are about who signs, what goes out and what comes back.
var deskRoutes = []route{
	listing("/signers", "list signers", (*service.Service).Signers),
	does("PUT", "/signers/{name}", "add a person or office that signs, or change what is known of it", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in putSigner) (service.Signer, error) {
		return s.PutSigner(ctx, in.Name, in.SignerTerms)
	}).by(service.Admin),
	removal("/signers/{name}", "remove a signer that no request waits for", (*service.Service).RemoveSigner),
	does("POST", "/parcels/{id}/handover", "record to whom a parcel went, and under which number", 200, func(ctx context.Context, s *service.Service, who service.Bearer, in handOver) (service.Parcel, error) {
		return s.HandOver(ctx, in.ID, in.Handover, who.User)
	}),
	listing("/parcels", "list parcels, newest first", (*service.Service).Parcels),
	posts("/parcels", "pack the requests that wait for a signer", func(ctx context.Context, s *service.Service, who service.Bearer, in askParcel) (service.Parcel, error) {
		return s.PackParcel(ctx, in.Signer, who.User)
	}),
	{method: "GET", path: v1 + "/parcels/{id}/archive", summary: "the parcel as a zip archive", status: 200, in: byID{}, media: "application/zip", handler: archive},
	listing("/asides", "list certificates that match no pending request, newest first", (*service.Service).Asides),
	ends("DELETE", "/asides/{sha256}", "delete a certificate that matches no pending request", func(ctx context.Context, s *service.Service, _ service.Bearer, in bySHA256) error {
		return s.RemoveAside(ctx, in.SHA256)
	}),
	{method: "POST", path: v1 + "/intakes", summary: "take in what a signer sent back", status: 200, in: intakeForm{}, out: service.Intake{}, handler: intake},
}

// ruleRoutes are about what is trusted, what is wanted and how it is done.
var ruleRoutes = []route{
	listing("/audiences", "list audiences, the fleet first", (*service.Service).Audiences),
	showing("/audiences/{name}/anchors", "list the roots that an audience trusts", func(s *service.Service, ctx context.Context, name string) (page[cert.Facts], error) {
		items, err := s.Anchors(ctx, name)
		return page[cert.Facts]{Items: items}, err
	}),
	posts("/audiences/{name}/anchors", "let an audience trust roots", func(ctx context.Context, s *service.Service, _ service.Bearer, in askAnchors) (page[cert.Facts], error) {
		items, err := s.AddAnchors(ctx, in.Name, []byte(in.PEM))
		return page[cert.Facts]{Items: items}, err
	}).by(service.Admin),
	ends("DELETE", "/audiences/{name}/anchors/{sha256}", "let an audience trust a root no more", func(ctx context.Context, s *service.Service, _ service.Bearer, in byAnchor) error {
		return s.RemoveAnchor(ctx, in.Name, in.SHA256)
	}).by(service.Admin),
	{method: "POST", path: v1 + "/audiences/{name}/exports", summary: "the roots of an audience as a kind of client takes them", status: 200, in: askExport{}, media: "application/octet-stream", handler: exportAnchors, quiet: true, role: service.Viewer},
	listing("/policies", "list the rules of every scope, the fleet's first", (*service.Service).Policies),
	does("PUT", "/policies", "set the rules of a scope", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in service.Policy) (service.Policy, error) {
		return s.SetPolicy(ctx, in)
	}).by(service.Admin),
	listing("/procedures", "list procedures", func(s *service.Service, ctx context.Context) ([]Procedure, error) {
		out := []Procedure{}
		used, err := s.Families(ctx)
		if err != nil {
			return nil, err
		}
		all, err := s.Procedures(ctx)
		for _, p := range all {
			out = append(out, showProcedure(p, used[p.Name]))
		}
		return out, err
	}),
	showing("/procedures/{name}", "show a procedure", func(s *service.Service, ctx context.Context, name string) (Procedure, error) {
		p, err := s.Procedure(name)
		if err != nil {
			return Procedure{}, err
		}
		used, err := s.Families(ctx)
		return showProcedure(p, used[name]), err
	}),
}

func showProcedure(p procedure.Source, devices int) Procedure {
	out := Procedure{Name: p.Name, Title: p.Title, About: p.About, YAML: p.YAML, Settings: []Setting{}, Keys: []string{}, Links: append([]string{}, p.Links...), Devices: devices, Usable: p.Usable(), Faults: append([]procedure.Fault{}, p.Faults...)}
	for _, key := range p.Traits.KeyTypes {
		out.Keys = append(out.Keys, string(key))
	}
	for _, s := range p.Settings {
		out.Settings = append(out.Settings, Setting{s.Name, string(s.Kind), s.About, s.Default, s.Choices})
	}
	return out
}
