// Command shots makes the pictures of docs/screenshots from the demo: pages in
// Chromium, and a terminal in a real window.
package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"freshseal/e2e/browser"

	"github.com/chromedp/chromedp/kb"
)

func main() {
	program := flag.String("program", "bin/freshseal", "the program")
	out := flag.String("out", "docs/screenshots", "where the pictures go")
	flag.Parse()
	if err := shoot(*program, *out); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

const (
	gate    = "/slots/gate-1.mainquay.tidewrack.example/web"
	radar   = "/slots/radar.gannet-point.tidewrack.example/web"
	device  = "gate-1.mainquay.tidewrack.example"
	manager = "/slots/manager.mainquay.tidewrack.example/web"
	panel   = "panel.northholm.tidewrack.example/web"
)

func shoot(program, out string) error {
	dir, err := os.MkdirTemp("", "freshseal-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	demo := exec.Command(program, "demo", "--dir", filepath.Join(dir, "demo"), "--listen", "127.0.0.1:0")
	lines, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	if err := demo.Start(); err != nil {
		return err
	}
	defer demo.Wait()
	defer demo.Process.Signal(os.Interrupt)
	var url, password string
	for scan := bufio.NewScanner(lines); url == "" && scan.Scan(); {
		if rest, ok := strings.CutPrefix(scan.Text(), "password: "); ok {
			password = rest
		}
		if rest, ok := strings.CutPrefix(scan.Text(), "ready: "); ok {
			url = rest
		}
	}
	back, err := asSigned(program, dir)
	if err != nil {
		return err
	}
	if err := pages(program, filepath.Join(dir, "demo", "client.yaml"), url, password, filepath.Join(dir, "profile"),
		out, back); err != nil {
		return err
	}
	return terminal(program, filepath.Join(dir, "demo", "client.yaml"), out)
}

func pages(program, config, url, password, profile, out string, back []string) error {
	p, err := browser.Open(context.Background(), url, profile, 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	picture := func(name string) error {
		time.Sleep(600 * time.Millisecond) // let what moves come to rest
		png, err := p.PNG()
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	replace := func(slot, signer string) func() error {
		return func() error {
			for _, step := range []func() error{
				func() error { return p.Go(slot) },
				func() error { return p.Click(browser.Button("Replace")) },
				func() error {
					return p.Choose("//*[@role='dialog']//*[text()='Signer']/following::div[@role='combobox'][1]",
						signer)
				},
				func() error { return p.Click(browser.Button("Start")) },
			} {
				if err := step(); err != nil {
					return err
				}
			}
			return nil
		}
	}
	for _, step := range []func() error{
		func() error { return p.Go("/") },
		func() error { return p.SignIn("admin", password) },
		func() error { return p.Wait("//main[contains(.,'60 slots')]") },
		func() error { return picture("overview") },
		func() error { return p.Go("/devices") },
		func() error { return p.Wait(browser.Link("/devices/" + device)) },
		func() error { return picture("devices") },
		func() error { return p.Click(browser.Link("/devices/" + device)) },
		func() error { return p.Click(browser.Button("Try the connection")) },
		func() error { return p.Wait("//*[@data-ok='true']") },
		func() error { return picture("device") },
		replace("/slots/"+panel, "bench"),
		func() error { return p.Wait("//section[contains(@aria-label,'By hand')]") },
		func() error { return picture("guided-step") },
		func() error { return p.Go("/ahead") },
		func() error { return p.Click("//label[contains(.,'Count all as publicly trusted')]//input") },
		func() error { return p.Choose("#forecast-weeks", "four years") },
		func() error { return p.Wait("//td[.='2030']") },
		func() error { return p.Size(1280, 1340) },
		func() error { _, err := p.Eval("scrollTo(0, 0), ''"); return err },
		func() error { return picture("ahead") },
		func() error { return p.Size(1280, 800) },
		func() error { return p.Go("/notices") },
		func() error { return p.Wait("//*[@aria-label='Notices, table']") },
		func() error { return picture("notices") },
		func() error { return p.Go("/discovery") },
		func() error { return p.Type("//*[@data-field='ranges']", "192.0.2.0/24") },
		func() error { return p.Type("//*[@data-field='rate']", "500") },
		func() error { return p.Click(browser.Button("Start")) },
		func() error { return p.Wait("//h2[contains(.,'4 devices not in the fleet, ')]") },
		func() error { return picture("discovery") },
		func() error { return p.Go("/slots?site=Northholm") },
		func() error { return p.Wait("//input[@aria-label='Choose all on this page']") },
		func() error { return p.Click("//input[@aria-label='Choose all on this page']") },
		func() error { return picture("slots") },
		replace(radar, "bench"),
		func() error { return p.Wait("//li[@data-stage='activate' and @data-mark='now']") },
		func() error { return picture("replacement") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		replace(gate, "bench"),
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Click(browser.Button("Revert")) },
		func() error { return p.Wait("//*[@role='dialog']//tr[@data-differs='true']") },
		func() error { return picture("old-and-new") },
		func() error { return p.Go(gate) },
		func() error { return p.Wait("//ol[@aria-label='Chain of certificates']") },
		func() error { return picture("slot") },
		func() error { return p.Go("/tasks") },
		func() error { return p.Wait("//ul[@aria-label='Pins pending']") },
		func() error { return picture("pins") },
		func() error { return p.Go("/") },
		func() error { return p.Wait("//main[contains(.,'60 slots')]") },
		func() error { return p.Press("/") },
		func() error { return p.Type("//input[@aria-label='Search everything']", "northholm") },
		func() error { return p.Wait("//*[@role='option' and contains(.,'panel.northholm')]") },
		func() error { return picture("search") },
		func() error { return p.Press(kb.Escape) },
		replace(manager, "bench"),
		func() error { return p.Wait("//*[@aria-label='Screen of the device' and contains(.,'55 %')]") },
		func() error { return picture("dialog") },
		func() error { return p.Go("/desk?of=parcels") },
		func() error { return p.Wait("//a[contains(.,'p1, 4 requests')]") },
		func() error { return p.Upload("#pile", back...) },
		func() error { return p.Wait("//*[@aria-label='Account of the files']") },
		func() error { return p.Size(1280, 1420) },
		func() error { return picture("desk") },
		func() error { return p.Size(1280, 800) },
		func() error { return begin(program, config) },
		func() error { return p.Go("/batches/b1") },
		func() error { return p.Wait("//*[@aria-label='Progress' and contains(.,'sealed')]") },
		func() error { return picture("batch") },
		func() error { _, err := p.Eval("localStorage.setItem('mui-mode', 'dark'), ''"); return err },
		func() error { return p.Go("/") },
		func() error { return p.Wait("//main[contains(.,'60 slots')]") },
		func() error { return picture("overview-dark") },
		func() error { return p.Size(390, 844) },
		func() error { _, err := p.Eval("localStorage.setItem('mui-mode', 'light'), ''"); return err },
		func() error { return p.Go("/slots") },
		func() error { return p.Wait("//tr[@data-id]") },
		func() error { return picture("slots-narrow") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// begin begins a batch of what is left at the terminals.
func begin(program, config string) error {
	out, err := exec.Command(program, "--config", config, "batch", "start", "--text", "northholm", "--by",
		"bench").CombinedOutput()
	if err != nil && len(out) == 0 {
		return err
	}
	time.Sleep(4 * time.Second)
	return nil
}

// asSigned lets three requests go out and be signed with openssl, and gives the
// files that come back: PKCS #7, a leaf for a request that nobody sent, a picture.
func asSigned(program, dir string) ([]string, error) {
	work := filepath.Join(dir, "harbour")
	if err := os.MkdirAll(work, 0o700); err != nil {
		return nil, err
	}
	script := `set -e
"$0" --config "$1" pin add gate-1.mainquay.tidewrack.example/web --who "booking service" --how "enter it under Partners, then write to booking@tidewrack.example" >/dev/null
"$0" --config "$1" pin add gate-1.mainquay.tidewrack.example/web --who "harbour probes" --what key --how "call the harbour watch" >/dev/null
for d in tickets.northholm ramp.northholm bridge.turnstone weather.gannet-point; do "$0" --config "$1" replace $d.tidewrack.example/web --signer desk >/dev/null; done
sleep 3
"$0" --config "$1" parcel pack --signer desk --out out.zip >/dev/null
"$0" --config "$1" parcel hand p1 --to "Ms Fulmar, Harbour Authority" --reference HA-2207 >/dev/null
key="-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes"
openssl req -x509 $key -keyout root.key -out root.pem -days 3000 -subj "/O=Harbour Authority/CN=Harbour Root"
"$0" --config "$1" trust-group add fleet root.pem >/dev/null
openssl req $key -keyout sub.key -out sub.csr -subj "/O=Harbour Authority/CN=Harbour Issuing"
printf 'basicConstraints=critical,CA:TRUE\nkeyUsage=critical,keyCertSign\nsubjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n' > sub.ext
openssl x509 -req -in sub.csr -CA root.pem -CAkey root.key -days 1000 -extfile sub.ext -out sub.pem
openssl req -new $key -keyout k -out other.csr -subj "/CN=bridge.turnstone.tidewrack.example" -addext subjectAltName=DNS:bridge.turnstone.tidewrack.example
python3 -m zipfile -e out.zip parcel 2>/dev/null || unzip -q out.zip -d parcel
openssl req $key -keyout pier.key -out pier.csr -subj "/O=Harbour Authority/CN=Harbour Pier Issuing"
openssl x509 -req -in pier.csr -CA root.pem -CAkey root.key -days 1000 -extfile sub.ext -out pier.pem
openssl x509 -req -in parcel/*weather*.csr.pem -CA pier.pem -CAkey pier.key -days 180 -copy_extensions copy -outform DER -out weather.cer
sign() { openssl x509 -req -in "$1" -CA sub.pem -CAkey sub.key -days 180 -copy_extensions copy -out "$2"; }
sign parcel/*ramp*.csr.pem ramp.pem; sign parcel/*tickets*.csr.pem tickets.pem; sign other.csr "answer(2).cer"
openssl crl2pkcs7 -nocrl -certfile ramp.pem -certfile tickets.pem -certfile sub.pem -certfile root.pem -outform DER -out chain.p7b
printf '\211PNG\r\n' > logo.png`
	cmd := exec.Command("bash", "-c", script, program, filepath.Join(dir, "demo", "client.yaml"))
	if abs, err := filepath.Abs(program); err == nil {
		cmd.Args[3] = abs
	}
	cmd.Dir = work
	if out, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("signing with openssl: %w\n%s", err, out)
	}
	return []string{filepath.Join(work, "chain.p7b"), filepath.Join(work, "answer(2).cer"),
		filepath.Join(work, "weather.cer"), filepath.Join(work, "logo.png")}, nil
}

// terminal takes a picture of a terminal window with the client at work.
func terminal(program, config, out string) error {
	program, err := filepath.Abs(program)
	if err != nil {
		return err
	}
	script := fmt.Sprintf(`export FRESHSEAL_CONFIG=%s PATH=%s:$PATH
say() { printf '\033[1m$ %%s\033[0m\n' "$*"; "$@"; }
say freshseal slot list
say freshseal replace %s --signer bench --watch
sleep 30`, config, filepath.Dir(program), strings.TrimPrefix(gate, "/slots/"))
	const display = ":97"
	screen := exec.Command("Xvfb", display, "-screen", "0", "1000x800x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("starting Xvfb: %w", err)
	}
	defer screen.Wait()
	defer screen.Process.Kill()
	time.Sleep(time.Second)
	window := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "130x54+0+0", "-bg",
		"#fbfaf6", "-fg", "#1a2236", "-e", "sh", "-c", script)
	window.Env = append(os.Environ(), "DISPLAY="+display)
	if err := window.Start(); err != nil {
		return fmt.Errorf("starting xterm: %w", err)
	}
	defer window.Wait()
	defer window.Process.Kill()
	time.Sleep(6 * time.Second)
	take := exec.Command("import", "-display", display, "-window", "root", filepath.Join(out, "terminal.png"))
	take.Stderr = os.Stderr
	return take.Run()
}
