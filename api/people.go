package api

import (
	"context"

	"freshseal/service"
)

type (
	askPassword struct {
		Old string `json:"old" required:"true"`
		New string `json:"new" required:"true"`
	}
	editUser struct {
		Name string `path:"name" json:"-"`
		service.UserChange
	}
	before struct {
		Before string `query:"before" json:"-" description:"the id of the last entry seen"`
	}
)

// peopleRoutes are about who may do what, and who did.
var peopleRoutes = []route{
	{method: "POST", path: v1 + "/session", summary: "sign in", status: 201, in: SignIn{}, out: Session{}, handler: signIn, open: true},
	{method: "GET", path: v1 + "/session", summary: "who is signed in", status: 200, out: Session{}, handler: session},
	{method: "DELETE", path: v1 + "/session", role: service.Viewer, summary: "sign out", status: 204, handler: signOut(false)},
	{method: "DELETE", path: v1 + "/sessions", role: service.Viewer, summary: "sign out everywhere", status: 204, handler: signOut(true)},
	ends("POST", "/password", "change one's own password; all other sessions end", func(ctx context.Context, s *service.Service, who service.Bearer, in askPassword) error {
		return s.ChangePassword(ctx, who, in.Old, in.New)
	}).by(service.Viewer),
	listing("/users", "list users", (*service.Service).Users).by(service.Admin),
	posts("/users", "add a user", func(ctx context.Context, s *service.Service, _ service.Bearer, in service.NewUser) (service.User, error) {
		return s.AddUser(ctx, in)
	}).by(service.Admin),
	does("PATCH", "/users/{name}", "give a user another role or a new password; all sessions end", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in editUser) (service.User, error) {
		return s.EditUser(ctx, in.Name, in.UserChange)
	}).by(service.Admin),
	removal("/users/{name}", "remove a user; all sessions end", (*service.Service).RemoveUser),
	listing("/tokens", "list tokens", (*service.Service).Tokens).by(service.Admin),
	posts("/tokens", "make a token for a program", func(ctx context.Context, s *service.Service, who service.Bearer, in service.NewToken) (service.Token, error) {
		return s.AddToken(ctx, in, who)
	}).by(service.Admin),
	ends("DELETE", "/tokens/{id}", "end a token", func(ctx context.Context, s *service.Service, _ service.Bearer, in byID) error {
		return s.RemoveToken(ctx, in.ID)
	}).by(service.Admin),
	looks("/ledger", "the ledger, newest first", func(ctx context.Context, s *service.Service, _ service.Bearer, in before) (page[service.LedgerEntry], error) {
		items, err := s.Ledger(ctx, in.Before)
		return page[service.LedgerEntry]{Items: items}, err
	}),
	looks("/ledger/verification", "see whether every entry is as it was written", func(ctx context.Context, s *service.Service, _ service.Bearer, _ nothing) (service.Verification, error) {
		return s.VerifyLedger(ctx)
	}),
}
