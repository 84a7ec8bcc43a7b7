package api

import (
	"context"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/fleet"
	"freshseal/service/people"
)

type adopt struct {
	ID string `path:"id" json:"-"`
	contract.Adoption
}

// stockRoutes take stock of networks that nobody wrote down.
var stockRoutes = []route{
	begins("/stocktakings", "look for TLS services at addresses; one stocktaking is under way at a time", func(ctx context.Context, s *service.Service, who people.Bearer, in contract.AskedStock) (contract.Stocktaking, error) {
		return s.Fleet.TakeStock(ctx, who.User, in)
	}).by(contract.Admin),
	listing("/stocktakings", "list the newest stocktakings", theFleet, (*fleet.Service).Stocktakings),
	looks("/stocktakings/{id}", "show what a stocktaking found, and which devices that may be", func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) (contract.Stock, error) {
		return s.Fleet.Stock(ctx, in.ID)
	}),
	does("POST", "/stocktakings/{id}/stop", "stop a stocktaking; what it found is kept", 200, func(ctx context.Context, s *service.Service, who people.Bearer, in byID) (contract.Stocktaking, error) {
		return s.Fleet.StopStock(ctx, who.User, in.ID)
	}).by(contract.Admin),
	does("POST", "/stocktakings/{id}/adoptions", "add proposed devices to the fleet: all that are named, or none", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in adopt) (contract.Adopted, error) {
		return s.Fleet.Adopt(ctx, in.ID, in.Adoption)
	}).by(contract.Admin),
	ends("DELETE", "/stocktakings/{id}", "remove a stocktaking that has ended", func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) error {
		return s.Fleet.RemoveStock(ctx, in.ID)
	}).by(contract.Admin),
}
