package discovery

import (
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/core/naming"
	"freshseal/core/pki/request"
)

// Seen is a TLS service that was found.
type Seen struct {
	Target
	ServerName string // under which it was asked for, where a name was given
	SHA256     string
	Subject    string // as RFC 4514 writes it
	Issuer     string
	Names      []string
	NotAfter   time.Time
	SelfSigned bool
	Default    string // whose known default it is; empty: none
	Banner     string // what its web server calls itself
}

// Factory reports whether what is served is what the device was delivered with.
func (s Seen) Factory() bool { return s.SelfSigned || s.Default != "" }

// Family is a family that can be recognized.
type Family struct {
	Name  string
	Marks []Mark
}

// Slot is a slot of a proposed device.
type Slot struct {
	Name       string `json:"name" required:"true"`
	Address    string `json:"address" required:"true"`
	Port       int    `json:"port" required:"true"`
	Protocol   string `json:"protocol,omitempty"`
	ServerName string `json:"server_name,omitempty"`
	More       []Seen `json:"-"` // where the same certificate is served under the same name
	Of         Seen   `json:"-"`
}

// Proposal is a device that what was found may be.
type Proposal struct {
	Name     string   `json:"name" required:"true"`
	Address  string   `json:"address" required:"true"`
	Families []string `json:"families" required:"true"`
	Factory  bool     `json:"factory" required:"true"`
	Slots    []Slot   `json:"slots" required:"true"`
}

// Propose makes devices of what was found: all that one address serves is one device; addresses at which the same
// certificate, which is no factory's, is served under one name are one too.
func Propose(seen []Seen, families []Family) []Proposal {
	by := map[string][]Seen{}
	var order []string
	for _, s := range seen {
		key := s.Address
		if name := ownName(s); name != "" && !s.Factory() {
			key = "name " + name + " " + s.SHA256
		}
		if by[key] == nil {
			order = append(order, key)
		}
		by[key] = append(by[key], s)
	}
	// What an address serves under its own name and what it serves otherwise belong together.
	home := map[string]string{}
	for _, key := range order {
		for _, s := range by[key] {
			if _, known := home[s.Address]; !known {
				home[s.Address] = key
			}
		}
	}
	merged := map[string][]Seen{}
	var devices []string
	for _, key := range order {
		to := home[by[key][0].Address]
		if merged[to] == nil {
			devices = append(devices, to)
		}
		merged[to] = append(merged[to], by[key]...)
	}
	taken := map[string]int{}
	var out []Proposal
	for _, key := range devices {
		p := propose(merged[key], families)
		taken[p.Name]++
		out = append(out, p)
	}
	for i, p := range out { // a name that several would have is nobody's
		if taken[p.Name] > 1 {
			out[i].Name = addressName(p.Address)
		}
	}
	return out
}

func propose(seen []Seen, families []Family) Proposal {
	first := seen[0]
	p := Proposal{Address: first.Address, Families: []string{}, Name: addressName(first.Address)}
	if first.ServerName != "" {
		p.Name = first.ServerName
	} else if name := ownName(first); name != "" {
		p.Name = name
	}
	used := map[string]bool{}
	for _, s := range seen {
		p.Factory = p.Factory || s.Factory()
		if i := slices.IndexFunc(p.Slots, func(slot Slot) bool {
			return slot.Of.SHA256 == s.SHA256 && slot.Port == s.Number && slot.Address != s.Address
		}); i >= 0 {
			p.Slots[i].More = append(p.Slots[i].More, s)
			continue
		}
		slot := Slot{Name: slotName(s.Port, used), Address: s.Address, Port: s.Number, Protocol: s.Protocol,
			ServerName: s.ServerName, Of: s}
		if slot.ServerName == "" && strings.Contains(p.Name, ".") && net.ParseIP(p.Name) == nil {
			slot.ServerName = p.Name
		}
		used[slot.Name] = true
		p.Slots = append(p.Slots, slot)
	}
	p.Families = Guess(seen, families)
	return p
}

// Guess returns the families of which something was seen, the one that says most first.
func Guess(seen []Seen, families []Family) []string {
	weight := map[string]int{}
	out := []string{}
	for _, f := range families {
		for _, m := range f.Marks {
			for _, s := range seen {
				if m.fits(s) && m.weight() > weight[f.Name] {
					if weight[f.Name] == 0 {
						out = append(out, f.Name)
					}
					weight[f.Name] = m.weight()
				}
			}
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return weight[b] - weight[a] })
	return out
}

// ownName returns a name of a certificate by which its device can be called: a whole host name, which no
// factory writes.
func ownName(s Seen) string {
	if s.ServerName != "" {
		return s.ServerName
	}
	for _, name := range s.Names {
		name = request.PlainName(name)
		last := name[strings.LastIndexByte(name, '.')+1:]
		if strings.Contains(name, ".") && !strings.Contains(name, "*") && naming.Device(name) &&
			net.ParseIP(name) == nil &&
			!slices.Contains([]string{"invalid", "localdomain", "local", "localhost"}, last) {
			return name
		}
	}
	return ""
}

// addressName returns an address as the name of a device: IPv6 has colons, which names have not.
func addressName(address string) string {
	if !strings.Contains(address, ":") {
		return address
	}
	return strings.Trim(strings.ReplaceAll(address, ":", "-"), "-")
}

// slotNames are the usual names of slots at well-known ports.
var slotNames = map[int]string{443: "web", 8443: "web", 9443: "web", 636: "ldap", 389: "ldap", 993: "imap",
	143: "imap", 995: "pop3", 110: "pop3", 25: "smtp", 465: "smtp", 587: "smtp", 21: "ftp", 990: "ftp",
	5061: "sip", 3389: "desktop", 5432: "database", 3306: "database", 5222: "xmpp", 5269: "xmpp", 2083: "radius",
	6514: "syslog"}

func slotName(p Port, used map[string]bool) string {
	name := slotNames[p.Number]
	if name == "" {
		name = "tls"
	}
	if used[name] || name == "tls" {
		name += "-" + strconv.Itoa(p.Number)
	}
	return name
}
