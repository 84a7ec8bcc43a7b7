package demo

import (
	"crypto/x509/pkix"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"freshseal/standin"
	_ "freshseal/standin/kinds"
	"freshseal/standin/kinds/site"
)

// Member is a device of the demo's fleet, as it is added to the service.
type Member struct {
	Name     string
	Site     string
	Address  string // shown; from the documentation ranges
	SSHPort  int
	TLSPort  int
	Cluster  string
	EAPPort  int    // of a slot eap, which is read by PEAP; 0: there is none
	Shared   string // with network devices, for that
	Also     string // a second slot, at MorePort, that serves the same certificate
	MorePort int
	Family   string // empty: can only be read
	Settings map[string]string
	Owner    string
	Tags     []string
	User     string // who signs in over SSH, where anybody does
	Password string
	HostKey  string
	Web      *MemberWeb        // who signs in to its web interface; nil: nobody
	Link     string            // shown address of whom one signs in to, where that is another box
	Nodes    map[string]string // names and shown addresses of its further nodes
}

// MemberWeb is how one signs in to a member's web interface.
type MemberWeb struct{ User, Password, Pin string }

// Fleet is the demo's fleet while it is on.
type Fleet struct {
	Members []Member
	Anchors []byte // the operator's own roots, PEM
	Ways    []Way  // into the sites that they name
	Meddled string // the device whose certificate Meddle exchanges

	seed    Seed
	boxes   []*standin.Running
	named   map[string]*standin.Running
	proxies []*standin.Socks
	places  map[string]map[string]string // by way in, "" for none: shown address:port → where it really listens
	meddled *standin.Running

	stop chan struct{} // ends the following of set faults
	work sync.WaitGroup
}

// member is how a device of the fleet begins.
type member struct {
	name, site, address string
	replaceable         bool
	factory             string // the maker whose delivered certificate it serves
	ends                time.Duration
	names               []string // instead of its own
	alone               bool     // serves the leaf without the intermediate
	off                 bool     // cannot be reached
	restart             time.Duration
	faults              standin.Faults
	imposed             bool         // shows another host key than the one that is pinned
	behind              bool         // reached only by the way into its site
	under               string       // the manager that signs for it
	nodes               int          // further ones
	byHand              bool         // can be worked on only by hand, on its web page
	meddled             bool         // somebody exchanges its certificate after it was sealed
	cluster             string       // of which it is a member
	also                string       // a second slot with the same certificate
	kind                standin.Kind // what it is like on a terminal, where it has more than a shell
	unlisted            bool         // in no inventory: only a discovery finds it
	twin                string       // serves the certificate of that other box, with the same key
}

// StartFleet turns the demo's fleet on; dir keeps the state of its boxes, which
// is made at the first start.
func StartFleet(dir string, seed Seed, now time.Time) (*Fleet, error) {
	f := &Fleet{seed: seed, named: map[string]*standin.Running{}, places: map[string]map[string]string{"": {}}}
	for _, w := range ways {
		f.places[w.Site] = map[string]string{}
	}
	root, middle, err := authorities(dir, seed.reader("authorities"), now)
	if err != nil {
		return nil, err
	}
	harbour, err := OpenHarbour(dir, seed.reader("harbour"), now)
	if err != nil {
		return nil, err
	}
	f.Anchors = append(root.PEM(), harbour.Root()...)
	for _, m := range members {
		if err := f.start(dir, m, middle, now); err != nil {
			f.Close()
			return nil, fmt.Errorf("starting %s: %w", m.name, err)
		}
	}
	for _, w := range ways {
		if err := f.open(filepath.Join(dir, w.Name), w); err != nil {
			f.Close()
			return nil, fmt.Errorf("starting %s: %w", w.Name, err)
		}
	}
	f.stop = make(chan struct{})
	f.work.Go(func() { f.follow(dir, f.stop) })
	return f, os.WriteFile(filepath.Join(dir, "where.csv"), []byte(f.where()), 0o600)
}

// authorities opens the operator's own root and the intermediate that signs its
// certificates, or makes them at the first start.
func authorities(dir string, random io.Reader, now time.Time) (root, middle *standin.Authority, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, err
	}
	file := filepath.Join(dir, "authority.pem")
	text, err := os.ReadFile(file)
	if err == nil {
		return standin.OpenAuthorities(text)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, err
	}
	if root, err = standin.NewAuthority("Tidewrack Ferries Root", nil, random, now); err != nil {
		return nil, nil, err
	}
	if middle, err = standin.NewAuthority("Tidewrack Ferries Device Authority", root, random, now); err != nil {
		return nil, nil, err
	}
	if err := os.WriteFile(file+".part", append(root.WithKey(), middle.WithKey()...), 0o600); err != nil {
		return nil, nil, err
	}
	return root, middle, os.Rename(file+".part", file)
}

// shows notes where a box that was started is reached, and what people need to sign in to it.
func (f *Fleet) shows(m member, b standin.Box, box *standin.Running, shown *Member) {
	f.named[m.name] = box
	if m.byHand { // people have only their own browser, which knows no shown addresses
		shown.Settings = map[string]string{"pages": "https://" + box.TLSAddr + "/"}
	}
	f.boxes = append(f.boxes, box)
	way := ""
	if m.behind {
		way = m.site
	}
	f.places[way][net.JoinHostPort(m.address, "443")] = box.TLSAddr
	if box.MoreAddr != "" {
		f.places[way][net.JoinHostPort(m.address, "9443")] = box.MoreAddr
	}
	if box.RADIUSAddr != "" {
		f.places[way][net.JoinHostPort(m.address, "1812")] = box.RADIUSAddr
	}
	if box.Plain != "" {
		f.places[way][net.JoinHostPort(m.address, "80")] = box.Plain
		shown.Settings = map[string]string{"page": "https://" + m.address + "/", "plain": "http://" + m.address + "/"}
	}
	if m.replaceable {
		if m.kind == standin.Router {
			shown.SSHPort = 830
		}
		f.places[way][net.JoinHostPort(m.address, strconv.Itoa(shown.SSHPort))] = box.SSHAddr
		shown.User, shown.Password, shown.HostKey = b.User, b.Password, box.HostKey()
	}
	if b.WebUser != "" {
		shown.Web = &MemberWeb{b.WebUser, b.WebPassword, standin.Fingerprint(box.Served())}
	}
	if m.imposed { // as if it had been compared before somebody got in between
		shown.HostKey = "ssh-ed25519 SHA256:" + strings.Repeat("Tidewrack", 5)[:43]
	}
}

// ofKind gives a box what its kind has beyond a shell with files.
func (f *Fleet) ofKind(folder string, m member, b *standin.Box, shown *Member) error {
	if m.kind == "" {
		return nil
	}
	var err error
	b.Kind, shown.Family = m.kind, families[m.kind][0]
	if b.Secret, err = password(filepath.Join(folder, "word"), f.seed.reader(m.name+" word")); err != nil {
		return err
	}
	if word := families[m.kind][1]; word != "" {
		shown.Settings = map[string]string{word: b.Secret}
	}
	if m.kind.HasWeb() {
		b.WebUser, b.WebPassword = "webkeeper", b.Secret
	}
	switch m.kind {
	case standin.AccessServer:
		if b.Shared, err = password(filepath.Join(folder, "shared"), f.seed.reader(m.name+" shared")); err != nil {
			return err
		}
		b.RADIUSPort, shown.EAPPort, shown.Shared = 11812, 1812, b.Shared
	case standin.SiteServer:
		shown.Settings = site.SiteSettings
	case standin.LoadBalancer: // its listener for tests
		b.MorePort, shown.Settings = 9443, map[string]string{"test": m.address + ":9443"}
	}
	return nil
}

func (f *Fleet) start(dir string, m member, middle *standin.Authority, now time.Time) error {
	shown := Member{Owner: owners[m.site],
		Tags: []string{strings.TrimRight(strings.SplitN(m.name, ".", 2)[0], "-0123456789")}, Name: m.name,
		Site: m.site, Address: m.address, SSHPort: 22, TLSPort: 443}
	if m.off {
		f.Members = append(f.Members, shown)
		return nil
	}
	folder := filepath.Join(dir, strings.SplitN(m.name, ".tidewrack", 2)[0])
	if m.twin != "" {
		if err := layTwin(folder, filepath.Join(dir, strings.SplitN(m.twin, ".tidewrack", 2)[0])); err != nil {
			return err
		}
	}
	if err := lay(folder, m, middle, f.seed.reader(m.name+" certificate"), now); err != nil {
		return err
	}
	b := standin.Box{Dir: folder, Address: loopback(m.address), SSHPort: 2222, TLSPort: 8443, Restart: m.restart,
		Faults: m.faults, Pages: m.byHand, Random: f.seed.reader(m.name + " host key")}
	if m.replaceable {
		var err error
		b.User, shown.Family = "keeper", "web-files-ssh"
		if b.Password, err = password(filepath.Join(folder, "password"),
			f.seed.reader(m.name+" password")); err != nil {
			return err
		}
	}
	if err := f.ofKind(folder, m, &b, &shown); err != nil {
		return err
	}
	if m.byHand {
		shown.Family = "web-pages-by-hand"
	}
	b.Hosts = func(name string) *standin.Running {
		switch {
		case name == "standby" && m.cluster != "":
			return f.peer(m)
		case name == "standby":
			name = nodeAddress(m.address, 0)
		}
		return f.named[name]
	}
	b.System, shown.Cluster = m.name, m.cluster
	if m.also != "" {
		b.MorePort, shown.Also, shown.MorePort = 9443, m.also, 9443
	}
	box, err := standin.Start(b)
	if err != nil {
		return err
	}
	f.shows(m, b, box, &shown)
	if m.meddled {
		f.Meddled, f.meddled = m.name, box
	}
	if m.under != "" {
		if err := f.governed(m, &shown); err != nil {
			return err
		}
	}
	for n := range m.nodes {
		if err := f.startNode(dir, m, n, middle, &shown, now); err != nil {
			return err
		}
	}
	if !m.unlisted {
		f.Members = append(f.Members, shown)
	}
	return nil
}

// peer returns the other member of a cluster.
func (f *Fleet) peer(m member) *standin.Running {
	for _, other := range members {
		if other.cluster == m.cluster && other.name != m.name {
			return f.named[other.name]
		}
	}
	return nil
}

// Meddle exchanges the certificate of one box, as somebody does who knows
// nothing of Fresh Seal.
func (f *Fleet) Meddle(now time.Time) error {
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{Organization: []string{"Corvane"},
		CommonName: "Corvane service technician"}, Names: []string{"appliance.invalid"}, Ends: 365 * standin.Day},
		f.seed.reader("technician"), now)
	if err != nil {
		return err
	}
	return f.meddled.Meddle(certificate, key)
}

// layTwin puts the certificate and key of another box into a box: some makers deliver all their boxes with
// the same ones.
func layTwin(folder, other string) error {
	certificate, err := os.ReadFile(filepath.Join(other, "root", standin.CertificateFile))
	if err != nil {
		return err
	}
	key, err := os.ReadFile(filepath.Join(other, "root", standin.KeyFile))
	if err != nil {
		return err
	}
	return standin.Lay(folder, certificate, key)
}

// lay puts the certificate into a box with which it begins its life.
func lay(folder string, m member, middle *standin.Authority, random io.Reader, now time.Time) error {
	w := standin.Wanted{Subject: pkix.Name{Organization: []string{"Tidewrack Ferries"}, Locality: []string{m.site},
		CommonName: m.name},
		Names: []string{m.name}, Begins: m.ends - 365*standin.Day, Ends: m.ends}
	if m.names != nil {
		w.Names, w.Subject.CommonName = m.names, m.names[0]
	}
	signer := middle
	if m.factory != "" {
		signer = nil
		w = standin.Wanted{Subject: pkix.Name{Organization: []string{m.factory}, CommonName: m.factory + " appliance"},
			Names: []string{"appliance.invalid"}, Begins: m.ends - 10*365*standin.Day, Ends: m.ends}
	}
	certificate, key, err := signer.Issue(w, random, now)
	if err != nil {
		return err
	}
	if m.factory == "" && !m.alone {
		certificate = append(certificate, middle.PEM()...)
	}
	return standin.Lay(folder, certificate, key)
}

// password returns made once for each box.
func password(file string, random io.Reader) (string, error) {
	text, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(text)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	secret := make([]byte, 18)
	if _, err := io.ReadFull(random, secret); err != nil {
		return "", err
	}
	made := base64.RawURLEncoding.EncodeToString(secret)
	return made, os.WriteFile(file, []byte(made+"\n"), 0o600)
}

// moved is the member whose DNS record was forgotten.
const moved = "ramp.northholm.tidewrack.example"

// Close turns every box off.
func (f *Fleet) Close() error {
	var errs []error
	if f.stop != nil {
		close(f.stop)
		f.work.Wait()
	}
	for _, proxy := range f.proxies {
		errs = append(errs, proxy.Close())
	}
	for _, box := range f.boxes {
		errs = append(errs, box.Close())
	}
	return errors.Join(errs...)
}
