package api

import (
	"context"

	"freshseal/core/replacement"
	"freshseal/service"
)

type (
	replacementQuery struct {
		Device     string `query:"device" json:"-"`
		Slot       string `query:"slot" json:"-"`
		State      string `query:"state" json:"-" enum:"running,waiting,held,sealed,reverted,cancelled"`
		WaitingFor string `query:"waiting_for" json:"-" enum:"signer,validation,approval,window,person,device"`
		paged
	}
	byFile struct {
		ID   string `path:"id" json:"-"`
		Name string `path:"name" json:"-"`
	}
	askKey struct {
		ID string `path:"id" json:"-"`
		service.KeyExport
	}
	askAgain struct {
		ID string `path:"id" json:"-"`
		service.Again
	}
	askResume struct {
		ID   string `path:"id" json:"-"`
		Step string `query:"step" json:"-" enum:"done,again" description:"of a step whose outcome is unknown and that may not be repeated by itself: it was done, or it is to be done again"`
	}
	askText struct {
		ID   string `path:"id" json:"-"`
		Text string `json:"text" required:"true"`
	}
)

// workRoutes are about replacements and what people do in them.
var workRoutes = []route{
	does("POST", "/rehearsals", "show every step of a replacement; nothing is sent", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in service.Order) (service.Rehearsal, error) {
		return s.Rehearse(ctx, in)
	}).quietly(),
	looks("/replacements", "list replacements, newest first", func(ctx context.Context, s *service.Service, _ service.Bearer, in replacementQuery) (page[service.Replacement], error) {
		f := service.ReplacementFilter{Device: in.Device, Slot: in.Slot, State: replacement.State(in.State), WaitingFor: replacement.WaitingFor(in.WaitingFor)}
		return pageOf(ctx, in.paged, f, s.Replacements)
	}),
	begins("/replacements", "begin a replacement", func(ctx context.Context, s *service.Service, who service.Bearer, in service.Order) (service.Replacement, error) {
		return s.Begin(ctx, in, who.User)
	}),
	looks("/replacements/{id}", "show a replacement with its journal", func(ctx context.Context, s *service.Service, _ service.Bearer, in byID) (service.Replacement, error) {
		return s.Replacement(ctx, in.ID)
	}),
	{method: "GET", path: v1 + "/replacements/{id}/events", summary: "progress as server-sent events, until the replacement stands still", status: 200,
		in: byID{}, out: service.Event{}, media: "text/event-stream", handler: events},
	asks("cancel", "give a replacement up", replacement.AskedCancel),
	asks("revert", "put the old certificate back", replacement.AskedRevert),
	begins("/replacements/{id}/resume", "let a held replacement go on", func(ctx context.Context, s *service.Service, who service.Bearer, in askResume) (service.Replacement, error) {
		return s.Resume(ctx, in.ID, in.Step, who.User)
	}),
	does("POST", "/replacements/{id}/clear", "clear away what a replacement left on its device", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in byID) (service.Replacement, error) {
		return s.Clear(ctx, in.ID)
	}),
	{method: "POST", path: v1 + "/replacements/{id}/key-exports", role: service.Admin, summary: "a key that was made and kept here, as PKCS #12", status: 200, in: askKey{}, media: "application/x-pkcs12", handler: exportKey},
	begins("/replacements/{id}/requests", "ask for another request to be signed instead of the one that is out", func(ctx context.Context, s *service.Service, who service.Bearer, in askAgain) (service.Replacement, error) {
		return s.AskAgain(ctx, in.ID, in.Again, who.User)
	}),
	begins("/replacements/{id}/approve", "let a replacement go on that waits for approval", func(ctx context.Context, s *service.Service, who service.Bearer, in byID) (service.Replacement, error) {
		return s.Approve(ctx, in.ID, who.User)
	}),

	listing("/tasks", "list the steps that wait for a person, oldest first", (*service.Service).Tasks),
	looks("/tasks/{id}", "show a task", func(ctx context.Context, s *service.Service, _ service.Bearer, in byID) (service.Task, error) {
		return s.Task(ctx, in.ID)
	}),
	{method: "GET", path: v1 + "/tasks/{id}/files/{name}", summary: "a file to carry to the device", status: 200, in: byFile{}, media: "application/octet-stream", handler: taskFile},
	does("POST", "/tasks/{id}/take", "take a task, or take it over", 200, func(ctx context.Context, s *service.Service, who service.Bearer, in byID) (service.Task, error) {
		return s.TakeTask(ctx, in.ID, who.User)
	}),
	does("POST", "/tasks/{id}/notes", "write a note beside a task", 200, func(ctx context.Context, s *service.Service, who service.Bearer, in askText) (service.Task, error) {
		return s.NoteTask(ctx, in.ID, in.Text, who.User)
	}),
	begins("/tasks/{id}/answer", "give back what a task asks for, or say that it is done", func(ctx context.Context, s *service.Service, who service.Bearer, in askText) (service.Replacement, error) {
		return s.AnswerTask(ctx, in.ID, in.Text, who.User)
	}),
}

func asks(verb, summary string, what replacement.EventKind) route {
	return begins("/replacements/{id}/"+verb, summary, func(ctx context.Context, s *service.Service, who service.Bearer, in byID) (service.Replacement, error) {
		return s.Ask(ctx, in.ID, what, who.User)
	})
}
