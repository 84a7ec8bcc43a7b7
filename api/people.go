package api

import (
	"context"

	"freshseal/service/paging"
	"freshseal/service/people"

	"freshseal/service"
)

type (
	askPassword struct {
		Old string `json:"old" required:"true"`
		New string `json:"new" required:"true"`
	}
	editUser struct {
		Name string `path:"name" json:"-"`
		people.UserChange
	}
	askHead struct {
		Head string `query:"head" json:"-" description:"ID:HASH, as it was noted earlier: it must still be there"`
	}
	ledgerQuery struct {
		people.LedgerFilter
		paged
	}
	byView struct {
		Page string `path:"page" json:"-"`
		Name string `path:"name" json:"-"`
	}
)

// peopleRoutes are about who may do what, and who did.
var peopleRoutes = []route{
	{method: "POST", path: v1 + "/session", summary: "sign in", status: 201, in: SignIn{}, out: Session{}, handler: signIn, open: true},
	{method: "GET", path: v1 + "/session", summary: "who is signed in", status: 200, out: Session{}, handler: session},
	{method: "DELETE", path: v1 + "/session", role: people.Viewer, summary: "sign out", status: 204, handler: signOut(false)},
	{method: "DELETE", path: v1 + "/sessions", role: people.Viewer, summary: "sign out everywhere", status: 204, handler: signOut(true)},
	ends("POST", "/password", "change one's own password; all other sessions end", func(ctx context.Context, s *service.Service, who people.Bearer, in askPassword) error {
		return s.People.ChangePassword(ctx, who, in.Old, in.New)
	}).by(people.Viewer),
	listing("/users", "list users", thePeople, (*people.Service).Users).by(people.Admin),
	posts("/users", "add a user", func(ctx context.Context, s *service.Service, _ people.Bearer, in people.NewUser) (people.User, error) {
		return s.People.AddUser(ctx, in)
	}).by(people.Admin),
	does("PATCH", "/users/{name}", "change the role or password of a user; all sessions end", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in editUser) (people.User, error) {
		return s.People.EditUser(ctx, in.Name, in.UserChange)
	}).by(people.Admin),
	removal("/users/{name}", "remove a user; all sessions end", thePeople, (*people.Service).RemoveUser),
	listing("/tokens", "list tokens", thePeople, (*people.Service).Tokens).by(people.Admin),
	posts("/tokens", "create a token for a program", func(ctx context.Context, s *service.Service, who people.Bearer, in people.NewToken) (people.Token, error) {
		return s.People.AddToken(ctx, in, who)
	}).by(people.Admin),
	ends("DELETE", "/tokens/{id}", "revoke a token", func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) error {
		return s.People.RemoveToken(ctx, in.ID)
	}).by(people.Admin),
	looks("/ledger", "the ledger, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer, in ledgerQuery) (page[people.LedgerEntry], error) {
		return pageOf(ctx, in.paged, in.LedgerFilter, func(ctx context.Context, f people.LedgerFilter, p paging.Page) ([]people.LedgerEntry, string, error) {
			items, next, err := s.People.Ledger(ctx, f, p.Rows())
			return items, next, p.Wrong(err)
		}, s.People.CountLedger)
	}),
	looks("/views", "list the filters of lists that one keeps under a name", func(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) (page[people.View], error) {
		items, err := s.People.Views(ctx, who)
		return page[people.View]{Items: items}, err
	}),
	does("PUT", "/views", "keep the filter of a list under a name", 200, func(ctx context.Context, s *service.Service, who people.Bearer, in people.View) (people.View, error) {
		return s.People.PutView(ctx, who, in)
	}).by(people.Viewer).quietly(),
	ends("DELETE", "/views/{page}/{name}", "remove a view of one's own", func(ctx context.Context, s *service.Service, who people.Bearer, in byView) error {
		return s.People.RemoveView(ctx, who, in.Page, in.Name)
	}).by(people.Viewer).quietly(),
	looks("/ledger/verification", "verify that no entry was changed or removed", func(ctx context.Context, s *service.Service, _ people.Bearer, in askHead) (people.Verification, error) {
		return s.People.VerifyLedger(ctx, in.Head)
	}),
	looks("/ledger/head", "show the newest entry of the ledger, to be noted elsewhere", func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (people.Head, error) {
		return s.People.LedgerHead(ctx)
	}),
}
