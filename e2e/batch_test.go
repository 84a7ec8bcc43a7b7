package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"freshseal/standin"
	"freshseal/standin/daemon"
)

type batchAccount struct {
	State  string
	Counts struct{ Slots, Waiting, Refused, Left, Sealed int }
	Items  []struct{ Device, Slot, Outcome, Why, Replacement, State string }
}

// A batch is begun by the service: killed in the middle and started again, it goes
// on, and every slot gets one replacement.
func TestABatchGoesOnAfterAKillAndDoesNothingTwice(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	listen := "127.0.0.1:" + daemon.FreePort(t, "127.0.0.1")
	s := startAt(t, "serve", dir, listen)
	s.login()
	box := simulated(t, standin.Box{})
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, web, _ := net.SplitHostPort(box.TLSAddr)
	var lines strings.Builder
	lines.WriteString("name,address,family,slot,port,ssh:user,ssh:password,ssh:pin,ssh:port\n")
	for i := range 40 {
		fmt.Fprintf(&lines,
			"box-%02d.mainquay.tidewrack.example,%s,web-files-ssh,web,%s,keeper,correct horse,%s,%s\n", i, host, web,
			box.HostKey(), sshPort)
	}
	fmt.Fprintf(&lines, "read-only.mainquay.tidewrack.example,%s,,web,%s,,,,\n", host, web)
	file := dir + "/many.csv"
	write(t, file, lines.String())
	s.ok("device", "import", file)
	s.fails(2, "it is not said which slots", "batch", "start")
	s.fails(1, "no slot fits", "batch", "start", "--site", "Saltmere")
	if out := s.ok("batch", "start", "--text", "mainquay", "--by", "desk", "--rehearse"); !strings.Contains(out,
		"41 slots; nothing was sent") || !strings.Contains(out, "1 of them belong to devices without a family") {
		t.Error(out)
	}
	s.fails(1, "no signer is called", "batch", "start", "--text", "mainquay", "--by", "nobody")
	s.run("", "batch", "start", "--text", "mainquay", "--by", "desk")
	s.kill()
	s = startAt(t, "serve", dir, listen)
	deadline := time.Now().Add(60 * time.Second)
	var b batchAccount
	for b.State != "started" {
		if time.Now().After(deadline) {
			t.Fatalf("it does not go on: %+v", b)
		}
		time.Sleep(200 * time.Millisecond)
		b = batchAccount{}
		if err := json.Unmarshal([]byte(s.run("", "batch", "show", "b1", "--as", "json").stdout), &b); err != nil {
			t.Fatal(err)
		}
	}
	if b.Counts.Slots != 41 || b.Counts.Refused != 1 || b.Counts.Waiting+b.Counts.Left != 0 {
		t.Errorf("the account is %+v", b.Counts)
	}
	seen := map[string]bool{}
	for _, i := range b.Items {
		if i.Outcome == "refused" && !strings.Contains(i.Why, "no family") || i.Outcome == "started" &&
			(i.Replacement == "" || seen[i.Replacement]) {
			t.Errorf("%+v", i)
		}
		seen[i.Replacement] = true
	}
	var all []struct{ ID, Device string }
	s.json(&all, "replacement", "list")
	if len(all) != 40 {
		t.Errorf("%d replacements for 40 slots", len(all))
	}
}

// What is not started of a batch can be left; a device with two slots gets one after the
// other.
func TestABatchWaitsForTheDeviceAndCanBeStopped(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	const other = "tickets.northholm.tidewrack.example"
	s.ok("replace", other+"/web", "--signer", "desk")
	s.run("", "batch", "start", other+"/web", gate+"/web", "--by", "bench")
	s.until("b1", "1 sealed, 0 under way, 0 held, 0 reverted, 0 cancelled, 0 closed, 0 refused, 1 not started", "batch",
		"show", "b1")
	s.ok("batch", "stop", "b1")
	s.fails(1, "all of it was started already", "batch", "stop", "b1")
	var b batchAccount
	s.json(&b, "batch", "show", "b1")
	if b.State != "stopped" || b.Counts.Left != 1 || b.Counts.Sealed != 1 {
		t.Errorf("%+v", b)
	}
	viewer := s.as("viewer")
	viewer.fails(1, "needs the role operator", "batch", "start", gate+"/web")
	if out := s.ok("find", "tickets"); !strings.Contains(out, other+"/web") {
		t.Error(out)
	}
}
