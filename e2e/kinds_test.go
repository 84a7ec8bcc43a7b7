package e2e

import (
	"crypto/rand"
	"crypto/x509/pkix"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"freshseal/core/language/library"
	"freshseal/standin"
	"freshseal/standin/daemon"
	_ "freshseal/standin/kinds"
	"freshseal/standin/kinds/gear"
	"freshseal/standin/kinds/plant"
	"freshseal/standin/parts"
)

// kind starts a box of a kind with its factory certificate.
func kind(t *testing.T, b standin.Box) *standin.Running {
	t.Helper()
	return kindAt(t, b, "127.20.80.1", 0)
}

// kindAt is kind at an address and port of its own, 0 for any port.
func kindAt(t *testing.T, b standin.Box, address string, port int) *standin.Running {
	t.Helper()
	var none *standin.Authority
	certificate, key, err := none.Issue(standin.Wanted{Subject: pkix.Name{CommonName: "Pelorus factory"},
		Ends: 1000 * time.Hour}, rand.Reader, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	if port == 0 { // one that is free on its further nodes too
		port = number(t, daemon.FreePort(t, address))
	}
	b.Dir = t.TempDir()
	if err := standin.Lay(b.Dir, certificate, key); err != nil {
		t.Fatal(err)
	}
	b.User, b.Password, b.Secret, b.Address, b.TLSPort = "keeper", "correct horse", "salt in the menu", address, port
	box, err := standin.Start(b)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { box.Close() })
	return box
}

// addKind adds a box with its family and settings.
func (s *server) addKind(name, family string, box *standin.Running, more ...string) {
	s.t.Helper()
	host, sshPort, _ := net.SplitHostPort(box.SSHAddr)
	_, tlsPort, _ := net.SplitHostPort(box.TLSAddr)
	s.okWith(box.Password,
		append([]string{"device", "add", name, "--address", host, "--family", family, "--user", box.User, "--port",
			sshPort,
			"--password-file", "-", "--pin", box.HostKey(), "--slot", "web=" + tlsPort}, more...)...)
}

// quickFamilies are a folder with the built-in families as "quick-NAME": those wait as long
// as real boxes need, these do not.
func quickFamilies(t *testing.T, names ...string) string {
	t.Helper()
	folder := t.TempDir()
	waits := regexp.MustCompile(`((?:until: |command: "\{\{control\}\})\S*.*limit: )\d+m`)
	quick := regexp.MustCompile(`(say: (?:"[^"]*"|[^,}"]+))\}`)
	for _, name := range names {
		source := library.Builtin()[name].YAML
		if source == "" { // an example of the documents
			source = read(t, "../docs/examples/"+name+".procedure.yaml")
		}
		text := strings.Replace(source, "procedure: ", "procedure: quick-", 1)
		text = regexp.MustCompile(`restart_limit: \d+m`).ReplaceAllString(quick.ReplaceAllString(text,
			"$1, limit: 4s}"), "restart_limit: 5s")
		text = regexp.MustCompile(`rolls_back: \d+m`).ReplaceAllString(text, "rolls_back: 2s")
		text = regexp.MustCompile(`within: \d+m`).ReplaceAllString(text, "within: 8s")
		text = strings.ReplaceAll(text, "after: 2m", "after: 1s, every: 300ms")
		text = strings.ReplaceAll(waits.ReplaceAllString(text, "${1}4s"), `leaf: "{{new_sha256}}"}, limit: 1m`,
			`leaf: "{{new_sha256}}"}, limit: 4s`)
		text = regexp.MustCompile(`\blimit: \d+m\b`).ReplaceAllString(text, "limit: 6s")
		lines := strings.Split(text, "\n")
		for i, line := range lines { // a way back waits for as long as an end that nobody saw may still come
			if one := strings.TrimSpace(line); strings.HasPrefix(one, "- {") && strings.HasSuffix(one, "}") &&
				!strings.Contains(one, "limit:") &&
				(strings.Contains(one, "run: ") || strings.Contains(one, "http: ") ||
					strings.Contains(one, "file: ")) && !strings.Contains(one, "sign") {
				lines[i] = strings.TrimSuffix(line, "}") + ", limit: 6s}"
			}
		}
		text = strings.Join(lines, "\n")
		if !strings.Contains(text, "restart_limit") {
			text = strings.Replace(strings.ReplaceAll(text, "limit: 20s", "limit: 6s"), "traits:\n",
				"traits:\n  restart_limit: 5s\n", 1)
		}
		// parts wait less, too
		text = regexp.MustCompile(`\buse: ([a-z-]+)`).ReplaceAllStringFunc(text, func(use string) string {
			part := strings.TrimPrefix(use, "use: ")
			steps := strings.Replace(read(t, "../core/language/procedure/builtin/"+part+".part.yaml"), "part: ",
				"part: quick-", 1)
			write(t, folder+"/quick-"+part+".part.yaml", regexp.MustCompile(`\blimit: \d+m\b`).ReplaceAllString(steps,
				"limit: 10s"))
			return "use: quick-" + part
		})
		write(t, folder+"/quick-"+name+".procedure.yaml", text)
	}
	return folder
}

// A kind of box is replaced from its factory certificate to sealed, and with each fault
// to an outcome that is true on the box and on the wire: the old certificate is never
// lost, and is served again unless it says that a person must look.
func TestKindsOfBoxesAndTheirFaults(t *testing.T) {
	t.Parallel()
	folder := quickFamilies(t, "manager-by-menu", "network-gear", "server-to-be-stopped", "bare-host",
		"plant-controller")
	s := startAt(t, "serve", t.TempDir(), "127.0.0.1:0", "--procedures", folder)
	s.login()
	const outcomeSealed, outcomeReverted, outcomeHeld = "sealed", "reverted", "held"
	manager := func(f standin.Faults) standin.Box {
		return standin.Box{Kind: standin.MenuManager, Faults: f, Restart: 800 * time.Millisecond}
	}
	lumsk := func(f standin.Faults) standin.Box { return standin.Box{Kind: standin.NetworkGear, Faults: f} }
	dock := func(f standin.Faults) standin.Box {
		return standin.Box{Kind: standin.StopServer, Faults: f, Restart: 500 * time.Millisecond}
	}
	host := func(f standin.Faults) standin.Box {
		return standin.Box{Kind: standin.BareHost, Faults: f, Restart: 500 * time.Millisecond}
	}
	boiler := func(f standin.Faults) standin.Box {
		return standin.Box{Kind: standin.PlantRoom, Faults: f, Restart: time.Second}
	}
	for _, c := range []struct {
		name, family string
		box          standin.Box
		secret       string // another than the box's own
		state        string
		says         string
	}{
		{"manager", "manager-by-menu", manager(standin.Faults{}), "", outcomeSealed, ""},
		{"manager-wrong-password", "manager-by-menu", manager(standin.Faults{}), "pepper", outcomeHeld,
			"the menu does not take its password"},
		{"manager-silent", "manager-by-menu", manager(standin.Faults{Silent: true}), "", outcomeHeld, "did not appear"},
		{"manager-other-prompt", "manager-by-menu", manager(standin.Faults{OtherPrompt: true}), "", outcomeHeld,
			"Kennwort?"},
		{"manager-rolls-back", "manager-by-menu", manager(standin.Faults{RollBack: true}), "", outcomeReverted,
			"took the certificate back by itself"},
		{"manager-keeps-serving", "manager-by-menu", manager(standin.Faults{KeepServing: true}), "", outcomeReverted,
			""},
		{"manager-never-back", "manager-by-menu", manager(standin.Faults{NeverBack: true}), "", outcomeReverted, ""},
		{"manager-without-intermediate", "manager-by-menu", manager(standin.Faults{LeafAlone: true}), "",
			outcomeReverted, ""},
		{"host-without-intermediate", "bare-host", host(standin.Faults{LeafAlone: true}), "", outcomeReverted, ""},
		{"host-never-back", "bare-host", host(standin.Faults{NeverBack: true}), "", outcomeReverted, ""},
		{"host", "bare-host", host(standin.Faults{}), "", outcomeSealed, ""},
		{"host-own-key", "bare-host", host(standin.Faults{}), "", outcomeSealed, ""},
		{"host-own-key-full", "bare-host", host(standin.Faults{DiskFull: true}), "", outcomeReverted,
			"put its own key in place"},
		{"host-lost-upload", "bare-host", host(standin.Faults{DropUpload: true}), "", outcomeSealed, ""},
		{"host-disk-full", "bare-host", host(standin.Faults{DiskFull: true}), "", outcomeReverted,
			"put the key in place"},
		{"host-read-only", "bare-host", host(standin.Faults{ReadOnly: true}), "", outcomeReverted,
			"put the key in place"},
		{"host-keeps-serving", "bare-host", host(standin.Faults{KeepServing: true}), "", outcomeReverted, ""},
		{"host-agents-stay-away", "bare-host", host(standin.Faults{FailTest: true}), "", outcomeReverted, ""},
		{"host-stays-in-maintenance", "bare-host", host(standin.Faults{StaysInMaintenance: true}), "", outcomeHeld,
			"leave maintenance"},
		{"plant", "plant-controller", boiler(standin.Faults{}), "", outcomeSealed, ""},
		{"plant-keeps-serving", "plant-controller", boiler(standin.Faults{KeepServing: true}), "", outcomeReverted, ""},
		{"plant-without-intermediate", "plant-controller", boiler(standin.Faults{LeafAlone: true}), "",
			outcomeReverted, ""},
		{"plant-never-back", "plant-controller", boiler(standin.Faults{NeverBack: true}), "", outcomeHeld, "prove"},
		{"plant-disk-full", "plant-controller", boiler(standin.Faults{DiskFull: true}), "", outcomeReverted,
			"put key and leaf in place"},
		{"dock", "server-to-be-stopped", dock(standin.Faults{}), "", outcomeSealed, ""},
		{"dock-stops-hard", "quick-server-to-be-stopped", dock(standin.Faults{StuckStop: true}), "", outcomeSealed, ""},
		{"dock-keeps-serving", "server-to-be-stopped", dock(standin.Faults{KeepServing: true}), "", outcomeReverted,
			""},
		{"dock-without-intermediate", "server-to-be-stopped", dock(standin.Faults{LeafAlone: true}), "",
			outcomeReverted, ""},
		{"dock-never-back", "server-to-be-stopped", dock(standin.Faults{NeverBack: true}), "", outcomeReverted, ""},
		{"dock-full", "server-to-be-stopped", dock(standin.Faults{DiskFull: true}), "", outcomeReverted, ""},
		{"dock-plain-stays", "server-to-be-stopped", dock(standin.Faults{PlainStays: true}), "", outcomeReverted,
			"leads to HTTPS"},
		{"dock-does-not-start", "server-to-be-stopped", dock(standin.Faults{FailTest: true}), "", outcomeReverted, ""},
		{"gear", "network-gear", lumsk(standin.Faults{}), "", outcomeSealed, ""},
		{"gear-wrong-word", "network-gear", lumsk(standin.Faults{}), "pepper", outcomeHeld, "fault 4: wrong word"},
		{"gear-silent", "network-gear", lumsk(standin.Faults{Silent: true}), "", outcomeHeld, "did not appear"},
		{"gear-other-prompt", "network-gear", lumsk(standin.Faults{OtherPrompt: true}), "", outcomeHeld, "berth-3$"},
		{"gear-refuses", "network-gear", lumsk(standin.Faults{FailTest: true}), "", outcomeReverted, "fault 31"},
		{"gear-keeps-serving", "network-gear", lumsk(standin.Faults{KeepServing: true}), "", outcomeReverted, ""},
		{"gear-without-intermediate", "network-gear", lumsk(standin.Faults{LeafAlone: true}), "", outcomeReverted, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			box := kind(t, c.box)
			s := *s
			s.t = t
			device, secret := c.name+".mainquay.tidewrack.example", box.Secret
			if c.secret != "" {
				secret = c.secret
			}
			settings := map[standin.Kind][]string{standin.MenuManager: {"--setting", "menu_password=" + secret},
				standin.NetworkGear: {"--setting", "secret_word=" + secret},
				standin.StopServer:  {"--setting", "plain=http://" + box.Plain + "/"}}[c.box.Kind]
			if strings.HasPrefix(c.name, "host-own-key") {
				settings = []string{"--setting", "own_key=yes"}
			}
			family := c.family
			if c.state != outcomeSealed {
				family = "quick-" + family
			}
			s.addKind(device, family, box, settings...)
			s.run("", "read", device+"/web")
			before := s.show(device + "/web")
			if text := s.ok("replace", device+"/web", "--signer", "bench", "--rehearse"); strings.Contains(text,
				secret) || !strings.Contains(text, "see ") && !strings.Contains(text, "dockctl stop, until") &&
				!strings.Contains(text, "maintenance leave") && !strings.Contains(text, "reboot") {
				t.Errorf("the rehearsal shows\n%s", text)
			}
			out := s.run("", "replace", device+"/web", "--signer", "bench", "--watch")
			said := out.stdout + out.stderr
			if (out.code == 0) != (c.state == outcomeSealed) || !strings.Contains(said, c.state) ||
				!strings.Contains(said, c.says) || strings.Contains(said, secret) {
				t.Errorf("it ends with %d and says\n%s", out.code, said)
			}
			s.run("", "read", device+"/web")
			after := s.show(device + "/web")
			// nobody can say what it serves, and nobody does
			if c.box.Faults.NeverBack && c.box.Kind == standin.PlantRoom {
				if after.Condition != "unreachable" {
					t.Errorf("after: %+v", after)
				}
				return
			}
			changed := after.Certificate.SHA256 != before.Certificate.SHA256
			if changed != (c.state == outcomeSealed || c.box.Faults.StaysInMaintenance) {
				t.Errorf("%s, and the certificate on the wire changed: %v", c.state, changed)
			}
			if c.state == outcomeSealed && after.Condition != "fresh" {
				t.Errorf("after: %+v", after)
			}
			if box.InMaintenance() != c.box.Faults.StaysInMaintenance {
				t.Errorf("in maintenance: %v", box.InMaintenance())
			}
			if c.name == "host-own-key" {
				if held, err := box.Holds("/etc/webui/tls"); err != nil ||
					!strings.Contains(held["/etc/webui/tls/key.pem"], "BEGIN RSA PRIVATE KEY") {
					t.Errorf("the key is not in its older form: %v %.40s", err, held["/etc/webui/tls/key.pem"])
				}
			}
			if c.box.Kind == standin.PlantRoom { // the rest of its configuration is kept byte by byte
				want := plant.PlantFactory()
				if c.state == outcomeSealed {
					want = strings.Replace(want, "bundle /etc/webui/tls/certificate.pem\r\n",
						"bundle /etc/plant/tls/both.pem\r\nauthorities /etc/plant/tls/authorities.pem\r\n", 1)
				}
				if now := plant.PlantConfig(box); now != want {
					t.Errorf("its configuration is %q", now)
				}
			}
			if parts.IsOff(box) {
				t.Error("it is left stopped")
			}
			if c.box.Kind == standin.NetworkGear { // what counts is what is there after it was off
				if err := gear.Reboot(box); err != nil {
					t.Fatal(err)
				}
				s.run("", "read", device+"/web")
				if again := s.show(device + "/web"); again.Certificate.SHA256 != after.Certificate.SHA256 {
					t.Errorf("after a restart of the device it serves another certificate")
				}
			}
		})
	}
}
