package api

import (
	"context"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/people"
)

type (
	pinQuery struct {
		Device string `query:"device" json:"-"`
		Slot   string `query:"slot" json:"-"`
	}
	tellingQuery struct {
		Replacement string `query:"replacement" json:"-" description:"those of this replacement, told ones too"`
	}
	askTold struct {
		ID   string `path:"id" json:"-"`
		Note string `json:"note,omitempty" description:"how they were told"`
	}
)

// pinRoutes are about those who must be told when a certificate changes.
var pinRoutes = []route{
	looks("/pins", "list who pinned something of a slot, or of all slots", func(ctx context.Context, s *service.Service, _ people.Bearer, in pinQuery) (page[contract.Pin], error) {
		items, err := s.Work.Pins(ctx, in.Device, in.Slot)
		return page[contract.Pin]{Items: items}, err
	}),
	posts("/pins", "record who pinned something of a slot", func(ctx context.Context, s *service.Service, who people.Bearer, in contract.NewPin) (contract.Pin, error) {
		return s.Work.AddPin(ctx, in, who.User)
	}),
	ends("DELETE", "/pins/{id}", "remove a pin", func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) error {
		return s.Work.RemovePin(ctx, in.ID)
	}),
	looks("/tellings", "list who has to be told of a changed certificate, oldest first", func(ctx context.Context, s *service.Service, _ people.Bearer, in tellingQuery) (page[contract.Telling], error) {
		items, err := s.Work.Tellings(ctx, in.Replacement)
		return page[contract.Telling]{Items: items}, err
	}),
	does("POST", "/tellings/{id}/told", "say that somebody was told", 200, func(ctx context.Context, s *service.Service, who people.Bearer, in askTold) (contract.Telling, error) {
		return s.Work.Told(ctx, in.ID, in.Note, who.User)
	}),
}
