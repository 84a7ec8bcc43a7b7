package signing

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/pki/pile"
	"freshseal/core/pki/request"
	"freshseal/core/testkit"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/store"
)

// drawer is where parcels lie.
type drawer struct {
	rows   map[int64]store.Parcel
	packed map[int64][]store.Replacement
	none   bool
}

func (d *drawer) Add(_ context.Context, signer, by string, at store.Moment,
	only []int64) (int64, []store.Replacement, error) {
	if d.none {
		return 0, nil, store.ErrNotFound
	}
	if slices.Contains(only, 99) {
		return 0, nil, store.ErrTaken
	}
	id := int64(len(d.rows) + 1)
	d.rows[id] = store.Parcel{ID: id, Signer: signer, PackedBy: by, PackedAt: at, Requests: 3, Open: 3}
	return id, nil, nil
}

func (d *drawer) Get(_ context.Context, id int64) (store.Parcel, []store.Replacement, error) {
	p, has := d.rows[id]
	if !has {
		return p, nil, store.ErrNotFound
	}
	return p, d.packed[id], nil
}

func (d *drawer) HandOver(_ context.Context, p store.Parcel) error {
	d.rows[p.ID] = p
	return nil
}

func (d *drawer) Open(context.Context) (out []store.Parcel, err error) {
	for _, p := range d.rows {
		out = append(out, p)
	}
	return out, nil
}

func (d *drawer) Page(ctx context.Context, _ store.Page) ([]store.Parcel, string, error) {
	all, err := d.Open(ctx)
	return all, "", err
}

func (d *drawer) Count(context.Context) (int, error) { return len(d.rows), nil }

// boxes are devices with their notes.
type boxes struct{}

func (boxes) Get(_ context.Context, name string) (store.Device, error) {
	return store.Device{Name: name, Notes: "behind the pump"}, nil
}

func withDrawer(t *testing.T) (*counter, *drawer) {
	t.Helper()
	c := newCounter(t)
	d := &drawer{rows: map[int64]store.Parcel{}, packed: map[int64][]store.Replacement{}}
	c.room.store.Parcels, c.room.store.Devices = d, boxes{}
	return c, d
}

func kindOf(err error) problem.Kind {
	var p *problem.Error
	errors.As(err, &p)
	if p == nil {
		return ""
	}
	return p.Kind
}

// A parcel is packed, handed over, late, partly back and complete; who is asked for it is said.
func TestAParcelGoesOutAndComesBack(t *testing.T) {
	c, d := withDrawer(t)
	now := testkit.Now
	c.room.clock = func() time.Time { return now }
	c.terms.TurnaroundDays, c.terms.Contact = 5, "harbour office"
	if _, err := c.room.PackParcel(t.Context(), "bench", nil, "gull"); kindOf(err) != problem.Invalid {
		t.Errorf("for one that signs at once: %v", err)
	}
	if _, err := c.room.PackParcel(t.Context(), "nobody", nil, "gull"); kindOf(err) != problem.NotFound {
		t.Errorf("for nobody: %v", err)
	}
	d.none = true
	if _, err := c.room.PackParcel(t.Context(), "harbour", nil, "gull"); kindOf(err) != problem.Conflict {
		t.Errorf("of nothing: %v", err)
	}
	d.none = false
	for _, bad := range []string{"r99", "p1", "1"} {
		if _, err := c.room.PackParcel(t.Context(), "harbour", []string{"r7", bad},
			"gull"); kindOf(err) != problem.Conflict &&
			kindOf(err) != problem.Invalid || len(d.rows) > 0 {
			t.Errorf("with %s: %v", bad, err)
		}
	}
	p, err := c.room.PackParcel(t.Context(), "harbour", []string{"r7"}, "gull")
	if err != nil || p.ID != "p1" || p.State != "packed" || p.PackedBy != "gull" || p.HandedAt != nil {
		t.Fatalf("%+v, %v", p, err)
	}
	for _, bad := range []contract.Handover{{To: "  "}, {To: strings.Repeat("x", 401)},
		{To: "x", Reference: strings.Repeat("x", 400)}} {
		if _, err := c.room.HandOver(t.Context(), "p1", bad, "gull"); kindOf(err) != problem.Invalid {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if p, err = c.room.HandOver(t.Context(), "p1", contract.Handover{To: " pier ", Reference: "HA-7"},
		"gull"); err != nil || p.State != "handed-over" || p.HandedTo != "pier" || p.Late || c.sought != 1 {
		t.Fatalf("%+v, %v", p, err)
	}
	if !p.BackBy.Equal(now.AddDate(0, 0, 7)) { // five working days from a Monday
		t.Errorf("it is due back on %s", p.BackBy)
	}
	late := func() bool {
		t.Helper()
		all, err := c.room.LateParcels(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		return len(all) == 1
	}
	if late() {
		t.Error("it is late at once")
	}
	if now = now.AddDate(0, 0, 7).Add(time.Second); !late() {
		t.Error("it is not late after its time")
	}
	p, err = c.room.Parcel(t.Context(), "p1")
	if want := "it was due back on " + p.BackBy.Format(time.DateOnly) +
		": ask pier (harbour office), reference HA-7"; err != nil || p.Reminder != want {
		t.Errorf("%q, %v", p.Reminder, err)
	}
	for open, state := range map[int]string{3: "handed-over", 2: "partly-back", 0: "complete"} {
		row := d.rows[1]
		row.Open = open
		d.rows[1] = row
		if p, _ := c.room.Parcel(t.Context(), "p1"); p.State != state || p.Late != (open > 0) {
			t.Errorf("with %d open: %+v", open, p)
		}
	}
	c.terms.TurnaroundDays = 0
	if p, _ := c.room.Parcel(t.Context(), "p1"); p.BackBy != nil || p.Late {
		t.Errorf("nobody knows how long it takes: %+v", p)
	}
	for _, id := range []string{"p2", "1", "p", "r1", "px"} {
		if _, err := c.room.Parcel(t.Context(), id); kindOf(err) != problem.NotFound {
			t.Errorf("%s: %v", id, err)
		}
	}
	all, _, err := c.room.Parcels(t.Context(), paging.Page{Limit: 50})
	if n, err2 := c.room.CountParcels(t.Context()); err != nil || err2 != nil || len(all) != 1 || n != 1 {
		t.Errorf("%v %d %v %v", all, n, err, err2)
	}
}

func TestAParcelOfAFilter(t *testing.T) {
	for name, want := range map[string]int64{"": 0, "-": store.NoParcel, "p3": 3} {
		if n, err := ParcelFilter(name); n != want || err != nil {
			t.Errorf("%q: %d, %v", name, n, err)
		}
	}
	for _, name := range []string{"3", "p", "p0", "p-3", "r3"} {
		if _, err := ParcelFilter(name); kindOf(err) != problem.Invalid {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// The archive holds each request, what the signer is asked for, and that the root is needed.
func TestAnArchiveSaysWhatIsAskedFor(t *testing.T) {
	c, d := withDrawer(t)
	c.terms.MaxDays, c.terms.Notes = 90, "by the portal"
	c.terms.Terms.V.Profile, c.terms.Purchase.V = "server", request.Order{Number: "PO-9", ApprovedBy: "tern"}
	leaf := c.issuing.Leaf(t, "gate.example")
	r := c.asks(t, 7, leaf, "gate.example")
	d.rows[1] = store.Parcel{ID: 1, Signer: "harbour", PackedAt: store.At(testkit.Now), Requests: 1, Open: 1}
	d.packed[1] = []store.Replacement{*r}
	content, err := c.room.ParcelArchive(t.Context(), "p1")
	if err != nil {
		t.Fatal(err)
	}
	archive, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	var text bytes.Buffer
	for _, f := range archive.File {
		names = append(names, f.Name)
		file, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text.ReadFrom(file)
		file.Close()
	}
	for _, want := range []string{"r7", "90", "by the portal", "server", "PO-9, approved by tern", "behind the pump",
		"BEGIN CERTIFICATE REQUEST"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("%q is not in %v", want, names)
		}
	}
	if _, err := c.room.ParcelArchive(t.Context(), "p9"); kindOf(err) != problem.NotFound {
		t.Errorf("%v", err)
	}
}

// What a signer is said to be is checked, and the reserved names stay reserved.
func TestASignersTermsAreChecked(t *testing.T) {
	c := newCounter(t)
	good := contract.SignerTerms{TurnaroundDays: 365, MaxDays: 397, MinDays: 397,
		Proof: request.Proof{How: "dns", Days: 825},
		Terms: request.Terms{Domains: []string{"Tidewrack.Example."}, Fields: []string{"organization", "email"}}}
	for name, change := range map[string]func(*contract.SignerTerms){
		"a turnaround of more than a year":     func(t *contract.SignerTerms) { t.TurnaroundDays = 366 },
		"a turnaround of less than none":       func(t *contract.SignerTerms) { t.TurnaroundDays = -1 },
		"a lifetime of more than a century":    func(t *contract.SignerTerms) { t.MaxDays = 36501 },
		"the shortest longer than the longest": func(t *contract.SignerTerms) { t.MinDays = 398 },
		"the shortest of a century":            func(t *contract.SignerTerms) { t.MaxDays, t.MinDays = 0, 36501 },
		"a validation by pigeon":               func(t *contract.SignerTerms) { t.Proof.How = "pigeon" },
		"a validation for ever":                func(t *contract.SignerTerms) { t.Proof.Days = 826 },
		"an address as a domain": func(t *contract.SignerTerms) {
			t.Terms.Domains = []string{"192.0.2.1"}
		},
		"a wildcard as a domain": func(t *contract.SignerTerms) {
			t.Terms.Domains = []string{"*.tidewrack.example"}
		},
		"too many domains": func(t *contract.SignerTerms) {
			t.Terms.Domains = slices.Repeat([]string{"a.example"}, maxDomains+1)
		},
		"the common name as a field": func(t *contract.SignerTerms) {
			t.Terms.Fields = []string{"common_name"}
		},
	} {
		bad := good
		bad.Terms.Domains = slices.Clone(good.Terms.Domains)
		change(&bad)
		if _, err := c.room.PutSigner(t.Context(), "pier", bad, problem.Any); kindOf(err) != problem.Invalid {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, name := range []string{"bench", "desk", "device", "own-key", "two words", ""} {
		if _, err := c.room.PutSigner(t.Context(), name, good, problem.Any); kindOf(err) != problem.Invalid {
			t.Errorf("%q: %v", name, err)
		}
	}
	open := good
	open.MaxDays, open.MinDays, open.TurnaroundDays, open.Proof = 0, 0, 0, request.Proof{}
	if _, err := c.room.PutSigner(t.Context(), "pier", open, problem.Any); err != nil {
		t.Errorf("nothing is said of its lifetimes and proofs: %v", err)
	}
	kept, err := c.room.PutSigner(t.Context(), "pier", good, problem.Any)
	if err != nil || kept.Name != "pier" || kept.Kind != contract.DeskSigner ||
		kept.Terms.Domains[0] != "tidewrack.example" || kept.Proof.Days != 825 {
		t.Errorf("%+v, %v", kept, err)
	}
	if by, err := c.room.Named(t.Context(), "pier"); err != nil || by.Terms().MaxDays != 397 {
		t.Errorf("%v", err)
	}
	if by, err := c.room.Named(t.Context(), "bench"); err != nil || by.Terms().MaxDays == 397 {
		t.Errorf("%v", err)
	}
	if _, err := c.room.Named(t.Context(), "nobody"); kindOf(err) != problem.NotFound {
		t.Errorf("%v", err)
	}
	if err := c.room.RemoveSigner(t.Context(), "busy"); kindOf(err) != problem.Conflict {
		t.Errorf("one with a request: %v", err)
	}
	if err := c.room.RemoveSigner(t.Context(), "nobody"); kindOf(err) != problem.NotFound {
		t.Errorf("%v", err)
	}
	if err := c.room.RemoveSigner(t.Context(), "pier"); err != nil {
		t.Error(err)
	}
}

// A key that comes with a certificate is taken only on request, and only where it is clear for whom.
func TestAKeyIsTakenWhereItIsClearForWhom(t *testing.T) {
	for name, c := range map[string]struct {
		waiting []string // the name that each replacement asks for
		keys    bool
		why     string // why the key could not be taken
		want    string
		taken   int64
	}{
		"not asked to": {[]string{"gate.example"}, false, "", "no request here has this leaf's key", 0},
		"one waits":    {[]string{"gate.example"}, true, "", "", 1},
		"nobody waits": {nil, true, "", "no request here has this leaf's key", 0},
		"another name": {[]string{"lamp.example"}, true, "", "no request here has this leaf's key", 0},
		"two wait": {[]string{"gate.example", "gate.example"}, true, "", "its key and its names fit " +
			"several replacements: r1, r2", 0},
		"the family cannot": {[]string{"gate.example"}, true, "its family makes its key itself",
			"its family makes its key itself", 1},
	} {
		t.Run(name, func(t *testing.T) {
			k := newCounter(t)
			for i, asked := range c.waiting {
				k.asks(t, int64(i+1), k.issuing.Leaf(t, asked), asked)
			}
			leaf := k.issuing.Leaf(t, "gate.example")
			k.refuses = c.why
			der, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
			if err != nil {
				t.Fatal(err)
			}
			text := append(leaf.PEM(), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})...)
			in, err := k.room.TakeIn(t.Context(),
				[]pile.File{{Name: "gate.pem", Content: append(text, k.issuing.PEM()...)}},
				contract.IntakeTerms{Keys: c.keys}, "gull")
			if err != nil {
				t.Fatal(err)
			}
			if len(in.Answers) != 1 || in.Answers[0].Accepted != (c.want == "") ||
				!strings.HasPrefix(in.Answers[0].Why, c.want) {
				t.Errorf("%+v", in.Answers)
			}
			if len(k.keys) != int(c.taken) {
				t.Errorf("taken for %v", k.keys)
			}
			if strings.Contains(fmt.Sprint(in), "PRIVATE KEY") {
				t.Error("the key is shown")
			}
		})
	}
}
