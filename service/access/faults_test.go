package access_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/testkit"
	"freshseal/service/access"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/faulty"
)

// Whatever the room reads or records, a disk that fails is reported, at every statement.
func TestEveryFaultOfTheDiskIsTold(t *testing.T) {
	q := newQuay(t)
	ctx := t.Context()
	each := func(act func() error) { t.Helper(); faulty.EachTold(t, q.db, q.disk, act) }
	says := func(want string, ask func() (any, error)) { t.Helper(); faulty.Says(t, q.db, q.disk, want, ask) }
	nth := 0
	name := func(what string) string { nth++; return fmt.Sprintf("%s-%d", what, nth) } // what was added stays
	password := "x"
	secrets := contract.CredentialChange{User: "root", Secrets: contract.Secrets{Password: password}}
	says("User:root", func() (any, error) {
		return q.AddCredential(ctx, contract.NewCredential{Name: name("quay"), CredentialChange: secrets})
	})
	last := fmt.Sprintf("quay-%d", nth)
	says(last, func() (any, error) { return q.Credential(ctx, last) })
	says(last, func() (any, error) { return q.Credentials(ctx) })
	secrets.User = "operator"
	says("User:operator", func() (any, error) { return q.ReplaceCredential(ctx, last, secrets, store.Any) })
	each(func() error { // the second time it is gone
		return forgiven(q.RemoveCredential(ctx, last))
	})

	says("Way:direct", func() (any, error) {
		return q.Sites.AddSite(ctx, contract.NewSite{Name: name("Pier"), Way: "direct"})
	})
	pier := fmt.Sprintf("Pier-%d", nth)
	paused := true
	says("Paused:true", func() (any, error) {
		return q.Sites.EditSite(ctx, pier, contract.SiteChange{Paused: &paused}, store.Any)
	})
	says(pier, func() (any, error) { return q.Sites.Site(ctx, pier) })
	says(pier, func() (any, error) { return q.Sites.Sites(ctx) })
	each(func() error { _, err := q.Times(ctx); return err })
	says(pier, func() (any, error) { return q.Resting(ctx, testkit.Now) })
	each(func() error {
		leave, err := q.Enter(ctx, "ssh", pier)
		if err == nil {
			leave()
		}
		return err
	})
	d := store.NewDevice{Device: store.Device{Name: "gate", Address: "192.0.2.1"},
		Access: []store.Access{{Link: "ssh", Port: 22, User: "root", Pin: pin},
			{Link: "https", Port: 443, User: "admin",
				Pin: strings.Repeat("ab", 32)}, {Link: "netconf", Port: 830, User: "conf", Pin: pin}},
		Slots: []store.Slot{{Name: "eap"}}}
	if err := q.db.Devices.Add(ctx, []store.NewDevice{d}); err != nil {
		t.Fatal(err)
	}
	row, err := q.db.Devices.Get(ctx, "gate")
	if err != nil {
		t.Fatal(err)
	}
	was, err := q.db.Devices.Access(ctx, row.ID)
	if err != nil {
		t.Fatal(err)
	}
	user, secret := "second", contract.Secrets{Password: "y"}
	var ways access.Ways
	each(func() error {
		w, err := q.Change(ctx, "x", "gate", was[row.ID],
			[]contract.AccessChange{{Link: "ssh", User: &user, Secrets: secret},
				{Link: "https", Secrets: secret}, {Link: "netconf", Secrets: secret}}, nil, false)
		if err == nil {
			ways = w
		}
		return err
	})
	if err := q.db.Devices.Change(ctx, store.DeviceEdit{Device: row, Access: ways.Access, Secrets: ways.Secrets,
		Known: row.Revision}); err != nil {
		t.Fatal(err)
	}
	says("User:second", func() (any, error) { return q.SSH(ctx, row) })
	says("User:conf", func() (any, error) { return q.Config(ctx, row) })
	says("User:admin", func() (any, error) { return q.Web(ctx, row) })
	each(func() error { _, err := q.SlotSecret(ctx, "gate", "eap"); return err })
	each(func() error { return forgiven(q.Sites.RemoveSite(ctx, pier)) })
	if away := q.Away(ctx, pier, time.Now()); away {
		t.Error("a site that is gone is away")
	}
}

// forgiven is no error where something is gone already.
func forgiven(err error) error {
	if p := (*problem.Error)(nil); errors.As(err, &p) && p.Kind == problem.NotFound {
		return nil
	}
	return err
}
