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
	pinUpdateQuery struct {
		Replacement string `query:"replacement" json:"-" description:"those of this replacement, told ones too"`
	}
	askConfirm struct {
		ID   string `path:"id" json:"-"`
		Note string `json:"note,omitempty" description:"how they were told"`
	}
)

// pinRoutes are about pins and their updates.
var pinRoutes = []route{
	looks("/pins", "list who pinned something of a slot, or of all slots",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in pinQuery) (page[contract.Pin], error) {
			items, err := s.Replace.Pins.List(ctx, in.Device, in.Slot)
			return page[contract.Pin]{Items: items}, err
		}),
	posts("/pins", "record who pinned something of a slot", func(ctx context.Context, s *service.Service,
		who people.Bearer, in contract.NewPin) (contract.Pin, error) {
		return s.Replace.Pins.Add(ctx, in, who.User)
	}),
	ends("DELETE", "/pins/{id}", "remove a pin", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in byID) error {
		return s.Replace.Pins.Remove(ctx, in.ID)
	}),
	looks("/pin-updates", "list the pins that are not confirmed after a change, oldest first",
		func(ctx context.Context, s *service.Service, _ people.Bearer,
			in pinUpdateQuery) (page[contract.PinUpdate], error) {
			items, err := s.Replace.Pins.Updates(ctx, in.Replacement)
			return page[contract.PinUpdate]{Items: items}, err
		}),
	does("POST", "/pin-updates/{id}/confirm", "confirm that a pin was updated", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, in askConfirm) (contract.PinUpdate, error) {
			return s.Replace.Pins.Confirm(ctx, in.ID, in.Note, who.User)
		}),
}
