// Package browser drives the console in a headless Chromium for tests and
// pictures. Chromium reaches nothing but loopback, and trusts just the one
// certificate that the service shows.
package browser

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Page is one tab.
type Page struct {
	ctx   context.Context
	base  string
	close func()

	lock   sync.Mutex
	faults []string
}

// Open starts a browser on a service. profile is an empty folder of its own.
func Open(ctx context.Context, base, profile string, width, height int) (*Page, error) {
	pin, err := publicKeyPin(base)
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.UserDataDir(profile),
		chromedp.ExecPath("/usr/bin/chromium-headless-shell"), // without the windows of a browser that nobody sees
		chromedp.WindowSize(width, height),
		chromedp.WSURLReadTimeout(60*time.Second), chromedp.Flag("disable-gpu", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-domain-reliability", true), chromedp.Flag("no-pings", true),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("force-prefers-reduced-motion", true),
		chromedp.Flag("ignore-certificate-errors-spki-list", pin),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND , EXCLUDE 127.0.0.1"))
	allocator, endBrowser := chromedp.NewExecAllocator(ctx, options...)
	tab, endTab := chromedp.NewContext(allocator)
	p := &Page{ctx: tab, base: base, close: func() { endTab(); endBrowser() }}
	if err := chromedp.Listen(tab, p.note); err != nil {
		p.close()
		return nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return p, p.do(chromedp.EmulateViewport(int64(width), int64(height)))
}

// Close ends the browser.
func (p *Page) Close() { p.close() }

// note stores what a page must not do: fail, complain, or ask another host.
func (p *Page) note(event any) {
	p.lock.Lock()
	defer p.lock.Unlock()
	switch e := event.(type) {
	case *runtime.EventExceptionThrown:
		p.faults = append(p.faults, "exception: "+e.ExceptionDetails.Text)
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.ConsoleAPICalledTypeError || e.Type == runtime.ConsoleAPICalledTypeWarning {
			for _, arg := range e.Args {
				p.faults = append(p.faults, fmt.Sprintf("console: %s %s", arg.Description, arg.Value))
			}
		}
	case *network.EventRequestWillBeSent:
		u, err := url.Parse(e.Request.URL)
		if err == nil && u.Scheme != "data" && u.Scheme+"://"+u.Host != p.base {
			p.faults = append(p.faults, "asks another host: "+e.Request.URL)
		}
	}
}

// Faults returns the errors that pages showed in the browser's console, and the
// requests that went to another host.
func (p *Page) Faults() []string {
	p.lock.Lock()
	defer p.lock.Unlock()
	return append([]string(nil), p.faults...)
}

const patience = 30 * time.Second

func (p *Page) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Go opens an address of the console.
func (p *Page) Go(path string) error { return p.do(chromedp.Navigate(p.base + path)) }

// Size changes the size of the window.
func (p *Page) Size(width, height int) error {
	return p.do(chromedp.EmulateViewport(int64(width), int64(height)))
}

// SignIn signs in on the page that asks for it.
func (p *Page) SignIn(user, password string) error {
	if err := p.Type("#user", user); err != nil {
		return err
	}
	if err := p.Type("#password", password); err != nil {
		return err
	}
	if err := p.Click(Button("Sign in")); err != nil {
		return err
	}
	return p.Wait("//nav")
}

// Button finds a button by its text, and Link a link.
func Button(text string) string {
	return fmt.Sprintf("//button[normalize-space()=%q] | //a[contains(@class,'MuiButton') and normalize-space()=%q]",
		text, text)
}

// Link finds a link by a part of its address.
func Link(href string) string { return fmt.Sprintf("//a[contains(@href,%q)]", href) }

// find is a function of a script that takes an XPath or a CSS selector.
const find = `const find = selector => /^[/(]/.test(selector) ? document.evaluate(selector, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue : document.querySelector(selector)`

// shown is a script that waits until an element is visible, and tells something of it. The page looks by itself, and
// not too often: to be asked all the time would be most of what it does.
const shown = `new Promise(done => {
	` + find + `
	const look = () => {
		const element = find(%q)
		if (element?.checkVisibility({visibilityProperty: true})) done(%s)
		else setTimeout(look, 30)
	}
	look()
})`

// see waits until an element is visible, on this page or one that comes, and returns what a script tells of it.
func (p *Page) see(selector, tell string) (string, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	for {
		out, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(shown, selector, tell),
			chromedp.EvalAwaitPromise))
		if err == nil || ctx.Err() != nil {
			return out, err
		}
		time.Sleep(50 * time.Millisecond) // another page came meanwhile
	}
}

// still is a script that waits until an element can be hit, has not moved for some frames, and
// tells its middle: a page that is still arranging itself, such as for a font that has just come,
// would move it from under the mouse.
const still = `new Promise(done => {
	` + find + `
	let before = '', frames = 0
	const look = () => {
		const element = find(%q)
		if (element) {
			element.scrollIntoView({block: 'nearest', inline: 'nearest', behavior: 'instant'})
			const box = element.getClientRects()[0] ?? element.getBoundingClientRect() // of a text that takes two lines, the first
			const x = box.x + box.width / 2, y = box.y + box.height / 2
			const hit = document.elementFromPoint(x, y)
			const now = hit && document.fonts.status === 'loaded' && (element.contains(hit) || hit.closest('label')?.control === element) ? [x, y, box.width].join(' ') : ''
			frames = now && now === before ? frames + 1 : 0
			before = now
			if (frames > 3) return done([x, y])
		}
		requestAnimationFrame(look)
	}
	look()
})`

// Click clicks on the first element that a selector finds, once it stands still and nothing covers it.
func (p *Page) Click(selector string) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	for {
		at, err := chromedp.Run(ctx, chromedp.Evaluate[[2]float64](fmt.Sprintf(still, selector),
			chromedp.EvalAwaitPromise))
		if err == nil {
			return p.do(chromedp.MouseClickXY(at[0], at[1]))
		}
		if ctx.Err() != nil {
			text, _ := p.Text("body")
			return fmt.Errorf("clicking on %s: %w; the page says:\n%s", selector, err, text)
		}
		time.Sleep(50 * time.Millisecond) // another page came meanwhile
	}
}

// Choose opens a list of choices and takes the one that begins with a text. The list moves while it
// opens and closes, so a place on the screen may miss the choice: it is taken by
// itself, and what comes next waits until the list is gone.
func (p *Page) Choose(list, choice string) error {
	item := fmt.Sprintf("//li[starts-with(normalize-space(),%q)]", choice)
	for tries := 1; ; tries++ { // the list may have moved between the look and the click
		if err := p.Click(list); err != nil {
			return err
		}
		if opened, err := p.opens(); err != nil || !opened && tries == 5 {
			return fmt.Errorf("opening %s: %w", list, cmp.Or(err, errClosed))
		} else if opened {
			break
		}
	}
	click := fmt.Sprintf("(e => e ? (e.click(), 'clicked') : '')(document.evaluate(%q, document, null, "+
		"XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue)", item)
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) { // the list may be drawn again just now
		if err := p.Wait(item); err != nil {
			return err
		}
		if said, err := p.Eval(click); err != nil || said == "clicked" {
			break
		} else if time.Since(begun) > patience {
			return fmt.Errorf("choosing %s: it is gone each time", choice)
		}
	}
	return p.Wait("//body[not(descendant::*[@role='listbox'])]")
}

var errClosed = errors.New("no list of choices comes")

// opens waits a while for a list of choices.
func (p *Page) opens() (bool, error) {
	for begun := time.Now(); time.Since(begun) < patience/6; time.Sleep(50 * time.Millisecond) {
		said, err := p.Eval("String(document.querySelector('[role=listbox]') !== null)")
		if err != nil || said == "true" {
			return err == nil, err
		}
	}
	return false, nil
}

// Type puts a text into a field in place of what is there.
func (p *Page) Type(selector, text string) error {
	if _, err := p.see(selector, "(element.focus(), element.select(), '')"); err != nil {
		return err
	}
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, input.InsertText, input.InsertTextParams{Text: text})
		return err
	}))
}

// Press sends keys to what has the focus, "\x1b" for Escape.
func (p *Page) Press(keys string) error { return p.do(chromedp.KeyEvent(keys)) }

// Back is the browser's button.
func (p *Page) Back() error { return p.do(chromedp.NavigateBack()) }

// Forget throws the session's cookie away.
func (p *Page) Forget() error {
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, network.ClearBrowserCookies, cdp.Empty{})
		return err
	}))
}

// Block lets nothing through to addresses that match a pattern of the URLPattern API.
func (p *Page) Block(pattern string) error {
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, network.SetBlockedURLs,
			network.SetBlockedURLsParams{URLPatterns: []*network.BlockPattern{{URLPattern: pattern, Block: true}}})
		return err
	}))
}

// Shift returns how much of the page moved by itself since it was loaded, as the browser
// counts it (cumulative layout shift; up to 0.1 is called good).
func (p *Page) Shift() (float64, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[float64](`new Promise(done => {
		let sum = 0
		new PerformanceObserver(list => { for (const e of list.getEntries()) if (!e.hadRecentInput) sum += e.value }).observe({type: 'layout-shift', buffered: true})
		setTimeout(() => done(sum), 100)
	})`, chromedp.EvalAwaitPromise))
}

// Settle waits until nothing is asked for and nothing moves any more.
func (p *Page) Settle() error {
	for range 100 {
		quiet, err := p.Eval(`String(document.getAnimations().every(a => a.playState !== 'running' || a.effect.getComputedTiming().iterations === Infinity) && !document.querySelector('[aria-busy=true]') && document.readyState === 'complete')`)
		if err != nil || quiet == "true" {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil
}

// Slow empties the cache and slows the line down to so many bytes a second, with a
// delay in milliseconds; 0 is as fast as it can.
func (p *Page) Slow(bytes, delay float64) error {
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		if _, err := cdp.Call(ctx, t, network.ClearBrowserCache, cdp.Empty{}); err != nil {
			return err
		}
		line := &network.Conditions{Latency: delay, DownloadThroughput: bytes, UploadThroughput: bytes}
		if bytes == 0 {
			line.DownloadThroughput, line.UploadThroughput = -1, -1
		}
		_, err := cdp.Call(ctx, t, network.EmulateNetworkConditionsByRule,
			network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{line}})
		return err
	}))
}

// Media shows the page as on "print"; "" is the screen again.
func (p *Page) Media(media string) error {
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: media})
		return err
	}))
}

// Zone sets the time zone of the browser, such as Pacific/Chatham.
func (p *Page) Zone(name string) error {
	return p.do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: name})
		return err
	}))
}

// Clicks is a click by the page itself, from which Appears measures.
func (p *Page) Clicks(css string) func() error {
	return func() error {
		_, err := p.Eval(fmt.Sprintf("window.begun = performance.now(), document.querySelector(%q).click(), ''", css))
		return err
	}
}

// Types is a text put into a field at once, from which Appears measures.
func (p *Page) Types(css, text string) func() error {
	return func() error {
		if _, err := p.Eval(fmt.Sprintf("document.querySelector(%q).focus(), window.begun = performance.now(), ''",
			css)); err != nil {
			return err
		}
		return p.Type(css, text)
	}
}

// Appears waits until an element is drawn, and gives the milliseconds since the last
// Clicks or Types, or since the page was asked for.
func (p *Page) Appears(css string) (float64, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[float64](fmt.Sprintf(`new Promise(done => {
		const look = () => document.querySelector(%q) ? done(performance.now() - (window.begun || 0)) : requestAnimationFrame(look)
		look()
	})`, css), chromedp.EvalAwaitPromise))
}

// Gone waits until nothing is found by an XPath any more.
func (p *Page) Gone(path string) error {
	return p.Wait("//body[not(descendant::" + strings.TrimPrefix(path, "//") + ")]")
}

// Violations returns the rules of accessibility that a part of the page breaks as it is now, of the named ones or of
// all. axe is the text of axe-core; within is a CSS selector.
func (p *Page) Violations(axe, within string, rules ...string) (string, error) {
	if there, err := p.Eval("String(Boolean(window.axe))"); err != nil {
		return "", err
	} else if there != "true" {
		if _, err := p.Eval(axe + ";''"); err != nil {
			return "", err
		}
	}
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	options := `{rules: {'target-size': {enabled: true}}}`
	if len(rules) > 0 {
		options = fmt.Sprintf(`{runOnly: {type: 'rule', values: %s}}`,
			strings.ReplaceAll(fmt.Sprintf("%q", rules), " ", ","))
	}
	return chromedp.Run(ctx,
		chromedp.Evaluate[string](fmt.Sprintf(`axe.run(%q, `, within)+options+
			`).then(r => r.violations.flatMap(v => v.nodes.map(n => v.id + ': ' + n.html.slice(0, 200) + ' ' + n.any.concat(n.all, n.none).map(a => a.message).join('; '))).join('\n'))`, chromedp.EvalAwaitPromise))
}

// Upload gives files to a field that takes them.
func (p *Page) Upload(selector string, files ...string) error {
	return p.do(chromedp.SetUploadFiles(selector, files, chromedp.NodeReady))
}

// Wait waits until an element is visible.
func (p *Page) Wait(selector string) error {
	if _, err := p.see(selector, "''"); err != nil {
		text, _ := p.Text("body")
		return fmt.Errorf("waiting for %s: %w; the page says:\n%s", selector, err, text)
	}
	return nil
}

// Text returns the text of an element.
func (p *Page) Text(selector string) (string, error) { return p.see(selector, "element.innerText") }

// Eval evaluates a script to a string.
func (p *Page) Eval(script string) (string, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[string](script))
}

// Fetch returns what the address of a link answers to the session of the page.
func (p *Page) Fetch(link string) (string, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf("fetch(document.evaluate(%q, document, null, "+
		"XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue.href).then(a => a.text())", link),
		chromedp.EvalAwaitPromise))
}

// PNG returns a picture of the window.
func (p *Page) PNG() ([]byte, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// publicKeyPin returns the base64 of the SHA-256 of the service's public key.
func publicKeyPin(base string) (string, error) {
	u, err := url.Parse(base)
	if err != nil {
		return "", err
	}
	conn, err := tls.Dial("tcp", u.Host, &tls.Config{InsecureSkipVerify: true})
	if err != nil {
		return "", err
	}
	defer conn.Close()
	sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].RawSubjectPublicKeyInfo)
	return base64.StdEncoding.EncodeToString(sum[:]), nil
}
