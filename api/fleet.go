package api

import (
	"context"

	"freshseal/core/due"
	"freshseal/service"
)

type (
	deviceQuery struct {
		Condition string `query:"condition" json:"-" description:"the worst of its slots"`
		Site      string `query:"site" json:"-"`
		Family    string `query:"family" json:"-" description:"- for those that can only be read"`
		Cluster   string `query:"cluster" json:"-"`
		Tag       string `query:"tag" json:"-"`
		Text      string `query:"text" json:"-" description:"somewhere in the name, site, address, owner, tags or cluster"`
		paged
	}
	slotQuery struct {
		Condition string `query:"condition" json:"-"`
		Device    string `query:"device" json:"-"`
		Site      string `query:"site" json:"-"`
		Text      string `query:"text" json:"-" description:"somewhere in the names, site or address"`
		paged
	}
	editDevice struct {
		Name string `path:"name" json:"-"`
		service.DeviceChange
	}
	editSite struct {
		Name string `path:"name" json:"-"`
		service.SiteChange
	}
	putCredential struct {
		Name string `path:"name" json:"-"`
		service.CredentialChange
	}
	bySlot struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
	}
	askHostKey struct {
		Site    string `json:"site,omitempty"`
		Address string `json:"address" required:"true"`
		Port    int    `json:"port" required:"true"`
	}
	hostKey struct {
		HostKey string `json:"host_key" required:"true"`
	}
	askReading struct {
		Address    string `json:"address" required:"true"`
		Port       int    `json:"port" required:"true"`
		ServerName string `json:"server_name,omitempty"`
	}
	swept struct {
		Read int `json:"read" required:"true"`
		Dark int `json:"dark" required:"true"`
	}
)

// fleetRoutes are about devices, sites, credentials and slots.
var fleetRoutes = []route{
	does("POST", "/host-keys", "ask an SSH server for its host key", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in askHostKey) (hostKey, error) {
		pin, err := s.AskHostKey(ctx, in.Site, in.Address, in.Port)
		return hostKey{pin}, err
	}).quietly(),
	looks("/devices", "list devices by name, or sorted by condition, expires_at, site, family or address", func(ctx context.Context, s *service.Service, _ service.Bearer, in deviceQuery) (page[service.Device], error) {
		f := service.DeviceFilter{Condition: due.Condition(in.Condition), Site: in.Site, Family: in.Family, Cluster: in.Cluster, Tag: in.Tag, Text: in.Text}
		return pageOf(ctx, in.paged, f, s.Devices)
	}),
	posts("/devices", "add a device", func(ctx context.Context, s *service.Service, _ service.Bearer, in service.NewDevice) (service.Device, error) {
		return s.AddDevice(ctx, in)
	}).by(service.Admin),
	showing("/devices/{name}", "show a device", (*service.Service).Device),
	does("PATCH", "/devices/{name}", "change a device", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in editDevice) (service.Device, error) {
		return s.EditDevice(ctx, in.Name, in.DeviceChange)
	}).by(service.Admin),
	removal("/devices/{name}", "remove a device with its history", (*service.Service).RemoveDevice),
	does("POST", "/devices/{name}/tries", "try whether a device can be reached, signed in to and read; nothing is changed", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in byName) (service.Try, error) {
		return s.TryDevice(ctx, in.Name)
	}).quietly(),
	does("POST", "/devices/{name}/tidy", "remove the work folders of a device's replacements that are over, with the copies of old keys in them", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in byName) (service.Tidied, error) {
		return s.TidyDevice(ctx, in.Name)
	}),
	does("POST", "/imports", "add devices from a CSV file", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in service.ImportTerms) (service.Import, error) {
		return s.ImportDevices(ctx, in)
	}).by(service.Admin),
	{method: "GET", path: v1 + "/export", role: service.Admin, summary: "all devices as CSV, without secrets", status: 200, media: "text/csv", handler: export},

	listing("/sites", "list sites", (*service.Service).Sites),
	posts("/sites", "add a site", func(ctx context.Context, s *service.Service, _ service.Bearer, in service.NewSite) (service.Site, error) {
		return s.AddSite(ctx, in)
	}).by(service.Admin),
	showing("/sites/{name}", "show a site", (*service.Service).Site),
	does("PATCH", "/sites/{name}", "change a site", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in editSite) (service.Site, error) {
		return s.EditSite(ctx, in.Name, in.SiteChange)
	}).by(service.Admin),
	removal("/sites/{name}", "remove a site; its devices are reached directly from then on", (*service.Service).RemoveSite),

	listing("/credentials", "list credentials, without their secrets", (*service.Service).Credentials),
	posts("/credentials", "add a credential that devices share", func(ctx context.Context, s *service.Service, _ service.Bearer, in service.NewCredential) (service.Credential, error) {
		return s.AddCredential(ctx, in)
	}).by(service.Admin),
	showing("/credentials/{name}", "show a credential, without its secrets", (*service.Service).Credential),
	does("PUT", "/credentials/{name}", "put another user and secret in the place of a credential's; no device is touched", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in putCredential) (service.Credential, error) {
		return s.ReplaceCredential(ctx, in.Name, in.CredentialChange)
	}).by(service.Admin),
	removal("/credentials/{name}", "remove a credential that no device uses", (*service.Service).RemoveCredential),

	looks("/slots", "list slots, worst condition first, then soonest end; or sorted by device, site, address or expires_at", func(ctx context.Context, s *service.Service, _ service.Bearer, in slotQuery) (page[service.Slot], error) {
		f := service.SlotFilter{Condition: due.Condition(in.Condition), Device: in.Device, Site: in.Site, Text: in.Text}
		return pageOf(ctx, in.paged, f, s.Slots)
	}),
	looks("/slots/{device}/{slot}", "show a slot with its chain and findings", func(ctx context.Context, s *service.Service, _ service.Bearer, in bySlot) (service.Slot, error) {
		return s.Slot(ctx, in.Device, in.Slot)
	}),
	looks("/slots/{device}/{slot}/readings", "a slot's history, newest first", func(ctx context.Context, s *service.Service, _ service.Bearer, in bySlot) (page[service.PastReading], error) {
		items, err := s.Readings(ctx, in.Device, in.Slot)
		return page[service.PastReading]{Items: items}, err
	}),
	does("POST", "/slots/{device}/{slot}/readings", "read a slot now", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in bySlot) (service.Slot, error) {
		return s.ReadSlot(ctx, in.Device, in.Slot)
	}).quietly(),
	does("POST", "/sweeps", "read every slot now", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, _ nothing) (swept, error) {
		read, dark, err := s.ReadAll(ctx)
		return swept{read, dark}, err
	}).quietly(),
	does("POST", "/readings", "read an address that is in no inventory", 200, func(ctx context.Context, s *service.Service, _ service.Bearer, in askReading) (service.Seen, error) {
		return s.ReadAddress(ctx, in.Address, in.Port, in.ServerName)
	}).quietly(),
}
