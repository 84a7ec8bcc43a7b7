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

// discoveryRoutes search undocumented networks.
var discoveryRoutes = []route{
	begins("/discoveries", "look for TLS services at addresses; one discovery is under way at a time",
		func(ctx context.Context, s *service.Service, who people.Bearer,
			in contract.AskedDiscovery) (contract.Discovery, error) {
			return s.Fleet.Discoveries.StartDiscovery(ctx, who.User, in)
		}).by(contract.Admin),
	listing("/discoveries", "list the newest discoveries", theDiscoveries, (*fleet.Discoveries).Discoveries),
	looks("/discoveries/{id}", "show what a discovery found, and which devices that may be",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) (contract.DiscoveryResult, error) {
			return s.Fleet.Discoveries.Discovery(ctx, in.ID)
		}),
	does("POST", "/discoveries/{id}/stop", "stop a discovery; what it found is kept", 200,
		func(ctx context.Context, s *service.Service, who people.Bearer, in byID) (contract.Discovery, error) {
			return s.Fleet.Discoveries.StopDiscovery(ctx, who.User, in.ID)
		}).by(contract.Admin),
	does("POST", "/discoveries/{id}/adoptions", "add proposed devices to the fleet: all that are named, or none", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in adopt) (contract.Adopted, error) {
			return s.Fleet.Discoveries.Adopt(ctx, in.ID, in.Adoption)
		}).by(contract.Admin),
	ends("DELETE", "/discoveries/{id}", "remove a discovery that has ended",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in byID) error {
			return s.Fleet.Discoveries.RemoveDiscovery(ctx, in.ID)
		}).by(contract.Admin),
}
