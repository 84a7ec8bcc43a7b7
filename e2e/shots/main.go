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
	panel   = "panel.northholm.tidewrack.example/web"
	tickets = "tickets.northholm.tidewrack.example/web"
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
	if err := pages(url, password, filepath.Join(dir, "profile"), out); err != nil {
		return err
	}
	return terminal(program, filepath.Join(dir, "demo", "client.yaml"), out)
}

func pages(url, password, profile, out string) error {
	p, err := browser.Open(context.Background(), url, profile, 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	photo := filepath.Join(filepath.Dir(profile), "certnew(2).cer")
	if err := os.WriteFile(photo, []byte("\x89PNG\r\n\x1a\n"), 0o600); err != nil {
		return err
	}
	picture := func(name string) error {
		time.Sleep(600 * time.Millisecond) // let what moves come to rest
		png, err := p.PNG()
		if err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	for _, step := range []func() error{
		func() error { return p.Go("/") },
		func() error { return p.SignIn("admin", password) },
		func() error { return p.Wait("//main[contains(.,'17 slots')]") },
		func() error { return picture("overview") },
		func() error { return p.Go("/devices") },
		func() error { return p.Wait(browser.Link("/devices/" + device)) },
		func() error { return picture("devices") },
		func() error { return p.Click(browser.Link("/devices/" + device)) },
		func() error { return p.Click(browser.Button("Try the connection")) },
		func() error { return p.Wait("//*[@data-ok='true']") },
		func() error { return picture("device") },
		func() error { return p.Go("/slots/" + panel) },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Wait("//section[contains(@aria-label,'By hand')]") },
		func() error { return picture("guided-step") },
		func() error { return p.Go("/families") },
		func() error { return p.Wait("//h1[.='Families']") },
		func() error { return picture("families") },
		func() error { return p.Go("/people") },
		func() error { return p.Wait("//form[@aria-label='Make a token']") },
		func() error { return picture("people") },
		func() error { return p.Go("/settings") },
		func() error { return p.Wait("//form[@aria-label='Change your password']") },
		func() error { return picture("settings") },
		func() error { return p.Go("/slots") },
		func() error { return p.Wait(browser.Link(gate)) },
		func() error { return picture("slots") },
		func() error { return p.Click(browser.Link(radar)) },
		func() error { return p.Wait(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Wait("//li[@data-stage='activate' and @data-standing='now']") },
		func() error { return picture("replacement") },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Go(gate) },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Wait("//span[@data-state='sealed']") },
		func() error { return p.Go(gate) },
		func() error { return p.Wait("//ol[@aria-label='Chain of certificates']") },
		func() error { return picture("slot") },
		func() error { return p.Go("/slots/" + tickets) },
		func() error { return p.Click(browser.Button("Replace")) },
		func() error { return p.Click("//input[@value='desk']") },
		func() error { return p.Click(browser.Button("Begin")) },
		func() error { return p.Wait("//span[@data-state='waiting']") },
		func() error { return p.Go("/desk") },
		func() error { return p.Wait(browser.Button("Pack 1 into a parcel")) },
		func() error { return p.Upload("#pile", photo) },
		func() error { return p.Wait("//*[@aria-label='Account of the files']") },
		func() error { return picture("desk") },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
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
	window := exec.Command("xterm", "-fa", "DejaVu Sans Mono", "-fs", "9", "-geometry", "130x54+0+0", "-bg", "#fbfaf6", "-fg", "#1a2236", "-e", "sh", "-c", script)
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
