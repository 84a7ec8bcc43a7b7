package api

import (
	"context"

	"freshseal/contract"
	"freshseal/core/replacement"
	"freshseal/service"
	"freshseal/service/fleet"
	"freshseal/service/paging"
	"freshseal/service/people"
	"freshseal/service/signing"
)

type (
	askEvents struct {
		About string `query:"about" json:"-" description:"only what is about this, such as slot/DEVICE/SLOT"`
		After string `header:"Last-Event-ID" json:"-" description:"the last event that was seen; none: only news"`
	}
	replacementQuery struct {
		Device     string `query:"device" json:"-"`
		Slot       string `query:"slot" json:"-"`
		State      string `query:"state" json:"-" enum:"running,waiting,held,sealed,reverted,cancelled,closed"`
		WaitingFor string `query:"waiting_for" json:"-" enum:"signer,validation,approval,window,person,device"`
		Stage      string `query:"stage" json:"-"`
		Signer     string `query:"signer" json:"-"`
		Parcel     string `query:"parcel" json:"-" description:"the parcel that its request is in; - for none"`
		Text       string `query:"text" json:"-" description:"somewhere in its id, slot or who asked for it"`
		paged
	}
	taskQuery struct {
		Replacement string `query:"replacement" json:"-" description:"only those of this replacement"`
		paged
	}
	itemQuery struct {
		ID      string `path:"id" json:"-"`
		Outcome string `query:"outcome" json:"-" enum:"waiting,started,refused,left"`
		State   string `query:"state" json:"-" description:"of the replacement"`
		paged
	}
	byFile struct {
		ID   string `path:"id" json:"-"`
		Name string `path:"name" json:"-"`
	}
	askKey struct {
		ID string `path:"id" json:"-"`
		contract.KeyExport
	}
	askFile struct {
		ID   string `path:"id" json:"-"`
		Name string `path:"name" json:"-"`
		contract.FileExport
	}
	askAgain struct {
		ID string `path:"id" json:"-"`
		contract.Again
	}
	askResume struct {
		ID string `path:"id" json:"-"`
		contract.KnownOutcome
	}
	askAcceptance struct {
		ID string `path:"id" json:"-"`
		contract.Acceptance
	}
	askApproval struct {
		ID string `path:"id" json:"-"`
		contract.Approval
	}
	askGoAhead struct {
		ID string `path:"id" json:"-"`
		contract.GoAhead
	}
	askClose struct {
		ID string `path:"id" json:"-"`
		contract.Closing
	}
	askText struct {
		ID   string `path:"id" json:"-"`
		Text string `json:"text" required:"true"`
	}
)

// workRoutes are about replacements and what people do in them.
var workRoutes = []route{
	does("POST", "/rehearsals", "show every step of a replacement; nothing is sent", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer,
			in contract.RehearsalOrder) (contract.Rehearsal, error) {
			return s.Replace.Rehearse(ctx, in)
		}).quietly(),
	looks("/replacements", "list replacements, newest first", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in replacementQuery) (page[contract.Replacement], error) {
		parcel, err := signing.ParcelFilter(in.Parcel)
		if err != nil {
			return page[contract.Replacement]{}, err
		}
		f := fleet.ReplacementFilter{Parcel: parcel, Device: in.Device, Slot: in.Slot,
			State:      replacement.State(in.State),
			WaitingFor: replacement.WaitingFor(in.WaitingFor), Stage: replacement.Stage(in.Stage), Signer: in.Signer,
			Text: in.Text}
		return pageOf(ctx, in.paged, f, s.Replace.Replacements, s.Replace.CountReplacements)
	}),
	begins("/replacements", "start a replacement", func(ctx context.Context, s *service.Service, who people.Bearer,
		in contract.Order) (contract.Replacement, error) {
		return s.Replace.Begin(ctx, in, who.User)
	}),
	looks("/replacements/{id}", "show a replacement with its journal", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in byID) (contract.Replacement, error) {
		return s.Replace.Replacement(ctx, in.ID)
	}),
	{method: "GET", path: v1 + "/replacements/{id}/events", summary: "follow a replacement as server-sent events, " +
		"until it stops", status: 200,
		in: byID{}, out: contract.Event{}, media: "text/event-stream", handler: events},
	{method: "GET", path: v1 + "/events", summary: "follow all events as server-sent events: stages, steps, " +
		"states, conditions and acts", status: 200,
		in: askEvents{}, out: contract.Event{}, media: "text/event-stream", handler: happenings},
	asks("cancel", "cancel a replacement", replacement.AskedCancel),
	asks("revert", "revert a replacement", replacement.AskedRevert).forGood(),
	begins("/replacements/{id}/resume", "resume a held replacement", func(ctx context.Context, s *service.Service,
		who people.Bearer, in askResume) (contract.Replacement, error) {
		return s.Replace.Resume(ctx, in.ID, in.KnownOutcome, who.User)
	}),
	does("POST", "/replacements/{id}/close", "end a held replacement as the wire shows", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, in askClose) (contract.Replacement, error) {
			return s.Replace.Close(ctx, in.ID, in.Closing, who.User)
		}),
	begins("/replacements/{id}/acceptance", "accept a doubtful answer of the signer",
		func(ctx context.Context, s *service.Service, who people.Bearer,
			in askAcceptance) (contract.Replacement, error) {
			if err := s.Signing.AcceptAnswer(ctx, in.ID, in.Acceptance, who.User); err != nil {
				return contract.Replacement{}, err
			}
			return s.Replace.Replacement(ctx, in.ID)
		}),
	begins("/replacements/{id}/retry", "try again with what was signed for a replacement that went back",
		func(ctx context.Context, s *service.Service, who people.Bearer, in byID) (contract.Replacement, error) {
			return s.Replace.Retry(ctx, in.ID, who.User)
		}),
	does("POST", "/replacements/{id}/clear", "remove what a replacement left on its device", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) (contract.Replacement, error) {
			return s.Replace.Clear(ctx, in.ID)
		}),
	{method: "POST", path: v1 + "/replacements/{id}/key-exports", role: contract.Admin,
		summary: "export a key that the service made and kept, as PKCS #12", status: 200, in: askKey{},
		media: "application/x-pkcs12", handler: exportKey, final: true},
	{method: "POST", path: v1 + "/replacements/{id}/files/{name}", role: contract.Admin,
		summary: "export a file of the device that is kept here, such as an export that was made before the change",
		status:  200, in: askFile{}, media: "application/octet-stream", handler: exportFile,
		final: true},
	begins("/replacements/{id}/requests", "request a new certificate in place of the pending request",
		func(ctx context.Context, s *service.Service, who people.Bearer, in askAgain) (contract.Replacement, error) {
			return s.Replace.AskAgain(ctx, in.ID, in.Again, who.User)
		}),
	begins("/replacements/{id}/approve", "approve a replacement", func(ctx context.Context, s *service.Service,
		who people.Bearer, in askApproval) (contract.Replacement, error) {
		return s.Replace.Approve(ctx, in.ID, in.Approval, who.User)
	}).by(contract.Approver),
	begins("/replacements/{id}/go", "let a replacement go on that waits for a go-ahead, or touch its device "+
		"outside of its windows", func(ctx context.Context, s *service.Service, who people.Bearer,
		in askGoAhead) (contract.Replacement, error) {
		return s.Replace.GoOn(ctx, in.ID, in.GoAhead)
	}),
	begins("/replacements/{id}/pause", "have a replacement wait for a go-ahead before its next stage",
		func(ctx context.Context, s *service.Service, who people.Bearer, in byID) (contract.Replacement, error) {
			return s.Replace.Pause(ctx, in.ID, who.User)
		}),

	looks("/batches", "list batches, newest first", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in paged) (page[contract.Batch], error) {
		return pageOf(ctx, in, nothing{}, func(ctx context.Context, _ nothing, p paging.Page) ([]contract.Batch,
			string, error) {
			return s.Replace.Batches.List(ctx, p)
		}, func(ctx context.Context, _ nothing) (int, error) { return s.Replace.Batches.Count(ctx) })
	}),
	begins("/batches", "start a replacement of each of many slots", func(ctx context.Context, s *service.Service,
		who people.Bearer, in contract.BatchOrder) (contract.Batch, error) {
		return s.Replace.Batches.Begin(ctx, in, who.User)
	}),
	does("POST", "/batches/rehearsals", "count the slots of a batch and rehearse one of them; nothing is sent", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer,
			in contract.BatchOrder) (contract.BatchRehearsal, error) {
			return s.Replace.Batches.Rehearse(ctx, in)
		}).quietly(),
	looks("/batches/{id}", "show a batch with its account", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in byID) (contract.Batch, error) {
		return s.Replace.Batches.Get(ctx, in.ID)
	}),
	looks("/batches/{id}/items", "list the slots of a batch with what became of each",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in itemQuery) (page[contract.BatchItem], error) {
			return pageOf(ctx, in.paged, contract.ItemFilter{Batch: in.ID, Outcome: in.Outcome, State: in.State},
				s.Replace.Batches.Items, s.Replace.Batches.CountItems)
		}),
	does("POST", "/batches/{id}/stop", "stop starting new ones of a batch; what was started goes on", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, in byID) (contract.Batch, error) {
			return s.Replace.Batches.Stop(ctx, in.ID, who.User)
		}),

	looks("/tasks", "list the tasks that wait for a person, oldest first",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in taskQuery) (page[contract.Task], error) {
			return pageOf(ctx, in.paged, in.Replacement, s.Replace.Tasks.List, s.Replace.Tasks.Count)
		}),
	looks("/tasks/{id}", "show a task", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in byID) (contract.Task, error) {
		return s.Replace.Tasks.Get(ctx, in.ID)
	}),
	{method: "GET", path: v1 + "/tasks/{id}/files/{name}", summary: "download a file of a task", status: 200,
		in: byFile{}, media: "application/octet-stream", handler: taskFile},
	does("POST", "/tasks/{id}/take", "assign a task to oneself", 200, func(ctx context.Context, s *service.Service,
		who people.Bearer, in byID) (contract.Task, error) {
		return s.Replace.Tasks.Take(ctx, in.ID, who.User)
	}),
	does("POST", "/tasks/{id}/notes", "add a note to a task", 200, func(ctx context.Context, s *service.Service,
		who people.Bearer, in askText) (contract.Task, error) {
		return s.Replace.Tasks.Note(ctx, in.ID, in.Text, who.User)
	}),
	begins("/tasks/{id}/answer", "task completed, with the result that it asks for",
		func(ctx context.Context, s *service.Service, who people.Bearer, in askText) (contract.Replacement, error) {
			return s.Replace.Tasks.Answer(ctx, in.ID, in.Text, who.User)
		}),
}

func asks(verb, summary string, what replacement.EventKind) route {
	return begins("/replacements/{id}/"+verb, summary, func(ctx context.Context, s *service.Service,
		who people.Bearer, in byID) (contract.Replacement, error) {
		return s.Replace.Ask(ctx, in.ID, what, who.User)
	})
}
