package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"freshseal/core/judgement/notice"
	"freshseal/notify"
	"freshseal/standin"
	"freshseal/standin/daemon"
	"freshseal/standin/demo"
)

// People are told by the real program what happens to a slot: once, although it is killed in the middle, with no secret
// anywhere else than where it belongs.
func TestPeopleAreTold(t *testing.T) {
	t.Parallel()
	sinks, err := demo.StartSinks("127.0.0.1", "", notify.Signature)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { sinks.Close() })
	dir, listen := t.TempDir(), "127.0.0.1:"+daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", dir, listen)
	s.login()
	box := simulated(t, standin.Box{})
	s.addSimulated(name, box, "correct horse")
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	key := write(t, filepath.Join(t.TempDir(), "key"), sinks.Key)
	password := write(t, filepath.Join(t.TempDir(), "password"), sinks.Password)
	s.fails(1, "too short", "channel", "set", "hook", "--webhook", "https://"+sinks.Hook+"/")
	s.ok("channel", "set", "hook", "--webhook", "https://"+sinks.Hook+"/", "--pin", sinks.Certificate,
		"--secret-file", key)
	s.ok("channel", "set", "mail", "--mail", sinks.Mail, "--from", "seal@tidewrack.example", "--to",
		"noc@tidewrack.example", "--user", sinks.User, "--pin", sinks.Certificate, "--secret-file", password)
	s.ok("channel", "set", "log", "--syslog", sinks.Syslog, "--pin", sinks.Certificate)
	s.ok("channel", "try", "log")
	s.fails(1, "no channel is called nobody", "notice", "rule", "bad", "--condition", "unexpected", "--to", "nobody")
	s.fails(1, "is not a condition", "notice", "rule", "bad", "--condition", "fresh", "--to", "hook")
	s.ok("notice", "rule", "bad", "--condition", "unexpected", "--to", "hook", "--to", "mail", "--to", "log",
		"--recovery")
	other := t.TempDir()
	must(t, "", "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes",
		"-keyout", filepath.Join(other, "key"), "-out", filepath.Join(other, "pem"), "-days", "100", "-subj",
		"/O=Corvane/CN=service technician")
	if err := box.Meddle([]byte(read(t, filepath.Join(other, "pem"))),
		[]byte(read(t, filepath.Join(other, "key")))); err != nil {
		t.Fatal(err)
	}
	s.ok("sweep")
	s.kill()
	s = startAt(t, "serve", dir, listen)
	s.login()
	told := func(stage string) (ids []string) {
		for _, g := range sinks.Got("hook") {
			var m notice.Message
			if err := json.Unmarshal([]byte(g.Text), &m); err != nil {
				t.Fatal(err)
			}
			for _, i := range m.Items {
				if i.Slot == name+"/web" && (string(i.Kind) == stage || i.Stage == stage) &&
					!slices.Contains(ids, i.ID) {
					ids = append(ids, i.ID)
				}
			}
		}
		return ids
	}
	for begun := time.Now(); len(told("changed after the seal")) == 0 || len(sinks.Got("mail")) == 0 ||
		len(sinks.Got("syslog")) < 2; time.Sleep(100 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatalf("nobody was told: %v\n%s", sinks.Got(""), s.ok("notice", "list"))
		}
	}
	if m := sinks.Got("mail")[0]; !strings.Contains(m.Readable(), "Subject: "+name+"/web: changed after r1 was "+
		"sealed: unexpected") || !strings.Contains(m.Readable(), s.url+"/slots/"+name+"/web") {
		t.Error(m.Readable())
	}
	s.fails(1, "is past", "notice", "acknowledge", name+"/web", "--until", "2020-01-01", "--reason", "x")
	s.ok("notice", "acknowledge", name+"/web", "--until", time.Now().AddDate(0, 0, 20).Format(time.DateOnly),
		"--reason", "the yard is at it")
	if shown := s.ok("notice", "acknowledged"); !strings.Contains(shown, "the yard is at it") {
		t.Error(shown)
	}
	s.ok("replace", name+"/web", "--signer", "bench", "--watch")
	for begun := time.Now(); len(told("recovery")) == 0; time.Sleep(100 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatal("the end was not told")
		}
	}
	if n := len(told("changed after the seal")); n != 1 {
		t.Errorf("it was told by %d notices", n)
	}
	if list := s.ok("notice", "list", "--slot", name+"/web", "--as", "csv"); strings.Count(list, "\n") != 3 {
		t.Error(list)
	}
	s.ok("notice", "withdraw", name+"/web")
	s.as("operator").fails(1, "needs the role admin", "channel", "list")

	// The key and the password are nowhere in clear.
	all := s.ok("channel", "list", "--as", "json") + s.ok("audit", "list", "--as", "json") + s.log.String()
	for _, file := range []string{"freshseal.db", "freshseal.db-wal"} {
		text, _ := os.ReadFile(filepath.Join(dir, file))
		all += string(text)
	}
	for _, secret := range []string{sinks.Key, sinks.Password} {
		if strings.Contains(all, secret) {
			t.Error("a secret is shown or kept in clear")
		}
	}
}
