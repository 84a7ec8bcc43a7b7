package notices

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"freshseal/contract"
	"freshseal/core/judgement/due"
	"freshseal/core/judgement/finding"
	"freshseal/core/judgement/notice"
	"freshseal/notify"
	"freshseal/service/paging"
	"freshseal/service/problem"
	"freshseal/standin/demo"
	"freshseal/store"
	"freshseal/strongbox"
)

// quay is the room with a database and sinks of its own, and a clock that the test moves.
type quay struct {
	*Service
	t     *testing.T
	sinks *demo.Sinks
	lock  sync.Mutex
	at    time.Time
	db    *store.Store
	again func() *Service // another service on the same database
}

func (q *quay) clock() time.Time     { q.lock.Lock(); defer q.lock.Unlock(); return q.at }
func (q *quay) pass(d time.Duration) { q.lock.Lock(); defer q.lock.Unlock(); q.at = q.at.Add(d) }
func (q *quay) must(err error)       { q.t.Helper(); must(q.t, err) }
func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
func place(at string) (string, int) {
	host, port, _ := net.SplitHostPort(at)
	n, _ := strconv.Atoi(port)
	return host, n
}
func (q *quay) got(sink string) []demo.Got { return q.sinks.Got(sink) }

func newQuay(t *testing.T, slots int) *quay {
	t.Helper()
	dir := t.TempDir()
	db, err := store.Open(t.Context(), filepath.Join(dir, "freshseal.db"))
	must(t, err)
	box, err := strongbox.Open(filepath.Join(dir, "strongbox.key"))
	must(t, err)
	sinks, err := demo.StartSinks("127.0.0.1", "", notify.Signature)
	must(t, err)
	q := &quay{t: t, db: db, sinks: sinks, at: time.Now().UTC().Truncate(time.Second)}
	sinks.Now = q.clock
	t.Cleanup(func() { sinks.Close(); db.Close() })
	q.again = func() *Service {
		return New(t.Context(), db, box, (&net.Dialer{}).DialContext, "the quay", slog.New(slog.DiscardHandler),
			q.clock)
	}
	q.Service = q.again()
	var devices []store.NewDevice
	for i := range slots {
		d := store.NewDevice{Device: store.Device{Name: fmt.Sprintf("box-%d", i), Site: "Mainquay",
			Owner: []string{"terminal", "data hall"}[i%2], Address: "192.0.2.1"}}
		d.Settings.V, d.Tags.V = map[string]string{}, []string{}
		d.Slots = []store.Slot{{Name: "web", Address: "192.0.2.1", Port: 443 + i, Protocol: "tls"}}
		devices = append(devices, d)
	}
	q.must(db.Devices.Add(t.Context(), devices))
	mail, hook, log := contract.NewChannel{Secret: sinks.Password}, contract.NewChannel{Secret: sinks.Key},
		contract.NewChannel{}
	mail.Kind, mail.From, mail.To, mail.User, mail.Pin, mail.Owners = notify.Mail, "seal@quay.tidewrack.example",
		[]string{"noc@quay.tidewrack.example"}, sinks.User, sinks.Certificate,
		map[string]string{"terminal": "terminal@quay.tidewrack.example"}
	mail.Address, mail.Port = place(sinks.Mail)
	hook.Kind, hook.URL, hook.Pin = notify.Webhook, "https://"+sinks.Hook+"/", sinks.Certificate
	log.Kind, log.Pin = notify.Syslog, sinks.Certificate
	log.Address, log.Port = place(sinks.Syslog)
	for name, c := range map[string]contract.NewChannel{"mail": mail, "hook": hook, "log": log} {
		_, err := q.SetChannel(t.Context(), name, c, problem.Any)
		q.must(err)
	}
	return q
}

func (q *quay) rule(name string, r notice.Rule) {
	q.t.Helper()
	_, err := q.SetRule(q.t.Context(), name, r, problem.Any)
	q.must(err)
}

// becomes has a slot read as being in a condition, with an end.
func (q *quay) becomes(i int, c due.Condition, ends time.Time) {
	q.t.Helper()
	slot, err := q.db.Slots.Get(q.t.Context(), fmt.Sprintf("box-%d", i), "web")
	q.must(err)
	slot.ReadAt, slot.Base, slot.NotAfter = store.At(q.clock()), c, store.At(ends)
	slot.OverdueFrom, slot.DueFrom = store.At(ends.AddDate(0, 0, -9)), store.At(ends.AddDate(0, 0, -30))
	slot.Chain.V, slot.Above.V, slot.Findings.V, slot.Remarks.V, slot.Others.V = []string{"aa"}, []string{},
		[]finding.Finding{}, []finding.Finding{}, nil
	_, err = q.db.Readings.Add(q.t.Context(), []store.NewReading{{Slot: slot}})
	q.must(err)
	q.pass(time.Second)
}

// round looks at the rules and sends what is due, as the background does.
func (q *quay) round(whole bool) {
	q.t.Helper()
	ctx := q.t.Context()
	q.must(errors.Join(q.evaluate(ctx, whole), q.pack(ctx), q.send(ctx)))
}

// What happens to a slot is told once over every channel, to whom it concerns; it is acknowledged, gets worse, and is
// over.
func TestTheStoryOfASlot(t *testing.T) {
	q := newQuay(t, 2)
	q.rule("bad", notice.Rule{Conditions: []due.Condition{due.Unexpected, due.Unreachable, due.Expired},
		To: []string{"mail", "hook", "log"}, RepeatDays: 3, Recovery: true})
	far := q.clock().AddDate(1, 0, 0)
	q.becomes(0, due.Fresh, far)
	q.becomes(1, due.Fresh, far)
	q.round(true)
	if n := len(q.got("")); n != 0 {
		t.Fatalf("%d messages about nothing", n)
	}
	q.becomes(0, due.Unexpected, far)
	q.becomes(1, due.Unexpected, far)
	q.round(false)
	mails := q.got("mail")
	if len(mails) != 2 || len(q.got("hook")) != 1 || len(q.got("log")) != 0 || len(q.got("syslog")) != 2 {
		t.Fatalf("%d mails, %d calls, %d lines", len(mails), len(q.got("hook")), len(q.got("syslog")))
	}
	for _, m := range mails {
		owner := map[string]string{"terminal@quay.tidewrack.example": "box-0/web",
			"noc@quay.tidewrack.example": "box-1/web"}[m.To]
		if owner == "" || !strings.Contains(m.Readable(), "Subject: "+owner+": unexpected") ||
			strings.Contains(m.Text, q.sinks.Password) {
			t.Errorf("to %s:\n%s", m.To, m.Readable())
		}
	}
	q.round(true)
	q.round(true)
	if n := len(q.got("mail")); n != 2 {
		t.Errorf("it was told %d times", n)
	}
	// Something that was exchanged and put back before anybody looked is told as well.
	q.becomes(0, due.Unreachable, far)
	q.becomes(0, due.Unexpected, far)
	q.round(false)
	if last := q.got("hook"); len(last) != 2 || !strings.Contains(last[1].Text, `"stage":"unreachable"`) {
		t.Errorf("%d calls", len(last))
	}
	// Known: nothing for a while, and then the reminder.
	_, err := q.Acknowledge(t.Context(), "box-1", "web", contract.AskAcknowledge{Reason: "the mast is being rebuilt",
		Until: q.clock().AddDate(0, 0, 10).Format(time.DateOnly)}, "mate")
	q.must(err)
	q.pass(5 * 24 * time.Hour)
	q.round(true)
	if got := q.got("hook"); len(got) != 3 || strings.Contains(got[2].Text, "box-1") ||
		!strings.Contains(got[2].Text, `"kind":"reminder"`) {
		t.Errorf("%d calls: %s", len(got), got[len(got)-1].Text)
	}
	q.becomes(1, due.Unreachable, far) // worse than what is known
	q.round(false)
	if got := q.got("hook"); len(got) != 4 || !strings.Contains(got[3].Text, "box-1") {
		t.Errorf("%d calls", len(got))
	}
	q.becomes(0, due.Fresh, far)
	q.becomes(1, due.Fresh, far)
	q.round(false)
	over := q.got("hook")
	if len(over) != 5 || strings.Count(over[4].Text, `"kind":"recovery"`) != 2 {
		t.Errorf("%d calls: %s", len(over), over[len(over)-1].Text)
	}
	q.becomes(0, due.Unexpected, far)
	q.round(false)
	if len(q.got("hook")) != 6 {
		t.Error("a new matter is not told")
	}
	log, _, err := q.Notices(t.Context(), contract.NoticeFilter{Slot: "box-0/web"}, paging.Page{})
	q.must(err)
	if len(log) != 5 || log[0].State != "sent" || log[0].Over != "hook log mail" {
		t.Errorf("%d in the log: %+v", len(log), log[0])
	}
}

// What comes together is one message, and one that is too long says how many are left out.
func TestAFloodIsOneMessage(t *testing.T) {
	q := newQuay(t, mostItems+50)
	q.rule("expiry", notice.Rule{Days: []int{30, 14}, To: []string{"hook"}, Digest: "07:00"})
	for i := range mostItems + 50 {
		q.becomes(i, due.Fresh, q.clock().AddDate(0, 0, 20))
	}
	q.round(true)
	if len(q.got("")) != 0 {
		t.Fatal("a digest does not wait")
	}
	q.pass(24 * time.Hour)
	q.round(true)
	got := q.got("hook")
	var m notice.Message
	if len(got) != 1 {
		t.Fatalf("%d messages", len(got))
	}
	q.must(json.Unmarshal([]byte(got[0].Text), &m))
	if len(m.Items) != mostItems || m.More != 50 || m.Subject() != "250 certificates need attention at Mainquay" {
		t.Errorf("%d and %d more: %s", len(m.Items), m.More, m.Subject())
	}
	q.pass(8 * 24 * time.Hour)
	q.round(true)
	q.pass(24 * time.Hour)
	q.round(true)
	if len(q.got("hook")) != 2 {
		t.Errorf("the next stage made %d messages", len(q.got("hook"))-1)
	}
}

// A receiver that is away gets the same message later, under the same id; the others wait for nobody.
func TestAMessageIsTriedAgain(t *testing.T) {
	q := newQuay(t, 1)
	q.rule("bad", notice.Rule{Conditions: []due.Condition{due.Unreachable}, To: []string{"mail", "hook", "log"}})
	away := map[string]bool{"mail": true, "hook": true, "syslog": false}
	q.sinks.Refuse = func(sink string) bool { q.lock.Lock(); defer q.lock.Unlock(); return away[sink] }
	q.becomes(0, due.Unreachable, q.clock().AddDate(1, 0, 0))
	q.round(true)
	q.round(true)
	if len(q.got("syslog")) != 1 || len(q.got("mail"))+len(q.got("hook")) != 0 {
		t.Errorf("%v", q.got(""))
	}
	log, _, _ := q.Notices(t.Context(), contract.NoticeFilter{}, paging.Page{})
	if log[0].State != "waiting" || !strings.Contains(log[0].Error, "451") && !strings.Contains(log[0].Error, "503") {
		t.Errorf("%+v", log[0])
	}
	q.pass(30 * time.Second)
	q.round(false)
	q.lock.Lock()
	away["mail"] = false
	q.lock.Unlock()
	q.round(false) // not yet
	if len(q.got("mail")) != 0 {
		t.Error("it was tried again at once")
	}
	q.pass(time.Minute)
	q.round(false)
	if len(q.got("mail")) != 1 {
		t.Error("it was not tried again")
	}
	for range 90 { // three days and more
		q.pass(time.Hour)
		q.round(false)
	}
	if waiting, failed, _ := q.Queue(t.Context()); waiting != 0 || failed != 1 {
		t.Errorf("%d wait, %d failed", waiting, failed)
	}
	log, _, _ = q.Notices(t.Context(), contract.NoticeFilter{}, paging.Page{})
	if log[0].State != "failed" || !strings.Contains(log[0].Error, "503") {
		t.Errorf("%+v", log[0])
	}
}

// The process dies after any of its changes: every notice is told all the same, and none is made twice.
func TestNothingIsLostAndNothingIsMadeTwice(t *testing.T) {
	q := newQuay(t, 12)
	q.rule("bad", notice.Rule{Conditions: []due.Condition{due.Unreachable, due.Unexpected}, To: []string{"hook"},
		Recovery: true})
	far := q.clock().AddDate(1, 0, 0)
	want := map[string]bool{}
	for i := range 12 {
		q.becomes(i, []due.Condition{due.Unreachable, due.Unexpected}[i%2], far)
		want[fmt.Sprintf("box-%d/web %s", i, []due.Condition{due.Unreachable, due.Unexpected}[i%2])] = true
		// One of the steps is done, and then the service is another one. Of what is sent, nobody notes that it was.
		ctx := t.Context()
		switch i % 4 {
		case 0:
			q.must(q.evaluate(ctx, true))
		case 1:
			q.must(errors.Join(q.evaluate(ctx, false), q.pack(ctx)))
		case 2:
			q.must(errors.Join(q.evaluate(ctx, false), q.pack(ctx)))
			messages, err := q.store.Notices.TakeMessages(ctx, q.moment(), store.At(q.now().Add(lease)), atOnce)
			q.must(err)
			for _, m := range messages {
				c, err := q.Channel(ctx, m.Channel)
				q.must(err)
				q.must(q.sender.Send(ctx, notify.Channel(c.ChannelSetup), q.sinks.Key, m.People, m.Body.V))
			}
		case 3:
			gone, cancel := context.WithCancel(ctx)
			cancel()
			q.evaluate(gone, true)
			q.pack(gone)
			q.send(gone)
		}
		q.Service = q.again()
	}
	q.pass(time.Hour)
	q.round(true)
	q.round(true)
	told, ids := map[string][]string{}, map[string]string{}
	for _, g := range q.got("hook") {
		var m notice.Message
		q.must(json.Unmarshal([]byte(g.Text), &m))
		if text, twice := ids[m.ID]; twice && text != g.Text {
			t.Errorf("%s came twice and was not the same", m.ID)
		}
		ids[m.ID] = g.Text
		for _, i := range m.Items {
			key := i.Slot + " " + i.Stage
			if !slices.Contains(told[key], i.ID) {
				told[key] = append(told[key], i.ID)
			}
		}
	}
	for key := range want {
		if len(told[key]) != 1 {
			t.Errorf("%s was told by %d notices", key, len(told[key]))
		}
	}
	if len(ids) == len(q.got("hook")) {
		t.Error("no message came twice: the test does not do what it says")
	}
}

// A channel keeps its secret to itself, and gives it to no other server.
func TestAChannelsSecretGoesNowhereElse(t *testing.T) {
	q := newQuay(t, 1)
	ctx := t.Context()
	c, err := q.Channel(ctx, "mail")
	q.must(err)
	change := func(f func(*contract.ChannelSetup)) error {
		n := contract.NewChannel{ChannelSetup: c.ChannelSetup}
		f(&n.ChannelSetup)
		_, err := q.SetChannel(ctx, "mail", n, problem.Any)
		return err
	}
	for about, f := range map[string]func(*contract.ChannelSetup){
		"another server": func(n *contract.ChannelSetup) { n.Address = "192.0.2.66" },
		"another port":   func(n *contract.ChannelSetup) { n.Port++ },
		"another pin":    func(n *contract.ChannelSetup) { n.Pin = strings.Repeat("a", 64) },
		"no TLS":         func(n *contract.ChannelSetup) { n.Security = notify.Plain },
		"another user":   func(n *contract.ChannelSetup) { n.User = "other" },
	} {
		if err := change(f); err == nil || !strings.Contains(err.Error(), "another server") {
			t.Errorf("%s: %v", about, err)
		}
	}
	if err := change(func(n *contract.ChannelSetup) { n.To = []string{"new@quay.tidewrack.example"} }); err != nil {
		t.Error(err)
	}
	text, err := json.Marshal(c)
	if err != nil || strings.Contains(string(text), q.sinks.Password) {
		t.Errorf("%s %v", text, err)
	}
	q.rule("bad", notice.Rule{Conditions: []due.Condition{due.Unreachable}, To: []string{"mail"}})
	if err := q.RemoveChannel(ctx, "mail"); err == nil || !strings.Contains(err.Error(), "the rule bad sends to it") {
		t.Error(err)
	}
	for about, n := range map[string]contract.NewChannel{
		"a webhook without TLS": {ChannelSetup: contract.ChannelSetup{Kind: notify.Webhook,
			URL: "http://hooks.tidewrack.example/"}, Secret: strings.Repeat("k", 40)},
		"a password in its address": {ChannelSetup: contract.ChannelSetup{Kind: notify.Webhook,
			URL: "https://a:b@hooks.tidewrack.example/"}, Secret: strings.Repeat("k", 40)},
		"a short key": {ChannelSetup: contract.ChannelSetup{Kind: notify.Webhook,
			URL: "https://hooks.tidewrack.example/"}, Secret: "short"},
		"a recipient with a new line": {ChannelSetup: contract.ChannelSetup{Kind: notify.Mail, Address: "192.0.2.1",
			From: "a@b.example", To: []string{"a@b.example\r\nBcc: c@d.example"}}},
		"no recipient": {ChannelSetup: contract.ChannelSetup{Kind: notify.Mail, Address: "192.0.2.1",
			From: "a@b.example"}},
		"syslog with STARTTLS": {ChannelSetup: contract.ChannelSetup{Kind: notify.Syslog, Address: "192.0.2.1",
			Security: notify.StartTLS, Port: 1}},
		"nothing": {},
	} {
		if _, err := q.SetChannel(ctx, "new", n, problem.Any); err == nil {
			t.Errorf("%s is accepted", about)
		}
	}
	// Who is in between is not told.
	q.must(func() error {
		n := contract.NewChannel{ChannelSetup: c.ChannelSetup, Secret: q.sinks.Password}
		n.Pin = strings.Repeat("b", 64)
		_, err := q.SetChannel(ctx, "mail", n, problem.Any)
		return err
	}())
	trial, err := q.TryChannel(ctx, "mail")
	if err != nil || trial.Sent || !strings.Contains(trial.Why, "another certificate than the pinned one") {
		t.Errorf("%+v %v", trial, err)
	}
}

// What expires besides slots is reported by rules of its own: once for each number of days, again as a reminder, and
// when it was renewed, whenever the service ends in between. A rule about slots tells of none of it.
func TestWhatElseExpiresIsTold(t *testing.T) {
	q := newQuay(t, 1)
	q.becomes(0, due.Fresh, q.clock().AddDate(1, 0, 0))
	middle := notice.Thing{Kind: "intermediate", Name: "Quay Middle\r\nX: y", SHA256: strings.Repeat("ab", 32),
		Ends: q.clock().AddDate(0, 0, 59), Slots: 12, Remedy: "ask the signer for its current intermediate"}
	things := []notice.Thing{middle, {Kind: "token", Name: "monitoring", Of: "admin", Ends: q.clock().AddDate(1, 0, 0)}}
	asked := 0
	ask := func(_ context.Context, within int) ([]notice.Thing, error) {
		asked = within
		return things, nil
	}
	q.Service.Ask(ask)
	q.rule("slots", notice.Rule{Days: []int{90}, To: []string{"log"}})
	q.round(true)
	if len(q.got("")) != 0 || asked != 0 {
		t.Fatalf("without a rule about them %d messages were sent, and %d days asked for", len(q.got("")), asked)
	}
	q.rule("chains", notice.Rule{Expiring: true, Days: []int{60, 14}, To: []string{"hook", "mail"}, RepeatDays: 30,
		Recovery: true})
	for range 3 {
		q.round(true)
	}
	if got := q.got("hook"); len(got) != 1 || !strings.Contains(got[0].Text, `"what":"intermediate Quay Middle`) ||
		!strings.Contains(got[0].Text, "12 slots") || asked != 61 {
		t.Fatalf("%d messages, %d days: %v", len(got), asked, got)
	}
	if mail := q.got("mail")[0].Readable(); !strings.Contains(mail, "expires on") ||
		!strings.Contains(mail, "next      ask the signer") || strings.Contains(mail, "\nX: y") {
		t.Errorf("the mail says\n%s", mail)
	}
	again := q.again()
	again.Ask(ask)
	q.Service = again
	q.pass(31 * 24 * time.Hour)
	q.round(true)
	if got := q.got("hook"); len(got) != 2 || !strings.Contains(got[1].Text, `"kind":"reminder"`) {
		t.Fatalf("%d messages after a month, in which the service began anew", len(got))
	}
	// While the rule is paused nothing is told; it goes on with what it knew.
	paused := notice.Rule{Expiring: true, Days: []int{60, 14}, To: []string{"hook"}, RepeatDays: 30, Recovery: true,
		Paused: true}
	q.rule("chains", paused)
	q.round(true)
	paused.Paused = false
	q.rule("chains", paused)
	q.round(true)
	if got := q.got("hook"); len(got) != 2 {
		t.Fatalf("after a pause it was told anew: %s", got[2].Text)
	}
	q.pass(15 * 24 * time.Hour)
	q.round(true)
	things[0].Ends = things[0].Ends.AddDate(5, 0, 0)
	q.round(true)
	got := q.got("hook")
	if len(got) != 4 || !strings.Contains(got[2].Text, `"stage":"14 days"`) ||
		!strings.Contains(got[3].Text, `"kind":"recovery"`) {
		t.Fatalf("%d messages: %s", len(got), got[len(got)-1].Text)
	}
	q.round(true)
	if len(q.got("hook")) != 4 {
		t.Error("it is told of twice that something is over")
	}
	// A token goes when it expires: that is no good news.
	things[1].Ends = q.clock().AddDate(0, 0, 10)
	q.round(true)
	things = things[:1]
	q.pass(11 * 24 * time.Hour)
	for range 2 {
		q.round(true)
	}
	if got := q.got("hook"); len(got) != 6 || !strings.Contains(got[5].Text, `"stage":"expired"`) ||
		strings.Contains(got[5].Text, "recovery") {
		t.Errorf("of a token that expired %d messages were sent: %s", len(got)-4, got[len(got)-1].Text)
	}
	if _, err := q.SetRule(t.Context(), "mixed", notice.Rule{Expiring: true, Days: []int{9}, Site: "Mainquay",
		To: []string{"hook"}}, 0); err == nil {
		t.Error("a rule about what else expires takes a site, which it cannot mean")
	}
}
