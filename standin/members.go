package standin

import "time"

// families are the procedures for the kinds, with the setting that holds their secret word.
var families = map[Kind][2]string{MenuManager: {"manager-by-menu", "menu_password"}, NetworkGear: {"network-gear", "secret_word"}, StopServer: {"server-to-be-stopped", ""}, BareHost: {"bare-host", ""}, PlantRoom: {"plant-controller", ""},
	Firewall: {"firewall", ""}, HostManager: {"", ""}, ServerBoard: {"board-by-redfish", ""}, ReportingGateway: {"reporting-gateway", ""},
	SignOnServer: {"sign-on-server", ""}, EncryptionAppliance: {"encryption-appliance", "export_word"}, AccessServer: {"access-control-pair", "export_word"}, LoadBalancer: {"load-balancer", ""}, TraversalPeer: {"traversal-peer", ""}, BuildingController: {"building-controller", ""},
	SiteServer: {"web-site-ssh", ""}, Router: {"router-by-netconf", ""}, VoiceManager: {"voice-manager", ""}, ConferenceBridge: {"conference-bridge", ""}, WirelessManager: {"wireless-manager", ""}, HostWithPage: {"host-with-page", ""}, WANController: {"wan-controller", ""},
	Collector: {"collector", ""}, StagedVault: {"staged-by-menu", ""}, Dashboard: {"dashboard-of-nodes", ""}}

var members = []member{
	{name: "gate-1.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.11", replaceable: true, factory: "Brinewell", ends: 9 * 365 * day, also: "api"},
	{name: "tickets.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.21", replaceable: true, ends: 16 * day, also: "api"},
	{name: "radar.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.31", replaceable: true, ends: -3 * day, restart: 2 * time.Second, also: "feed"},
	{name: "vault.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.14", ends: 210 * day, also: "ldap"},
	{name: "pumps.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.45", ends: 120 * day, alone: true},
	{name: "crane.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.46", ends: 5 * day},
	{name: "wlan.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.17", ends: 300 * day, names: []string{"wifi.mainquay.tidewrack.example"}},
	{name: "bridge.petrel.tidewrack.example", site: "Petrel", address: "203.0.113.71", off: true},
	{name: "scale.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.18", replaceable: true, factory: "Corvane", ends: 7 * 365 * day, meddled: true},
	{name: "weather.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.32", replaceable: true, factory: "Corvane", ends: 4 * 365 * day, restart: 20 * time.Second, also: "feed"},
	{name: "ramp.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.22", replaceable: true, ends: 40 * day, faults: Faults{DropUpload: true}},
	{name: "mast.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.23", replaceable: true, ends: 75 * day, imposed: true},
	{name: "lamp.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.47", replaceable: true, factory: "Brinewell", ends: 6 * 365 * day, faults: Faults{KeepServing: true}},
	{name: "bridge.turnstone.tidewrack.example", site: "Turnstone", address: "203.0.113.81", replaceable: true, factory: "Lumsk", ends: 5 * 365 * day, behind: true},
	{name: "galley.turnstone.tidewrack.example", site: "Turnstone", address: "203.0.113.82", ends: 180 * day, behind: true, also: "api"},
	{name: "manager.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.21", replaceable: true, factory: "Pelorus", ends: 8 * 365 * day, kind: MenuManager, restart: 12 * time.Second, also: "api"},
	{name: "berth-3.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.50", replaceable: true, factory: "Lumsk", ends: 6 * 365 * day, kind: NetworkGear},
	{name: "dock.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.33", replaceable: true, ends: 25 * day, kind: StopServer, restart: 3 * time.Second, also: "api"},
	{name: "host-1.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.22", replaceable: true, factory: "Pelorus", ends: 8 * 365 * day, kind: BareHost, restart: 4 * time.Second, also: "console"},
	{name: "boiler.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.51", replaceable: true, factory: "Corvane", ends: 7 * 365 * day, kind: PlantRoom, restart: 5 * time.Second},
	{name: "host-7.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.23", factory: "Pelorus", ends: 8 * 365 * day, under: "manager.mainquay.tidewrack.example"},
	{name: "tally.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.34", replaceable: true, ends: 12 * day, kind: Collector, restart: 3 * time.Second, also: "intake"},
	{name: "vault-link.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.52", replaceable: true, factory: "Lumsk", ends: 9 * 365 * day, kind: StagedVault, restart: 4 * time.Second},
	{name: "board.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.25", replaceable: true, factory: "Halyard", ends: 4 * 365 * day, kind: Dashboard, nodes: 2, restart: 3 * time.Second, also: "api"},
	{name: "engine.turnstone.tidewrack.example", site: "Turnstone engine room", address: "203.0.113.84", replaceable: true, factory: "Brinewell", ends: 5 * 365 * day, behind: true},
	{name: "bridge.sanderling.tidewrack.example", site: "Sanderling", address: "203.0.113.91", replaceable: true, ends: 30 * day, behind: true},
	{name: "galley.sanderling.tidewrack.example", site: "Sanderling", address: "203.0.113.92", ends: 90 * day, behind: true},
	{name: "watch.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.28", replaceable: true, factory: "Brinewell", ends: 6 * 365 * day, kind: SiteServer, restart: time.Second},
	{name: "phones.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.31", replaceable: true, factory: "Halyard", ends: 3 * 365 * day, kind: VoiceManager, restart: 6 * time.Second},
	{name: "lines.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.31", ends: 20 * day, kind: WANController, restart: 4 * time.Second},
	{name: "radio.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.32", factory: "Brinewell", ends: 6 * 365 * day, kind: WirelessManager, restart: 3 * time.Second},
	{name: "meetings.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.33", factory: "Halyard", ends: 7 * 365 * day, kind: ConferenceBridge, restart: 5 * time.Second},
	{name: "wall.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.61", factory: "Lumsk", ends: 9 * 365 * day, kind: Firewall, nodes: 1, restart: 4 * time.Second},
	{name: "reports.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.34", factory: "Corvane", ends: 5 * 365 * day, kind: ReportingGateway, restart: 3 * time.Second},
	{name: "manager-2.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.35", factory: "Pelorus", ends: 8 * 365 * day, kind: HostManager, restart: 4 * time.Second},
	{name: "host-9.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.36", factory: "Pelorus", ends: 8 * 365 * day, under: "manager-2.mainquay.tidewrack.example"},
	{name: "host-4.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.41", factory: "Pelorus", ends: 6 * 365 * day, kind: HostWithPage, restart: time.Second},
	{name: "rack-2.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.37", factory: "Brinewell", ends: 9 * 365 * day, kind: ServerBoard, restart: 5 * time.Second},
	{name: "balance.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.41", factory: "Brinewell", ends: 3 * 365 * day, kind: LoadBalancer, nodes: 1, restart: 2 * time.Second},
	{name: "access.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.45", factory: "Lumsk", ends: 4 * 365 * day, kind: AccessServer, nodes: 1, restart: 3 * time.Second},
	{name: "portal.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.43", replaceable: true, factory: "Halyard", ends: 2 * 365 * day, kind: SignOnServer, restart: 6 * time.Second},
	{name: "cipher.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.65", replaceable: true, factory: "Lumsk", ends: 8 * 365 * day, kind: EncryptionAppliance, nodes: 1, restart: 4 * time.Second},
	{name: "border-1.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.35", factory: "Corvane", ends: 5 * 365 * day, kind: TraversalPeer, cluster: "border", restart: 3 * time.Second},
	{name: "border-2.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.36", factory: "Corvane", ends: 5 * 365 * day, kind: TraversalPeer, cluster: "border", restart: 3 * time.Second},
	{name: "climate.gannet-point.tidewrack.example", site: "Gannet Point", address: "203.0.113.45", factory: "Corvane", ends: 6 * 365 * day, kind: BuildingController, restart: 3 * time.Second},
	{name: "router.saltmere.tidewrack.example", site: "Saltmere", address: "198.51.100.67", replaceable: true, factory: "Lumsk", ends: 7 * 365 * day, kind: Router},
	{name: "panel.northholm.tidewrack.example", site: "Northholm", address: "198.51.100.24", byHand: true, factory: "Halyard", ends: 8 * 365 * day, restart: time.Second},

	// Nobody wrote these down.
	{name: "lift-1.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.201", unlisted: true, factory: "Brinewell", ends: 5 * 365 * day},
	{name: "lift-2.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.202", unlisted: true, factory: "Brinewell", ends: 5 * 365 * day, twin: "lift-1.mainquay.tidewrack.example"},
	{name: "phones-old.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.205", unlisted: true, factory: "Halyard", ends: 200 * day, kind: VoiceManager},
	{name: "printers.mainquay.tidewrack.example", site: "Mainquay", address: "192.0.2.210", unlisted: true, ends: 60 * day, also: "api"},
}

// owners answer for what stands at their site.
var owners = map[string]string{
	"Mainquay": "data hall", "Northholm": "terminal", "Saltmere": "terminal", "Gannet Point": "pilot station", "Petrel": "ship's office", "Turnstone": "ship's office", "Turnstone engine room": "ship's office", "Sanderling": "ship's office",
}
