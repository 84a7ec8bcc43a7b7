package api

import (
	"context"
	"io"

	"freshseal/contract"
	"freshseal/core/pki/pack"
	"freshseal/service"
	"freshseal/service/access"
	"freshseal/service/fleet"
	"freshseal/service/monitor"
	"freshseal/service/paging"
	"freshseal/service/people"
)

type (
	deviceQuery struct {
		contract.DeviceFilter
		paged
	}
	slotQuery struct {
		contract.SlotFilter
		paged
	}
	askForm struct {
		Form string `query:"form" json:"-" enum:"csv,xlsx" description:"left out: csv"`
	}
	askSearch struct {
		Text string `query:"text" json:"-" required:"true"`
	}
	editDevice struct {
		Name string `path:"name" json:"-"`
		guarded
		contract.DeviceChange
	}
	addSlot struct {
		Device string `path:"name" json:"-"`
		contract.DeviceSlot
	}
	editSlot struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
		guarded
		contract.SlotChange
	}
	editSite struct {
		Name string `path:"name" json:"-"`
		guarded
		contract.SiteChange
	}
	putCredential struct {
		Name string `path:"name" json:"-"`
		guarded
		contract.CredentialChange
	}
	askChain struct {
		Device   string        `path:"device" json:"-"`
		Slot     string        `path:"slot" json:"-"`
		Form     pack.Form     `query:"form" json:"-" enum:"leaf-first,leaf-first-with-root,leaf,intermediates,intermediates-with-root,root" description:"which certificates, in which order; leaf-first-with-root where nothing is said"`
		Encoding pack.Encoding `query:"encoding" json:"-" enum:"pem,der,pkcs7,pkcs7-pem" description:"pem where nothing is said"`
	}
	bySlot struct {
		Device string `path:"device" json:"-"`
		Slot   string `path:"slot" json:"-"`
	}
	askDue struct {
		Within string `query:"within" json:"-" description:"days to look ahead; left out: 30"`
		Site   string `query:"site" json:"-" description:"left out: everywhere"`
		Limit  string `query:"limit" json:"-" description:"how many are listed at most; left out: 1000, which is the most"`
	}
	askDays struct {
		Month string `query:"month" json:"-" required:"true" description:"such as 2027-03"`
	}
	askSweep struct {
		Site string `query:"site" json:"-" description:"left out: the whole fleet"`
	}
	askHostKey struct {
		Link    string `json:"link,omitempty" enum:"ssh,https,netconf" description:"ssh where it is left out"`
		Site    string `json:"site,omitempty"`
		Address string `json:"address" required:"true"`
		Port    int    `json:"port" required:"true"`
	}
	hostKey struct {
		HostKey string `json:"host_key" required:"true"`
	}
)

// fleetRoutes are about devices, sites, credentials and slots.
var fleetRoutes = []route{
	does("POST", "/host-keys", "ask an SSH server for its host key, or over https a web interface for the SHA-256 "+
		"of its certificate", 200, func(ctx context.Context, s *service.Service, _ people.Bearer,
		in askHostKey) (hostKey, error) {
		pin, err := s.Access.AskPin(ctx, in.Link, in.Site, in.Address, in.Port)
		return hostKey{pin}, err
	}),
	looks("/devices", "list devices by name, or sorted by condition, expires_at, site, family or address",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in deviceQuery) (page[contract.Device], error) {
			f := fleet.DevicesThat(in.DeviceFilter)
			return pageOf(ctx, in.paged, f, s.Fleet.Lists.Devices, s.Fleet.Lists.CountDevices)
		}),
	posts("/devices", "add a device", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in contract.NewDevice) (contract.Device, error) {
		return s.Fleet.AddDevice(ctx, in)
	}).by(contract.Admin),
	showing("/devices/{name}", "show a device", theFleet, (*fleet.Service).Device),
	does("PATCH", "/devices/{name}", "change a device", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in editDevice) (contract.Device, error) {
		known, err := in.revision()
		if err != nil {
			return contract.Device{}, err
		}
		return s.Fleet.EditDevice(ctx, in.Name, in.DeviceChange, known)
	}).by(contract.Admin),
	removal("/devices/{name}", "remove a device with its history", theFleet, (*fleet.Service).RemoveDevice).forGood(),
	does("POST", "/devices/{name}/tries", "test whether a device can be reached, signed in to and read; nothing "+
		"is changed", 200, func(ctx context.Context, s *service.Service, _ people.Bearer, in byName) (contract.Try,
		error) {
		return s.Fleet.TryDevice(ctx, in.Name)
	}).quietly(),
	does("POST", "/devices/{name}/tidy", "remove the work folders of a device's replacements that are over, with "+
		"the copies of old keys in them", 200, func(ctx context.Context, s *service.Service, _ people.Bearer,
		in byName) (contract.Tidied, error) {
		return s.Replace.TidyDevice(ctx, in.Name)
	}),
	takesFile("/imports", "make the inventory what a file says: devices are added and changed, none is removed",
		func(ctx context.Context, s *service.Service, _ people.Bearer,
			in contract.ImportTerms) (contract.Import, error) {
			return s.Fleet.Inventory.ImportDevices(ctx, in)
		}).by(contract.Admin),
	{method: "GET", path: v1 + "/export", role: contract.Admin, summary: "all devices for a spreadsheet, " +
		"without secrets", status: 200, in: askForm{}, media: "text/csv", handler: export},

	listing("/sites", "list sites", theSites, (*access.Sites).Sites),
	posts("/sites", "add a site", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in contract.NewSite) (contract.Site, error) {
		return s.Access.Sites.AddSite(ctx, in)
	}).by(contract.Admin),
	showing("/sites/{name}", "show a site", theSites, (*access.Sites).Site),
	does("PATCH", "/sites/{name}", "change a site", 200, func(ctx context.Context, s *service.Service,
		_ people.Bearer, in editSite) (contract.Site, error) {
		known, err := in.revision()
		if err != nil {
			return contract.Site{}, err
		}
		return s.Access.Sites.EditSite(ctx, in.Name, in.SiteChange, known)
	}).by(contract.Admin),
	removal("/sites/{name}", "remove a site; its devices are reached directly from then on", theSites,
		(*access.Sites).RemoveSite),

	listing("/credentials", "list credentials, without their secrets", theAccess, (*access.Service).Credentials),
	posts("/credentials", "add a credential that devices share", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in contract.NewCredential) (contract.Credential, error) {
		return s.Access.AddCredential(ctx, in)
	}).by(contract.Admin),
	showing("/credentials/{name}", "show a credential, without its secrets", theAccess, (*access.Service).Credential),
	does("PUT", "/credentials/{name}", "replace the user and secret of a credential; no device is changed", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in putCredential) (contract.Credential, error) {
			known, err := in.revision()
			if err != nil {
				return contract.Credential{}, err
			}
			return s.Access.ReplaceCredential(ctx, in.Name, in.CredentialChange, known)
		}).by(contract.Admin),
	removal("/credentials/{name}", "remove a credential that no device uses", theAccess,
		(*access.Service).RemoveCredential),

	looks("/slots", "list slots, worst condition first, then soonest end; or sorted by device, site, address or "+
		"expires_at", func(ctx context.Context, s *service.Service, _ people.Bearer,
		in slotQuery) (page[contract.Slot], error) {
		return pageOf(ctx, in.paged, fleet.SlotsThat(in.SlotFilter), s.Fleet.Lists.Slots, s.Fleet.Lists.CountSlots)
	}),
	{method: "GET", path: v1 + "/slots.csv", summary: "the slots that fit, all of them, as CSV", status: 200,
		in: slotQuery{}, media: "text/csv", handler: asCSV("slots.csv", "export slots", func(ctx context.Context,
			s *service.Service, w io.Writer, in slotQuery, p paging.Page) error {
			return s.Fleet.Lists.SlotSheet(ctx, w, fleet.SlotsThat(in.SlotFilter), p)
		})},
	looks("/search", "search everything: names, addresses, serial numbers, fingerprints, subjects, owners, tags "+
		"and notes", func(ctx context.Context, s *service.Service, _ people.Bearer, in askSearch) (contract.Found,
		error) {
		return s.Fleet.Lists.Search(ctx, in.Text)
	}),
	looks("/certificates/{sha256}", "show a certificate that was seen or made here, and who trusts it",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySHA256) (contract.KnownDefault, error) {
			return s.Fleet.Certificate(ctx, in.SHA256)
		}),
	looks("/facets", "list the values by which slots and devices are filtered",
		func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (contract.Facets, error) {
			return s.Fleet.Lists.Facets(), nil
		}),
	does("POST", "/changes", "change many devices in the same way; one that is refused stops no other", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in contract.Changes) (contract.Changed, error) {
			return s.Fleet.Inventory.EditDevices(ctx, in)
		}).by(contract.Admin),
	looks("/slots/{device}/{slot}", "show a slot with its chain and findings",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) (contract.Slot, error) {
			return s.Fleet.Slot(ctx, in.Device, in.Slot)
		}),
	does("POST", "/devices/{name}/slots", "add a slot to a device, and read it", 201,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in addSlot) (contract.Slot, error) {
			return s.Fleet.AddSlot(ctx, in.Device, in.DeviceSlot)
		}).by(contract.Admin),
	does("PATCH", "/slots/{device}/{slot}", "change where and how a slot is read, and read it", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in editSlot) (contract.Slot, error) {
			known, err := in.revision()
			if err != nil {
				return contract.Slot{}, err
			}
			return s.Fleet.EditSlot(ctx, in.Device, in.Slot, in.SlotChange, known)
		}).by(contract.Admin),
	ends("DELETE", "/slots/{device}/{slot}", "remove a slot with its history",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) error {
			return s.Fleet.RemoveSlot(ctx, in.Device, in.Slot)
		}).by(contract.Admin).forGood(),
	{method: "GET", path: v1 + "/slots/{device}/{slot}/chain", summary: "download the chain of a slot, completed " +
		"from what is known", status: 200, in: askChain{}, media: "application/octet-stream", handler: slotChain,
		role: contract.Viewer},
	looks("/slots/{device}/{slot}/readings", "list the readings of a slot, newest first",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) (page[contract.PastReading], error) {
			items, err := s.Fleet.Lists.Readings(ctx, in.Device, in.Slot)
			return page[contract.PastReading]{Items: items}, err
		}),
	does("POST", "/slots/{device}/{slot}/readings", "read a slot now", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in bySlot) (contract.Slot, error) {
			return s.Fleet.ReadSlot(ctx, in.Device, in.Slot)
		}).quietly(),
	begins("/sweeps", "read every slot, or those of a site; returns the running sweep, if there is one",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in askSweep) (contract.Sweep, error) {
			return s.Monitor.Sweeps.Sweep(ctx, in.Site)
		}).quietly(),
	looks("/sweeps/{id}", "show the progress of a sweep", func(_ context.Context, s *service.Service, _ people.Bearer,
		in byID) (contract.Sweep, error) {
		return s.Monitor.Sweeps.SweepOf(in.ID)
	}),
	does("POST", "/readings", "read an address that is not in the inventory", 200,
		func(ctx context.Context, s *service.Service, _ people.Bearer, in contract.AskReading) (contract.Seen, error) {
			return s.Monitor.ReadAddress(ctx, in)
		}),
	looks("/due", "list what must be done, most urgent first", func(ctx context.Context, s *service.Service,
		_ people.Bearer, in askDue) (contract.Due, error) {
		return s.Fleet.Lists.Due(ctx, number(in.Within, "30"), in.Site, number(in.Limit, "1000"))
	}),
	looks("/urgent", "list the slots that people must look at: how many there are of each part, and the first of them",
		func(ctx context.Context, s *service.Service, _ people.Bearer, _ nothing) (contract.Urgent, error) {
			return s.Fleet.Lists.Urgent(ctx)
		}),
	looks("/days", "list the days of a month on which certificates expire or their replacement must start",
		func(ctx context.Context, s *service.Service, _ people.Bearer, in askDays) (page[contract.DueDay], error) {
			days, err := s.Fleet.Lists.Days(ctx, in.Month)
			return page[contract.DueDay]{Items: days}, err
		}),
	listing("/protocols", "list the protocols that slots can be read by", theMonitor, (*monitor.Service).Protocols),
}
