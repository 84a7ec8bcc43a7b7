package demo

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshseal/standin"
)

// Way is how a site is reached that is not reached directly.
type Way struct {
	Member
	Socks  bool   // a SOCKS5 proxy, not a jump host
	Behind string // the site through which it is reached
}

// ways are the ways into the ships: a jump host, one behind it, and a proxy.
var ways = []Way{
	{Member: Member{Name: "gangway.turnstone", Site: "Turnstone", Address: "203.0.113.80", SSHPort: 22,
		User: "gangway"}},
	{Member: Member{Name: "ladder.turnstone", Site: "Turnstone engine room", Address: "203.0.113.83", SSHPort: 22,
		User: "ladder"}, Behind: "Turnstone"},
	{Member: Member{Name: "proxy.sanderling", Site: "Sanderling", Address: "203.0.113.90", SSHPort: 1080}, Socks: true},
}

// governed has a host worked on where its manager is.
func (f *Fleet) governed(m member, shown *Member) error {
	i := slices.IndexFunc(f.Members, func(known Member) bool { return known.Name == m.under })
	if i < 0 {
		return errors.New("its manager stands after it in the table")
	}
	manager := f.Members[i]
	shown.Settings = map[string]string{"host": m.name}
	if manager.Web != nil {
		shown.Family, shown.Link, shown.Web = "host-by-manager-api", manager.Address, manager.Web
		return nil
	}
	shown.Family, shown.Link, shown.User, shown.Password, shown.HostKey = "host-under-manager", manager.Address,
		manager.User, manager.Password, manager.HostKey
	return nil
}

// nodeAddress returns the address of a further node of a device: after its own.
func nodeAddress(address string, n int) string {
	place := strings.Split(address, ".")
	last, _ := strconv.Atoi(place[3]) // a table of ours
	place[3] = strconv.Itoa(last + n + 1)
	return strings.Join(place, ".")
}

// startNode turns on a further node of a device, at the address after it.
func (f *Fleet) startNode(dir string, m member, n int, middle *standin.Authority, shown *Member, now time.Time) error {
	first, rest, _ := strings.Cut(m.name, ".")
	node := member{name: fmt.Sprintf("%s-%d.%s", first, n+2, rest), site: m.site, address: nodeAddress(m.address, n),
		factory: m.factory, ends: m.ends}
	folder := filepath.Join(dir, strings.SplitN(node.name, ".tidewrack", 2)[0])
	if err := lay(folder, node, middle, f.seed.reader(node.name+" certificate"), now); err != nil {
		return err
	}
	b := standin.Box{Dir: folder, Address: loopback(node.address), TLSPort: 8443, Restart: m.restart}
	if m.kind == standin.AccessServer {
		b.Kind, b.Shared, b.RADIUSPort = m.kind, shown.Shared, 11812
	}
	box, err := standin.Start(b)
	if err != nil {
		return err
	}
	if box.RADIUSAddr != "" {
		f.places[""][net.JoinHostPort(node.address, "1812")] = box.RADIUSAddr
	}
	f.boxes, f.named[node.address] = append(f.boxes, box), box
	f.places[""][net.JoinHostPort(node.address, "443")] = box.TLSAddr
	if shown.Nodes == nil {
		shown.Nodes = map[string]string{}
	}
	shown.Nodes[node.name] = node.address
	return nil
}

// open turns a way into a site on.
func (f *Fleet) open(folder string, w Way) error {
	forward := func(address string) (net.Conn, error) {
		place, ok := f.places[w.Site][address]
		if !ok {
			return nil, errors.New("nothing on board has the address " + address)
		}
		return net.DialTimeout("tcp", place, 5*time.Second)
	}
	at := net.JoinHostPort(w.Address, strconv.Itoa(w.SSHPort))
	if w.Socks {
		proxy, err := standin.StartSocks(loopback(w.Address), 1080, forward)
		if err != nil {
			return err
		}
		f.proxies = append(f.proxies, proxy)
		f.places[w.Behind][at] = proxy.Addr
		f.Ways = append(f.Ways, w)
		return nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	var err error
	if w.Password, err = password(filepath.Join(folder, "password"), f.seed.reader(w.User+" password")); err != nil {
		return err
	}
	box, err := standin.Start(standin.Box{Dir: folder, Address: loopback(w.Address), SSHPort: 2222, User: w.User,
		Password: w.Password, Random: f.seed.reader(w.User + " host key"), Forward: forward})
	if err != nil {
		return err
	}
	f.boxes = append(f.boxes, box)
	f.places[w.Behind][at], w.HostKey = box.SSHAddr, box.HostKey()
	f.Ways = append(f.Ways, w)
	return nil
}
