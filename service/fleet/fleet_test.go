package fleet

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/language/library"
	_ "freshseal/core/language/verb"
	"freshseal/core/pki/pack"
	"freshseal/core/replacement"
	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/monitor"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/faulty"
	"freshseal/strongbox"

	"github.com/xuri/excelize/v2"
)

func clock() time.Time { return testkit.Now }

// quay is the room with a network in memory: what each address serves.
type quay struct {
	*Service
	db     *store.Store
	disk   *faulty.Disk
	folder string // of procedures
	lock   sync.Mutex
	serves map[string]testkit.Signer // by HOST:PORT
}

func newQuay(t *testing.T) *quay {
	t.Helper()
	q := &quay{serves: map[string]testkit.Signer{}, folder: t.TempDir()}
	q.db, q.disk = faulty.Open(t)
	box, err := strongbox.Open(filepath.Join(t.TempDir(), "strongbox.key"))
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	ways := access.New(q.db, box, q.dial, clock)
	readings := monitor.New(ctx, q.db, ways, q.dial, log, clock)
	q.Service = New(ctx, q.db, box, ways, readings, q.folder, log, clock)
	t.Cleanup(func() { stop(); q.Wait(); readings.Wait() })
	return q
}

// dial reaches what the network has.
func (q *quay) dial(_ context.Context, _, address string) (net.Conn, error) {
	q.lock.Lock()
	leaf, has := q.serves[address]
	q.lock.Unlock()
	if !has {
		return nil, &net.OpError{Op: "dial", Err: syscall.ECONNREFUSED}
	}
	here, there := net.Pipe()
	go func() {
		defer there.Close()
		server := tls.Server(there, &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw},
			PrivateKey: leaf.Key}}})
		if server.Handshake() == nil {
			io.Copy(io.Discard, server)
		}
		io.Copy(io.Discard, there) // nobody is kept waiting
	}()
	return here, nil
}

func (q *quay) put(t *testing.T, address string, port int, name string) testkit.Signer {
	t.Helper()
	leaf := testkit.Root(t, "Quay Root").Leaf(t, name)
	q.lock.Lock()
	defer q.lock.Unlock()
	q.serves[net.JoinHostPort(address, strconv.Itoa(port))] = leaf
	return leaf
}

func text(s string) *string { return &s }

// refused checks that an error is a problem of this kind that says this.
func refused(t *testing.T, err error, kind problem.Kind, says string) {
	t.Helper()
	var p *problem.Error
	if !errors.As(err, &p) || p.Kind != kind || !strings.Contains(p.What+"; "+p.Why+"; "+p.Next, says) {
		t.Errorf("%v, want %s and %q", err, kind, says)
	}
}

func gate(n int, change func(*contract.NewDevice)) contract.NewDevice {
	d := contract.NewDevice{Name: "gate-" + strconv.Itoa(n) + ".tidewrack.example", Address: "192.0.2." +
		strconv.Itoa(n),
		Slots: []contract.DeviceSlot{{Name: "web"}}}
	if change != nil {
		change(&d)
	}
	return d
}

func TestADeviceIsAddedChangedAndRemoved(t *testing.T) {
	q := newQuay(t)
	leaf := q.put(t, "192.0.2.7", 443, "gate-7.tidewrack.example")
	d, err := q.AddDevice(t.Context(), gate(7, func(d *contract.NewDevice) {
		d.Owner, d.Tags, d.Notes = "harbour office", []string{"quay", "west"}, "behind the pump"
	}))
	if err != nil || len(d.Slots) != 1 || d.Slots[0].Port != 443 || d.Owner != "harbour office" {
		t.Fatalf("%+v, %v", d, err)
	}
	_, err = q.AddDevice(t.Context(), gate(7, nil))
	refused(t, err, problem.Conflict, "gate-7")
	s, err := q.ReadSlot(t.Context(), d.Name, "web")
	if err != nil || s.Certificate == nil || s.Certificate.SHA256 != leaf.SHA256 {
		t.Fatalf("%+v, %v", s.Certificate, err)
	}
	pem, err := q.Chain(t.Context(), d.Name, "web", pack.LeafFirst, pack.PEM)
	if err != nil || !strings.Contains(string(pem), "BEGIN CERTIFICATE") {
		t.Errorf("%q, %v", pem, err)
	}
	known, err := q.Certificate(t.Context(), leaf.SHA256)
	if err != nil || known.Certificate.SHA256 != leaf.SHA256 {
		t.Errorf("%+v, %v", known, err)
	}
	if past, err := q.Lists.Readings(t.Context(), d.Name, "web"); err != nil || len(past) != 1 {
		t.Errorf("%d readings, %v", len(past), err)
	}
	changed, err := q.EditDevice(t.Context(), d.Name, contract.DeviceChange{Owner: text("port captain"),
		Tags: []string{"east"}, Address: text("192.0.2.8")}, store.Any)
	if err != nil || changed.Owner != "port captain" || changed.Address != "192.0.2.8" ||
		changed.Revision <= d.Revision {
		t.Errorf("%+v, %v", changed, err)
	}
	_, err = q.EditDevice(t.Context(), d.Name, contract.DeviceChange{Owner: text("x")}, d.Revision)
	refused(t, err, problem.Stale, "")
	if err := q.RemoveDevice(t.Context(), d.Name); err != nil {
		t.Fatal(err)
	}
	_, err = q.Device(t.Context(), d.Name)
	refused(t, err, problem.NotFound, "gate-7")
	refused(t, q.RemoveDevice(t.Context(), d.Name), problem.NotFound, "gate-7")
}

// What is wrong with a device is said before anything is kept.
func TestWhatADeviceMustBe(t *testing.T) {
	q := newQuay(t)
	for says, change := range map[string]func(*contract.NewDevice){
		"name":       func(d *contract.NewDevice) { d.Name = "two words" },
		"address":    func(d *contract.NewDevice) { d.Address = "" },
		"slot":       func(d *contract.NewDevice) { d.Slots = nil },
		"web":        func(d *contract.NewDevice) { d.Slots = append(d.Slots, contract.DeviceSlot{Name: "web"}) },
		"port":       func(d *contract.NewDevice) { d.Slots[0].Port = 70000 },
		"protocol":   func(d *contract.NewDevice) { d.Slots[0].Protocol = "gopher" },
		"setting":    func(d *contract.NewDevice) { d.Settings = map[string]string{"x": "y"} },
		"trust":      func(d *contract.NewDevice) { d.Slots[0].TrustGroups = []string{"nobody"} },
		"procedure":  func(d *contract.NewDevice) { d.Family = "steam-engine" },
		"tag":        func(d *contract.NewDevice) { d.Tags = []string{"two\nlines"} },
		"node":       func(d *contract.NewDevice) { d.Nodes = []contract.Node{{Name: "a"}, {Name: "a"}} },
		"access":     func(d *contract.NewDevice) { d.Family = "web-server-ssh" },
		"role":       func(d *contract.NewDevice) { d.ClusterRole = "king" },
		"secret":     func(d *contract.NewDevice) { d.Slots[0].Protocol = "radius-eap" },
		"characters": func(d *contract.NewDevice) { d.Owner = strings.Repeat("x", 5000) },
	} {
		if d, err := q.AddDevice(t.Context(), gate(7, change)); err == nil {
			t.Errorf("%s: it was added: %+v", says, d)
		} else if p := (*problem.Error)(nil); !errors.As(err, &p) || p.Why == "" && p.What == "" {
			t.Errorf("%s: %v", says, err)
		}
	}
	if n, err := q.Lists.CountDevices(t.Context(), DeviceFilter{}); err != nil || n != 0 {
		t.Errorf("%d devices are kept, %v", n, err)
	}
}

func TestSlotsOfADevice(t *testing.T) {
	q := newQuay(t)
	d, err := q.AddDevice(t.Context(), gate(7, nil))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := q.AddSlot(t.Context(), d.Name, contract.DeviceSlot{Name: "mail", Protocol: "smtp"}); err != nil {
		t.Fatal(err)
	}
	_, err = q.AddSlot(t.Context(), d.Name, contract.DeviceSlot{Name: "mail", Protocol: "smtp"})
	refused(t, err, problem.Conflict, "mail")
	port := 2525
	s, err := q.EditSlot(t.Context(), d.Name, "mail",
		contract.SlotChange{Port: &port, ServerName: text("mx.tidewrack.example"),
			More: []contract.Place{{Address: "192.0.2.9", Port: 25}}}, store.Any)
	if err != nil || s.Port != 2525 || s.ServerName != "mx.tidewrack.example" || len(s.Others) != 1 {
		t.Errorf("%+v, %v", s, err)
	}
	bad := 70000
	_, err = q.EditSlot(t.Context(), d.Name, "mail", contract.SlotChange{Port: &bad}, store.Any)
	refused(t, err, problem.Invalid, "port")
	_, err = q.EditSlot(t.Context(), d.Name, "eap", contract.SlotChange{}, store.Any)
	refused(t, err, problem.NotFound, "eap")
	if err := q.RemoveSlot(t.Context(), d.Name, "mail"); err != nil {
		t.Fatal(err)
	}
	refused(t, q.RemoveSlot(t.Context(), d.Name, "mail"), problem.NotFound, "mail")
	if got, err := q.Slot(t.Context(), d.Name, "web"); err != nil || got.Condition != due.Unreachable ||
		got.ReadAt != nil {
		t.Errorf("not read yet, and it is %s of %v, %v", got.Condition, got.ReadAt, err)
	}
}

const inventory = `name,address,owner,tags,slot,port
gate-1.tidewrack.example,192.0.2.1,harbour office,quay west,web,443
gate-1.tidewrack.example,192.0.2.1,harbour office,quay west,admin,8443
gate-2.tidewrack.example,192.0.2.2,,,web,443
`

// An import is all of the file or nothing; a second time it changes nothing; what is exported is imported as the same.
func TestAnInventoryComesAndGoes(t *testing.T) {
	q := newQuay(t)
	wrong := strings.Replace(inventory, "192.0.2.2,,,web,443", "192.0.2.2,,,web,99999", 1)
	out, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: wrong})
	if err != nil || out.Done || out.Wrong != 1 || out.Lines[2].What != "error" || out.Lines[2].Why == "" {
		t.Fatalf("%+v, %v", out, err)
	}
	if n, _ := q.Lists.CountDevices(t.Context(), DeviceFilter{}); n != 0 {
		t.Errorf("%d devices of a wrong file are there", n)
	}
	out, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: wrong, Partial: true})
	if err != nil || !out.Done || out.Added != 1 {
		t.Errorf("partial: %+v, %v", out, err)
	}
	if out, err = q.Inventory.ImportDevices(t.Context(),
		contract.ImportTerms{CSV: inventory, DryRun: true}); err != nil ||
		out.Done || out.Added != 1 {
		t.Errorf("dry: %+v, %v", out, err)
	}
	if out, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: inventory}); err != nil ||
		out.Added != 1 {
		t.Errorf("%+v, %v", out, err)
	}
	for _, as := range []string{"csv", "xlsx"} {
		file, err := q.Inventory.ExportDevices(t.Context(), as)
		if err != nil {
			t.Fatal(err)
		}
		terms := contract.ImportTerms{CSV: string(file.Content)}
		if as == "xlsx" {
			terms = contract.ImportTerms{XLSX: file.Content}
		}
		again, err := q.Inventory.ImportDevices(t.Context(), terms)
		if err != nil || again.Added+again.Changed+again.Wrong > 0 || len(again.Lines) != 3 {
			t.Errorf("%s: %+v, %v", as, again, err)
		}
	}
	moved := strings.Replace(inventory, "harbour office", "port captain", 2)
	if out, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: moved}); err != nil ||
		out.Changed != 1 ||
		out.Added != 0 || out.Lines[0].Changes[0].To != "port captain" {
		t.Errorf("%+v, %v", out, err)
	}
}

// A line that says what is there changes nothing, even of a device that is being worked on: a list of the fleet may be
// imported at any time. What would change that device is refused.
func TestAnImportOfTheSameDisturbsNoReplacement(t *testing.T) {
	q := newQuay(t)
	if _, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: inventory}); err != nil {
		t.Fatal(err)
	}
	slot, err := q.db.Slots.Get(t.Context(), "gate-1.tidewrack.example", "web")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := q.db.Replacements.Add(t.Context(), store.Replacement{DeviceID: slot.DeviceID,
		SlotID: slot.ID}, []int64{slot.ID}, replacement.Progress{Stage: replacement.Sign, State: replacement.Waiting},
		"procedure: x", nil); err != nil {
		t.Fatal(err)
	}
	one, _, _ := strings.Cut(inventory, "gate-2") // a small part of the fleet is read in another way
	for n := range smallPart {
		if _, err := q.AddDevice(t.Context(), contract.NewDevice{Name: fmt.Sprintf("pier-%d", n),
			Address: "192.0.2.9", Slots: []contract.DeviceSlot{{Name: "web"}}}); err != nil {
			t.Fatal(err)
		}
		if n > 0 && n < smallPart-1 {
			continue
		}
		for _, file := range []string{inventory, one} {
			out, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: file})
			if err != nil || !out.Done || out.Added+out.Changed+out.Wrong > 0 {
				t.Errorf("%+v, %v", out, err)
			}
			moved := strings.Replace(file, "west,web,443", "west,web,9443", 1)
			out, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: moved})
			if err != nil || out.Done || out.Wrong != 2 || !strings.Contains(out.Lines[0].Why, "in progress") {
				t.Errorf("a slot that is worked on was moved: %+v, %v", out, err)
			}
		}
	}
}

// Files that are no inventory are refused with the line and what to write.
func TestFilesThatAreNoInventory(t *testing.T) {
	q := newQuay(t)
	for says, terms := range map[string]contract.ImportTerms{
		"":        {},
		"column":  {CSV: "name,colour\ngate-1,red\n"},
		"twice":   {CSV: "name,name,address\n"},
		"header":  {CSV: "\n\n"},
		"XLSX":    {XLSX: []byte("not a workbook")},
		"missing": {CSV: "address\n192.0.2.1\n"},
		"names":   {CSV: "box,address,slot\ngate-1,192.0.2.1,web\n", Columns: map[string]string{"name": "device"}},
	} {
		if out, err := q.Inventory.ImportDevices(t.Context(), terms); err == nil && out.Wrong == 0 {
			t.Errorf("%q was taken: %+v", says, out)
		}
	}
	out, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{
		CSV:     "box,address,slot,port\ngate-1.tidewrack.example,192.0.2.1,web,443\n",
		Columns: map[string]string{"name": "box"}})
	if err != nil || out.Added != 1 {
		t.Errorf("with a column of another name: %+v, %v", out, err)
	}
	differ := "name,address,owner,slot,port\ngate-3,192.0.2.3,a,web,443\ngate-3,192.0.2.3,b,admin,8443\n"
	if out, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: differ}); err != nil ||
		out.Wrong == 0 {
		t.Errorf("lines of one device that differ: %+v, %v", out, err)
	}
}

func TestManyAreChangedAndFound(t *testing.T) {
	q := newQuay(t)
	for n := 1; n <= 3; n++ {
		q.put(t, "192.0.2."+strconv.Itoa(n), 443, "gate-"+strconv.Itoa(n)+".tidewrack.example")
		if _, err := q.AddDevice(t.Context(), gate(n, func(d *contract.NewDevice) {
			d.Tags = []string{"quay"}
		})); err != nil {
			t.Fatal(err)
		}
		if _, err := q.ReadSlot(t.Context(), gate(n, nil).Name, "web"); err != nil {
			t.Fatal(err)
		}
	}
	changed, err := q.Inventory.EditDevices(t.Context(),
		contract.Changes{Devices: []string{gate(1, nil).Name, gate(2, nil).Name,
			"gate-9"}, Change: contract.ManyChange{Owner: text("port captain"), AddTags: []string{"east"},
			RemoveTags: []string{"quay"}}})
	if err != nil || changed.Changed != 2 || len(changed.Refused) != 1 || changed.Refused[0].Device != "gate-9" {
		t.Errorf("%+v, %v", changed, err)
	}
	_, err = q.Inventory.EditDevices(t.Context(), contract.Changes{})
	refused(t, err, problem.Invalid, "")
	slots, _, err := q.Lists.Slots(t.Context(), SlotFilter{Owner: "port captain"}, paging.Page{})
	if err != nil || len(slots) != 2 {
		t.Errorf("%d slots of the owner, %v", len(slots), err)
	}
	devices, _, err := q.Lists.Devices(t.Context(), DeviceFilter{Tag: "quay"}, paging.Page{})
	if err != nil || len(devices) != 1 || devices[0].Name != gate(3, nil).Name {
		t.Errorf("%d devices with the tag, %v", len(devices), err)
	}
	if n, err := q.Lists.CountSlots(t.Context(), SlotFilter{}); err != nil || n != 3 {
		t.Errorf("%d slots, %v", n, err)
	}
	found, err := q.Lists.Search(t.Context(), "gate-2")
	if err != nil || found.Slots != 1 || len(found.Hits) == 0 {
		t.Errorf("%+v, %v", found, err)
	}
	if f := q.Lists.Facets(); len(f.Owners) != 1 || f.Owners[0].Count != 2 || len(f.Tags) != 2 {
		t.Errorf("%+v", f)
	}
	var sheet strings.Builder
	if err := q.Lists.SlotSheet(t.Context(), &sheet, SlotFilter{}, paging.Page{}); err != nil ||
		strings.Count(sheet.String(), "\n") != 4 {
		t.Errorf("%q, %v", sheet.String(), err)
	}
	expiring, err := q.Lists.Due(t.Context(), 3650, "", 10)
	if err != nil || expiring.Total != 3 {
		t.Errorf("%+v, %v", expiring, err)
	}
	if calendar, err := q.Lists.Calendar(t.Context(), ""); err != nil || strings.Count(calendar, "BEGIN:VEVENT") < 3 {
		t.Errorf("%q, %v", calendar, err)
	}
	refused(t, q.Lists.KnowsSite(t.Context(), "atlantis"), problem.NotFound, "atlantis")
}

// A discovery looks at what it was told and nothing else, proposes devices and adopts them; a second time nothing is
// new.
func TestADiscovery(t *testing.T) {
	q := newQuay(t)
	q.put(t, "192.0.2.20", 443, "pump.tidewrack.example")
	q.put(t, "192.0.2.21", 443, "crane.tidewrack.example")
	for says, asked := range map[string]contract.AskedDiscovery{
		"":        {},
		"rate":    {Ranges: []string{"192.0.2.0/28"}, Rate: 100000},
		"port":    {Ranges: []string{"192.0.2.0/28"}, Ports: []string{"http"}},
		"atl":     {Ranges: []string{"192.0.2.0/28"}, Site: "atlantis"},
		"address": {Ranges: []string{"10.0.0.0/2"}},
	} {
		if _, err := q.Discoveries.StartDiscovery(t.Context(), "gull", asked); err == nil {
			t.Errorf("%q: %+v was begun", says, asked)
		}
	}
	d, err := q.Discoveries.StartDiscovery(t.Context(), "gull",
		contract.AskedDiscovery{Ranges: []string{"192.0.2.16/28"},
			Except: []string{"192.0.2.21"}, Ports: []string{"443"}, Rate: 500})
	if err != nil {
		t.Fatal(err)
	}
	var r contract.DiscoveryResult
	for until := time.Now().Add(20 * time.Second); r.EndedAt == nil &&
		time.Now().Before(until); time.Sleep(5 * time.Millisecond) {
		if r, err = q.Discoveries.Discovery(t.Context(), d.ID); err != nil {
			t.Fatal(err)
		}
	}
	if r.EndedAt == nil || r.Found != 1 || len(r.Proposals) != 1 || r.Proposals[0].Address != "192.0.2.20" {
		t.Fatalf("%+v", r)
	}
	_, err = q.Discoveries.Adopt(t.Context(), d.ID, contract.Adoption{})
	refused(t, err, problem.Invalid, "")
	if dry, err := q.Discoveries.Adopt(t.Context(), d.ID, contract.Adoption{All: true, DryRun: true}); err != nil ||
		len(dry.Added) != 1 {
		t.Errorf("%+v, %v", dry, err)
	}
	taken, err := q.Discoveries.Adopt(t.Context(), d.ID, contract.Adoption{All: true, Owner: "port captain"})
	if err != nil || len(taken.Added) != 1 {
		t.Fatalf("%+v, %v", taken, err)
	}
	if again, err := q.Discoveries.Adopt(t.Context(), d.ID, contract.Adoption{All: true}); err == nil &&
		len(again.Added) != 0 {
		t.Errorf("adopted twice: %+v", again)
	}
	if got, err := q.Device(t.Context(), taken.Added[0]); err != nil || got.Address != "192.0.2.20" ||
		got.Owner != "port captain" {
		t.Errorf("%+v, %v", got, err)
	}
	_, err = q.Discoveries.StopDiscovery(t.Context(), "gull", d.ID)
	refused(t, err, problem.Conflict, "")
	if all, err := q.Discoveries.Discoveries(t.Context()); err != nil || len(all) != 1 {
		t.Errorf("%d, %v", len(all), err)
	}
	if err := q.Discoveries.RemoveDiscovery(t.Context(), d.ID); err != nil {
		t.Error(err)
	}
	_, err = q.Discoveries.Discovery(t.Context(), d.ID)
	refused(t, err, problem.NotFound, "")
}

// A family that is written into the folder counts at once; a faulty one takes only itself out of use, and says why.
func TestFamiliesOfTheFolder(t *testing.T) {
	q := newQuay(t)
	const good = "procedure: quay-gate\ntitle: Gate\nlinks: [ssh]\ntraits: {key_types: [ecdsa-p256], key_made_by: " +
		"service}\n" +
		"steps:\n  activate:\n    - {step: go, run: gatectl use, undo: nothing}\n"
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(q.folder, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, err := q.Family("quay-gate")
	refused(t, err, problem.NotFound, "")
	write("quay-gate.procedure.yaml", good)
	if f, err := q.Family("quay-gate"); err != nil || f.Title != "Gate" {
		t.Errorf("%q, %v", f.Title, err)
	}
	write("quay-pump.procedure.yaml", strings.Replace(good, "run:", "walk:", 1))
	if _, err := q.Family("quay-pump"); err == nil || !strings.Contains(err.Error()+whyOf(err), "walk") {
		t.Errorf("a faulty family: %v", err)
	}
	if _, err := q.Family("quay-gate"); err != nil {
		t.Errorf("the other one: %v", err)
	}
	if all := q.Procedures(); !slices.ContainsFunc(all, func(p library.Source) bool {
		return p.Name == "quay-gate"
	}) {
		t.Error("it is not listed")
	}
}

func whyOf(err error) string {
	var p *problem.Error
	errors.As(err, &p)
	if p == nil {
		return ""
	}
	return p.Why
}

// The service lists itself, and cannot be changed or removed like a device of somebody.
func TestTheServiceListsItself(t *testing.T) {
	q := newQuay(t)
	for range 2 {
		if err := q.ListItself(t.Context(), "seal.tidewrack.example",
			&net.TCPAddr{IP: net.IPv4(192, 0, 2, 50), Port: 8443}); err != nil {
			t.Fatal(err)
		}
	}
	d, err := q.Device(t.Context(), "seal.tidewrack.example")
	if err != nil || d.Family != OwnFamily || len(d.Slots) != 1 {
		t.Errorf("%+v, %v", d, err)
	}
	_, err = q.EditDevice(t.Context(), d.Name, contract.DeviceChange{Family: text("network-gear")}, store.Any)
	if err == nil {
		t.Error("its family was changed")
	}
}

const gateFamily = "procedure: quay-gate\ntitle: Gate\nlinks: [ssh]\nsettings:\n  folder: {kind: path, about: " +
	"its folder, " +
	"default: /etc/gate}\n  word: {kind: secret, about: its word}\ntraits: {key_types: [ecdsa-p256], key_made_by: " +
	"service}\n" +
	"steps:\n  activate:\n    - {step: go, run: gatectl use, undo: nothing}\n"

// Settings of a family are checked, secrets among them sealed and never shown; access is needed over its links.
func TestADeviceOfAFamily(t *testing.T) {
	q := newQuay(t)
	if err := os.WriteFile(filepath.Join(q.folder, "quay-gate.procedure.yaml"), []byte(gateFamily), 0o600); err != nil {
		t.Fatal(err)
	}
	family := func(change func(*contract.NewDevice)) contract.NewDevice {
		return gate(7, func(d *contract.NewDevice) {
			d.Family, d.Settings = "quay-gate", map[string]string{"word": "open-sesame"}
			d.Access = []contract.AccessChange{{User: text("keeper"),
				Secrets: contract.Secrets{Password: "correct horse"},
				Pin:     text("ssh-ed25519 SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA")}}
			change(d)
		})
	}
	for says, change := range map[string]func(*contract.NewDevice){
		"folder":  func(d *contract.NewDevice) { d.Settings["folder"] = "not a path" },
		"colour":  func(d *contract.NewDevice) { d.Settings["colour"] = "red" },
		"nothing": func(d *contract.NewDevice) { d.Access = nil },
	} {
		if _, err := q.AddDevice(t.Context(), family(change)); err == nil {
			t.Errorf("%s: it was added", says)
		}
	}
	d, err := q.AddDevice(t.Context(), family(func(*contract.NewDevice) {}))
	if err != nil || strings.Contains(d.Settings["word"], "sesame") || len(d.Access) != 1 {
		t.Fatalf("%+v, %v", d, err)
	}
	row, err := q.db.Devices.Get(t.Context(), d.Name)
	if err != nil {
		t.Fatal(err)
	}
	if open, err := q.OpenSettings(t.Context(), row); err != nil || open["word"] != "open-sesame" {
		t.Errorf("%v, %v", open, err)
	}
	d, err = q.EditDevice(t.Context(), d.Name, contract.DeviceChange{Settings: map[string]string{"folder": "/srv/gate",
		"word": "other-word"}}, store.Any)
	if err != nil || d.Settings["folder"] != "/srv/gate" {
		t.Fatalf("%+v, %v", d.Settings, err)
	}
	if row, err = q.db.Devices.Get(t.Context(), d.Name); err != nil {
		t.Fatal(err)
	}
	if open, err := q.OpenSettings(t.Context(), row); err != nil || open["word"] != "other-word" ||
		open["folder"] != "/srv/gate" {
		t.Errorf("%v, %v", open, err)
	}
	file, err := q.Inventory.ExportDevices(t.Context(), "csv")
	if err != nil || strings.Contains(string(file.Content), "other-word") ||
		strings.Contains(string(file.Content), "correct horse") {
		t.Errorf("the export tells a secret, %v:\n%s", err, file.Content)
	}
	again, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{CSV: string(file.Content)})
	if err != nil || again.Changed+again.Added+again.Wrong > 0 {
		t.Errorf("%+v, %v", again, err)
	}
	// what is not exported can be cleared all the same; dots leave it as it is
	for cell, changes := range map[string]int{sealedSetting: 0, "-": 1} {
		if again, err = q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{DryRun: true,
			CSV: "name,setting:word\n" + d.Name + "," + cell + "\n"}); err != nil || again.Changed != changes {
			t.Errorf("%q: %+v, %v", cell, again, err)
		}
	}
	tried, err := q.TryDevice(t.Context(), d.Name)
	if err != nil || len(tried.Looks) == 0 || tried.OK {
		t.Errorf("nobody answers there: %+v, %v", tried, err)
	}
}

// A discovery that was under way when the service stopped goes on with the next start, and can be stopped.
func TestADiscoveryGoesOn(t *testing.T) {
	q := newQuay(t)
	d, err := q.Discoveries.StartDiscovery(t.Context(), "gull",
		contract.AskedDiscovery{Ranges: []string{"192.0.2.0/24"},
			Ports: []string{"443"}, Rate: 20})
	if err != nil {
		t.Fatal(err)
	}
	_, err = q.Discoveries.StartDiscovery(t.Context(), "gull",
		contract.AskedDiscovery{Ranges: []string{"192.0.2.0/24"}})
	refused(t, err, problem.Conflict, "")
	refused(t, q.Discoveries.RemoveDiscovery(t.Context(), d.ID), problem.Conflict, "")
	stopped, err := q.Discoveries.StopDiscovery(t.Context(), "gull", d.ID)
	if err != nil || !strings.Contains(stopped.Why, "gull") {
		t.Errorf("%+v, %v", stopped, err)
	}
	if err := q.Start(t.Context()); err != nil {
		t.Fatal(err)
	}
	if r, err := q.Discoveries.Discovery(t.Context(), d.ID); err != nil || r.Done >= r.Total {
		t.Errorf("what was stopped goes on: %d of %d, %v", r.Done, r.Total, err)
	}
}

// A workbook of some kilobytes that would unpack to gigabytes is refused before it is parsed.
func TestAWorkbookThatGrows(t *testing.T) {
	q := newQuay(t)
	var usual bytes.Buffer
	f := excelize.NewFile()
	for i, cell := range []string{"name", "address", "slot", "port"} {
		f.SetCellStr("Sheet1", fmt.Sprintf("%c1", 'A'+i), cell)
		f.SetCellStr("Sheet1", fmt.Sprintf("%c2", 'A'+i), []string{"gate-1.tidewrack.example", "192.0.2.1", "web",
			"443"}[i])
	}
	if err := f.Write(&usual); err != nil {
		t.Fatal(err)
	}
	with := func(name string, content func(w io.Writer)) []byte {
		t.Helper()
		from, err := zip.NewReader(bytes.NewReader(usual.Bytes()), int64(usual.Len()))
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		to := zip.NewWriter(&out)
		for _, part := range from.File {
			if part.Name != name {
				if err := to.Copy(part); err != nil {
					t.Fatal(err)
				}
			}
		}
		w, err := to.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		content(w)
		if err := to.Close(); err != nil {
			t.Fatal(err)
		}
		return out.Bytes()
	}
	const sheet = `<?xml version="1.0"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`
	for says, content := range map[string][]byte{
		"more than 500 columns": with("xl/worksheets/sheet1.xml", func(w io.Writer) {
			io.WriteString(w, sheet)
			for i := range 60_000 {
				fmt.Fprintf(w, `<row r="%d"><c r="XFD%d"><v>1</v></c></row>`, i+1, i+1)
			}
			io.WriteString(w, "</sheetData></worksheet>")
		}),
		"more than 1500000 elements": with("xl/sharedStrings.xml", func(w io.Writer) {
			io.WriteString(w, `<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">`)
			for range 300 {
				io.WriteString(w, strings.Repeat("<si/>", 10_000))
			}
			io.WriteString(w, "</sst>")
		}),
		"xl/styles.xml: it has more than": with("xl/styles.xml", func(w io.Writer) {
			io.WriteString(w, "<styleSheet>"+strings.Repeat("<xf/>", 300_000)+"</styleSheet>")
		}),
		"larger than 32 MB": with("xl/sharedStrings.xml", func(w io.Writer) {
			for range 33 {
				w.Write(bytes.Repeat([]byte(" "), 1<<20))
			}
		}),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{XLSX: content})
		runtime.ReadMemStats(&after)
		if err == nil || !strings.Contains(fmt.Sprintf("%+v", err), says) && !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
		if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 120 {
			t.Errorf("%s: a file of %d kB took %d MB", says, len(content)>>10, used)
		}
	}
	if out, err := q.Inventory.ImportDevices(t.Context(), contract.ImportTerms{XLSX: usual.Bytes()}); err != nil ||
		out.Added != 1 {
		t.Errorf("a usual one: %+v, %v", out, err)
	}
}
