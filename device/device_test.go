package device_test

import (
	"context"
	"crypto/rand"
	"crypto/x509/pkix"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"freshseal/core/procedure"
	"freshseal/device"
	"freshseal/standin"
)

// notebook is a journal in memory.
type notebook struct {
	begun []device.Entry
	ended []device.Outcome
}

func (n *notebook) Done(procedure.Section, string) ([]byte, bool) { return nil, false }

func (n *notebook) Begin(_ context.Context, e device.Entry) (int64, error) {
	n.begun = append(n.begun, e)
	return int64(len(n.begun)), nil
}

func (n *notebook) End(_ context.Context, _ int64, o device.Outcome) error {
	n.ended = append(n.ended, o)
	return nil
}

func startBox(t *testing.T) *standin.Running { return startBoxLike(t, standin.Box{}) }

func startBoxLike(t *testing.T, b standin.Box) *standin.Running {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Brinewell appliance"}, Ends: time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := standin.Lay(dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	b.Dir, b.User, b.Password, b.Address = dir, "keeper", "correct horse", "127.20.79.1"
	box, err := standin.Start(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

func runner(box *standin.Running) (*device.Runner, *notebook) {
	book := &notebook{}
	return &device.Runner{Dial: (&net.Dialer{}).DialContext, Journal: book,
		Target: device.Target{Address: box.SSHAddr, User: "keeper", Password: "correct horse", HostKey: box.HostKey()}}, book
}

func steps(list ...procedure.Step) procedure.Procedure {
	for i := range list {
		list[i].Limit = max(list[i].Limit, time.Second)
	}
	return procedure.Procedure{Name: "ours", Steps: map[procedure.Section][]procedure.Step{procedure.Install: list}}
}

func TestStepsAreCarriedOutAndJournalled(t *testing.T) {
	box := startBox(t)
	r, book := runner(box)
	defer r.Close()
	scope := procedure.Scope{"file": procedure.ContentValue([]byte("hello\n"))}
	p := steps(
		procedure.Step{Name: "put", Verb: procedure.Put, Text: "/etc/motd", Content: "file", Mode: 0o640},
		procedure.Step{Name: "put again", Verb: procedure.Put, Text: "/etc/motd", Content: "file", Mode: 0o640},
		procedure.Step{Name: "fetch", Verb: procedure.Fetch, Text: "/etc/motd", Capture: "back"},
		procedure.Step{Name: "compare", Verb: procedure.Run, Text: "cat /etc/motd", Expect: procedure.Expect{Same: "back"}},
		procedure.Step{Name: "show a key", Verb: procedure.Run, Text: "cat " + standin.KeyFile},
	)
	after, err := r.Carry(t.Context(), p, procedure.Install, scope)
	if err != nil || after["back"].Text != "hello\n" {
		t.Fatalf("%v %+v", err, after["back"])
	}
	if info, err := os.Stat(filepath.Join(box.Dir, "root/etc/motd")); err != nil || info.Mode().Perm() != 0o640 {
		t.Errorf("%v %v", info, err)
	}
	if len(book.begun) != 5 || len(book.ended) != 5 || book.begun[0].Text != "/etc/motd (6 bytes, mode 0640)" {
		t.Errorf("journal: %+v", book.begun)
	}
	if out := book.ended[4].Output; strings.Contains(out, "BEGIN") || !strings.Contains(out, "a private key stood here") {
		t.Errorf("a private key stands in the journal: %q", out)
	}
}

func TestAFailingStepSaysWhatToDo(t *testing.T) {
	box := startBox(t)
	for about, c := range map[string]struct {
		step    procedure.Step
		want    string
		unknown bool
	}{
		"a wrong exit code": {procedure.Step{Verb: procedure.Run, Text: "cat /nothing", Otherwise: "make it"}, "exit code 1 instead of 0: cat: ", false},
		"a secret's output": {procedure.Step{Verb: procedure.Run, Text: "cat /nothing", Secret: true}, "its output is secret", false},
		"a missing file":    {procedure.Step{Verb: procedure.Fetch, Text: "/nothing"}, "reading /nothing", false},
		"an unknown value":  {procedure.Step{Verb: procedure.Run, Text: "cat {{leaf}}"}, "is not known yet", false},
		"a closed folder":   {procedure.Step{Verb: procedure.Put, Text: "/no/folder", Content: "file"}, "writing /no/folder", false},
	} {
		r, _ := runner(box)
		c.step.Name = about
		_, err := r.Carry(t.Context(), steps(c.step), procedure.Install, procedure.Scope{"file": procedure.ContentValue([]byte("x"))})
		r.Close()
		var step *device.StepError
		if !errors.As(err, &step) || !strings.Contains(err.Error(), c.want) || step.Unknown() != c.unknown {
			t.Errorf("%s: %v", about, err)
		}
		if c.step.Otherwise != "" && !strings.Contains(err.Error(), "What to do: make it") {
			t.Errorf("%s: the remedy is missing: %v", about, err)
		}
	}
}

// A step that hangs ends with its limit. What became of it is unknown, unless
// it may be repeated.
func TestAStepThatHangsIsUnknown(t *testing.T) {
	box := startBox(t)
	box.Faults.Hang = true
	for _, repeat := range []bool{false, true} {
		r, book := runner(box)
		_, err := r.Carry(t.Context(), steps(procedure.Step{Name: "hang", Verb: procedure.Run, Text: "true", Repeat: repeat}), procedure.Install, nil)
		r.Close()
		var step *device.StepError
		if !errors.As(err, &step) || !errors.Is(err, device.ErrTimeLimit) || step.Unknown() == repeat || len(book.ended) != 1 {
			t.Errorf("repeat %v: %v", repeat, err)
		}
	}
}

// Some boxes ask for the password, and for other things besides.
func TestABoxThatAsksIsAnswered(t *testing.T) {
	box := startBoxLike(t, standin.Box{Asks: true})
	for password, ok := range map[string]bool{"correct horse": true, "wrong": false} {
		link, err := device.Open(t.Context(), (&net.Dialer{}).DialContext, device.Target{Address: box.SSHAddr, User: "keeper", Password: password, HostKey: box.HostKey()})
		if (err == nil) != ok || !ok && !errors.Is(err, device.ErrSignIn) {
			t.Errorf("%s: %v", password, err)
		}
		if link != nil {
			link.Close()
		}
	}
}

// A box of the old kind is spoken to only when that was said on purpose.
func TestOldAlgorithmsAreOfferedOnPurposeAlone(t *testing.T) {
	box := startBoxLike(t, standin.Box{Old: true})
	for old, ok := range map[bool]bool{true: true, false: false} {
		link, err := device.Open(t.Context(), (&net.Dialer{}).DialContext, device.Target{Address: box.SSHAddr, User: "keeper", Password: "correct horse", HostKey: box.HostKey(), OldSSH: old})
		if (err == nil) != ok {
			t.Errorf("old algorithms %v: %v", old, err)
		}
		if link != nil {
			link.Close()
		}
	}
}
