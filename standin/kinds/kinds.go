// Package kinds registers every kind of stand-in: each has a folder of its own below, with its faults, what it serves
// and what it understands. Import it for that alone.
package kinds

import (
	_ "freshseal/standin/kinds/access"
	_ "freshseal/standin/kinds/balancer"
	_ "freshseal/standin/kinds/board"
	_ "freshseal/standin/kinds/building"
	_ "freshseal/standin/kinds/cipher"
	_ "freshseal/standin/kinds/collector"
	_ "freshseal/standin/kinds/conference"
	_ "freshseal/standin/kinds/dashboard"
	_ "freshseal/standin/kinds/dock"
	_ "freshseal/standin/kinds/firewall"
	_ "freshseal/standin/kinds/gateway"
	_ "freshseal/standin/kinds/gauge"
	_ "freshseal/standin/kinds/gear"
	_ "freshseal/standin/kinds/host"
	_ "freshseal/standin/kinds/hostmanager"
	_ "freshseal/standin/kinds/hostpage"
	_ "freshseal/standin/kinds/manager"
	_ "freshseal/standin/kinds/mast"
	_ "freshseal/standin/kinds/peer"
	_ "freshseal/standin/kinds/plant"
	_ "freshseal/standin/kinds/router"
	_ "freshseal/standin/kinds/signon"
	_ "freshseal/standin/kinds/site"
	_ "freshseal/standin/kinds/staged"
	_ "freshseal/standin/kinds/tickets"
	_ "freshseal/standin/kinds/voice"
	_ "freshseal/standin/kinds/wan"
	_ "freshseal/standin/kinds/wireless"
)
