package api

import (
	"context"
	"io"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/paging"
	"freshseal/service/people"
)

type (
	askPassword struct {
		Old string `json:"old" required:"true"`
		New string `json:"new" required:"true"`
	}
	editUser struct {
		Name string `path:"name" json:"-"`
		contract.UserChange
	}
	askHead struct {
		Head string `query:"head" json:"-" description:"ID:HASH, as it was noted earlier: it must still be there"`
	}
	auditQuery struct {
		contract.AuditFilter
		paged
	}
	askSessions struct {
		All string `query:"all" json:"-" enum:"true,false" description:"of all users, for an admin"`
	}
	rotateToken struct {
		ID string `path:"id" json:"-"`
		contract.TokenRotation
	}
	byView struct {
		Page string `path:"page" json:"-"`
		Name string `path:"name" json:"-"`
	}
)

// peopleRoutes are about who may do what, and who did.
var peopleRoutes = []route{
	{method: "POST", path: v1 + "/session", summary: "sign in", status: 201, in: contract.SignIn{},
		out: contract.Session{}, handler: signIn, open: true},
	{method: "GET", path: v1 + "/session", summary: "who is signed in", status: 200, out: contract.Session{},
		handler: session, early: true},
	{method: "DELETE", path: v1 + "/session", role: contract.Viewer, summary: "sign out", status: 204,
		handler: signOut(false), early: true},
	{method: "DELETE", path: v1 + "/sessions", role: contract.Viewer, summary: "sign out everywhere", status: 204,
		handler: signOut(true), early: true},
	ends("POST", "/session/confirmation", "give the password or a code again, for what cannot be taken back",
		func(ctx context.Context, s *service.Service, who people.Bearer, in contract.Confirmation) error {
			return s.People.Confirm(ctx, who, in)
		}).by(contract.Viewer),
	looks("/sessions", "list who is signed in: oneself, or for an admin everybody",
		func(ctx context.Context, s *service.Service, who people.Bearer, in askSessions) (page[contract.SignedIn],
			error) {
			items, err := s.People.Sessions.List(ctx, who, in.All == "true")
			return page[contract.SignedIn]{Items: items}, err
		}),
	ends("DELETE", "/sessions/{id}", "end a session: one of one's own, or for an admin any",
		func(ctx context.Context, s *service.Service, who people.Bearer, in byID) error {
			return s.People.Sessions.End(ctx, who, in.ID)
		}).by(contract.Viewer),
	ends("DELETE", "/users/{name}/sessions", "end all sessions of a user; tokens go on",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) error {
			return s.People.Sessions.EndOf(ctx, in.Name)
		}).by(contract.Admin),
	posts("/factor", "start to set up a second factor: an authenticator that makes codes",
		func(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) (contract.NewFactor, error) {
			return s.People.Factors.SetUp(ctx, who)
		}).by(contract.Viewer).beforeSetUp().forGood(),
	does("POST", "/factor/code", "put the authenticator into use whose code is given; other sessions end", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer,
			in contract.FactorCode) (contract.RecoveryCodes, error) {
			return s.People.Factors.Take(ctx, who, in.Code)
		}).by(contract.Viewer).beforeSetUp(),
	does("POST", "/factor/recovery", "make new recovery codes; the old ones are of no use any more", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) (contract.RecoveryCodes, error) {
			return s.People.Factors.RenewRecoveryCodes(ctx, who)
		}).by(contract.Viewer).forGood(),
	ends("DELETE", "/factor", "remove one's own second factor; other sessions end",
		func(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) error {
			return s.People.Factors.Remove(ctx, who)
		}).by(contract.Viewer).forGood(),
	ends("DELETE", "/users/{name}/factor", "remove the second factor of a user who lost it; all sessions end",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) error {
			return s.People.Factors.Reset(ctx, in.Name)
		}).by(contract.Admin).forGood(),
	looks("/sign-in-policy", "show the rules for signing in", func(ctx context.Context, s *service.Service,
		_ people.Bearer, _ nothing) (contract.SignInPolicy, error) {
		return s.People.SignInPolicy(ctx)
	}),
	does("PUT", "/sign-in-policy", "set the rules for signing in", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in contract.SignInPolicy) (contract.SignInPolicy, error) {
		return s.People.SetSignInPolicy(ctx, in)
	}).by(contract.Admin).forGood(),
	ends("POST", "/password", "change one's own password; all other sessions end",
		func(ctx context.Context, s *service.Service, who people.Bearer, in askPassword) error {
			return s.People.ChangePassword(ctx, who, in.Old, in.New)
		}).by(contract.Viewer),
	listing("/users", "list users", thePeople, (*people.Service).Users).by(contract.Admin),
	posts("/users", "add a user", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in contract.NewUser) (contract.User, error) {
		return s.People.AddUser(ctx, in)
	}).by(contract.Admin).forGood(),
	does("PATCH", "/users/{name}", "change the role or password of a user; all sessions end", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in editUser) (contract.User, error) {
			return s.People.EditUser(ctx, in.Name, in.UserChange)
		}).by(contract.Admin).forGood(),
	removal("/users/{name}", "remove a user; all sessions end", thePeople, (*people.Service).RemoveUser).forGood(),
	listing("/tokens", "list tokens", theTokens, people.Tokens.List).by(contract.Admin),
	posts("/tokens", "create a token for a program", func(ctx context.Context, s *service.Service, who people.Bearer,
		in contract.NewToken) (contract.Token, error) {
		return s.People.Tokens.Add(ctx, in, who)
	}).by(contract.Admin).forGood(),
	posts("/tokens/{id}/rotation", "make a token in the place of another one, which goes on for some hours",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in rotateToken) (contract.Token, error) {
			return s.People.Tokens.Rotate(ctx, in.ID, in.TokenRotation)
		}).by(contract.Admin),
	ends("DELETE", "/tokens/{id}", "revoke a token", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in byID) error {
		return s.People.Tokens.Remove(ctx, in.ID)
	}).by(contract.Admin),
	looks("/audit", "the audit log, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in auditQuery) (page[contract.AuditEntry], error) {
		return pageOf(ctx, in.paged, in.AuditFilter, func(ctx context.Context, f contract.AuditFilter,
			p paging.Page) ([]contract.AuditEntry, string, error) {
			items, next, err := s.People.Log.Page(ctx, f, p.Rows())
			return items, next, p.Wrong(err)
		}, s.People.Log.Count)
	}),
	{method: "GET", path: v1 + "/audit.csv", summary: "the entries of the audit log that fit, all of them, as CSV",
		status: 200, in: auditQuery{}, media: "text/csv", handler: asCSV("audit.csv",
			"export the audit log", func(ctx context.Context, s *service.Service, w io.Writer, in auditQuery,
				p paging.Page) error {
				return p.Wrong(s.People.Log.Sheet(ctx, w, in.AuditFilter, p.Rows()))
			})},
	{method: "GET", path: v1 + "/audit.jsonl", summary: "the entries of a period as JSON lines, which are verified " +
		"without the service", status: 200, in: auditQuery{}, media: "application/jsonl", handler: asFile("audit.jsonl",
		"application/jsonl", "export the audit log", func(ctx context.Context, s *service.Service, w io.Writer,
			in auditQuery, _ paging.Page) error {
			return s.People.Log.Export(ctx, w, in.AuditFilter)
		})},
	looks("/views", "list the filters of lists that one keeps under a name",
		func(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) (page[contract.View], error) {
			items, err := s.People.Views(ctx, who)
			return page[contract.View]{Items: items}, err
		}),
	does("PUT", "/views", "keep the filter of a list under a name", 200, func(ctx context.Context, s *service.Service,
		who people.Bearer, in contract.View) (contract.View, error) {
		return s.People.PutView(ctx, who, in)
	}).by(contract.Viewer).quietly(),
	ends("DELETE", "/views/{page}/{name}", "remove a view of one's own", func(ctx context.Context, s *service.Service,
		who people.Bearer, in byView) error {
		return s.People.RemoveView(ctx, who, in.Page, in.Name)
	}).by(contract.Viewer).quietly(),
	looks("/audit/verification", "verify that no entry was changed or removed",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in askHead) (contract.Verification, error) {
			return s.People.Log.Verify(ctx, in.Head)
		}),
	looks("/audit/stream", "show where the audit log is sent to, as it grows", func(ctx context.Context,
		s *service.Service, _ people.Bearer, _ nothing) (contract.AuditStream, error) {
		return s.Notices.Stream.Show(ctx)
	}).by(contract.Admin),
	does("PUT", "/audit/stream", "set where the audit log is sent to", 200, func(ctx context.Context,
		s *service.Service, _ people.Bearer, in contract.NewAuditStream) (contract.AuditStream, error) {
		return s.Notices.Stream.Set(ctx, in)
	}).by(contract.Admin).forGood(),
	looks("/audit/head", "show the newest entry of the audit log, to be noted elsewhere",
		func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (contract.Head, error) {
			return s.People.Log.Head(ctx)
		}),
}
