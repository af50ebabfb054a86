package main

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"wladder/console/chromium"
	"wladder/demo"
)

// complaints gathers what the page writes to its console, and requests that fail.
type complaints struct {
	mu  sync.Mutex
	all []string
}

func (c *complaints) add(format string, args ...any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.all = append(c.all, fmt.Sprintf(format, args...))
}

func (c *complaints) taken() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	all := c.all
	c.all = nil
	return all
}

func (p page) listen() *complaints {
	c := &complaints{}
	messages := chromedp.Console(p.ctx)
	failed := chromedp.Events(p.ctx, network.LoadingFailed)
	got := chromedp.Events(p.ctx, network.ResponseReceived)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.Type == "error" || m.Type == "warning" || m.IsException() {
				c.add("%s (%s)", m, m.URL)
			}
		}
	}()
	go func() {
		for e, err := range failed {
			if err != nil {
				return
			}
			if !e.Canceled { // one that the page gave up itself when it was left
				c.add("a request failed: %s %s", e.Type, e.ErrorText)
			}
		}
	}()
	go func() {
		for e, err := range got {
			if err != nil {
				return
			}
			if e.Response.Status >= 400 {
				c.add("%d of %s", e.Response.Status, e.Response.URL)
			}
		}
	}()
	return c
}

// accessible has axe-core look for what shuts people out of the page as it is now.
func (p page) accessible(axe, at string) {
	p.t.Helper()
	if there, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](axe+"; typeof axe === 'object'")); err != nil || !there {
		p.t.Fatalf("axe does not load: %v", err)
	}
	p.until(`(() => {
		if (window.shutOut === undefined) {
			window.shutOut = null
			axe.run(document, {resultTypes: ['violations']}).then(r => { window.shutOut = JSON.stringify(r.violations.filter(v => v.impact === 'serious' || v.impact === 'critical').map(v => ({id: v.id, help: v.help, nodes: v.nodes.slice(0, 4).map(n => n.html.slice(0, 160) + ' ' + (n.failureSummary || '').slice(0, 200))}))) }, e => { window.shutOut = String(e) })
		}
		return window.shutOut !== null
	})()`)
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("(found => { delete window.shutOut; return found })(window.shutOut)"))
	if err != nil {
		p.t.Fatal(err)
	}
	var found []struct {
		ID, Help string
		Nodes    []string
	}
	if err := json.Unmarshal([]byte(text), &found); err != nil {
		p.t.Errorf("%s: axe says %s", at, text)
	}
	for _, f := range found {
		p.t.Errorf("%s: %s: %s:\n  %s", at, f.ID, f.Help, strings.Join(f.Nodes, "\n  "))
	}
}

// TestPages opens each page of the console in both appearances at three widths: nothing is written
// to the browser's console, no request fails, nothing scrolls sideways, each has its own title, and
// nothing shuts anybody out, as axe-core sees it, with what opens there open too.
func TestPages(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("%v: scripts/setup build brings it", err)
	}
	o := opened(t)
	if err := o.Past(t.Context(), demo.PastChanges, strings.NewReplacer()); err != nil {
		t.Fatal(err)
	}
	p := page{t: t, ctx: chromium.Open(t), url: o.URL}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url), chromedp.WaitVisible(chromedp.CSS("#name")))
	p.accessible(string(axe), "sign-in")
	heard := p.listen()
	const press = `(words => [...document.querySelectorAll('button')].findLast(b => b.innerText.trim().startsWith(words)).click())`
	type visit struct {
		name, path, ready string
		open              string // what is opened there: a margin, a dialogue, a menu
		opened            string
	}
	pages := map[string][]visit{"ines": {
		{"draft", "/draft", "document.querySelector('.cm-editor')", `(s => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, 'bulletin-pages'); s.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector('#where select'))`, "document.querySelector('#edits [type=search]')"},
		{"drafted", "/draft?change=6", "document.querySelector('.edit') && document.querySelector('.ladder')", `(s => { Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, s.options[1].value); s.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector('aside select'))`, "document.querySelector('aside .finding, aside .diff')"},
		{"written", "/draft?change=5&as=yaml", "document.querySelector('.cm-content .cm-line')", "", ""},
	}, "ada": {
		{"today", "/", "document.querySelectorAll('[data-ill]').length > 0", press + `('Ada Thorne')`, "document.querySelector('.menu-body')"},
		{"changes", "/changes", "document.querySelectorAll('tr[data-row-key]').length === 8", press + `('Go to')`, "document.querySelector('[role=dialog] [role=combobox]')"},
		{"draft", "/draft", "document.body.innerText.includes('Authors draft changes')", "", ""},
		{"change", "/changes/5", "document.querySelectorAll('[data-group]').length === 3", "", ""},
		{"climb", "/changes/3?host=entry-delta-01", "document.querySelector('aside h2')?.innerText === 'entry-delta-01'", press + `('Halt…')`, "document.querySelector('#halt-because')"},
		{"wall", "/changes/4?wall=yes", "document.querySelector('.wall time')", "", ""},
		{"gate", "/changes/4", "document.querySelectorAll('.checks li').length === 2", press + `('Stop, leaving')`, "document.querySelector('[role=dialog] textarea')"},
		{"findings", "/changes/6", "document.body.innerText.includes('out of range')", "", ""},
		{"hosts", "/hosts", "document.querySelectorAll('tr[data-host-row]').length === 36", press + `('Add a host')`, "document.querySelector('[role=dialog] #address')"},
		{"host", "/hosts/bulletin-upland-01", "document.querySelector('[data-service]')", press + `('Read its files now')`, "document.querySelector('button.fate') && (document.querySelector('button.fate').click(), document.querySelector('aside [aria-label=\"The value\"]'))"},
		{"services", "/services", "document.querySelectorAll('[data-service-row]').length === 3", press + `('Load a definition')`, "document.querySelector('[role=dialog] textarea')"},
		{"service", "/services/bulletin-pages", "document.querySelector('.settings')", press + `('Ask them now')`, "document.querySelector('.strip')"},
		{"definition", "/services/bulletin-pages?view=yaml", "document.querySelector('.file')", press + `('Edit it as')`, "document.querySelector('textarea')"},
		{"record", "/record", "document.querySelectorAll('[data-seq]').length === 50", press + `('Check all')`, "document.body.innerText.includes('It holds:')"},
		{"people", "/people", "document.body.innerText.includes('Secrets, by name') && document.body.innerText.includes('upload-token')", press + `('New account')`, "document.querySelector('[role=dialog] #display')"},
		{"docs", "/docs/console#host", "document.querySelector('.document h2')", "", ""},
		{"nowhere", "/nowhere", "document.querySelector('h1')?.innerText === 'Nothing is at this address'", "", ""},
	}}
	titles := map[string]string{}
	everyPage := func(appearance string, pages []visit) {
		p.until(fmt.Sprintf("localStorage.setItem('wladder.appearance', %q) === undefined", appearance))
		for _, of := range pages {
			p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url+of.path))
			p.until("!!(" + of.ready + ")")
			at := of.name + ", " + appearance
			title, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.title"))
			page, _, _ := strings.Cut(of.path, "?")
			if other, twice := titles[title]; err != nil || title == "Wide Ladder" || twice && other != page {
				t.Errorf("%s: its title is %q, as of %q (%v)", at, title, other, err)
			}
			titles[title] = page
			dark, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("getComputedStyle(document.body).backgroundColor === 'rgb(18, 24, 26)'"))
			if err != nil || dark != (appearance == "dark") {
				t.Errorf("%s: dark is %v (%v)", at, dark, err)
			}
			p.picture(of.name + "-" + appearance)
			look := func(at string) {
				for _, width := range []int64{1280, 900, 390} {
					at := fmt.Sprintf("%s, %d wide", at, width)
					p.do(chromedp.EmulateViewport(width, 800))
					time.Sleep(50 * time.Millisecond) // the layout follows within frames
					over, err := chromedp.Run(p.ctx, chromedp.Evaluate[int]("document.documentElement.scrollWidth - window.innerWidth"))
					if err != nil || over > 0 {
						t.Errorf("%s: it scrolls sideways by %d px (%v)", at, over, err)
					}
					p.accessible(string(axe), at)
				}
				p.do(chromedp.EmulateViewport(1280, 800))
			}
			look(at)
			if of.open != "" {
				p.until(of.open + " === undefined")
				p.until("!!(" + of.opened + ")")
				p.picture(of.name + "-opened-" + appearance)
				look(at + ", opened")
			}
			for _, text := range heard.taken() {
				t.Errorf("%s: %s", at, text)
			}
		}
	}
	for _, who := range []string{"ines", "ada"} {
		p.signIn(who)
		heard.taken() // nobody was signed in
		for _, appearance := range []string{"light", "dark"} {
			everyPage(appearance, pages[who])
		}
		if who != "ada" {
			p.until("localStorage.setItem('wladder.appearance', 'light') === undefined")
			p.signOut()
		}
	}
	// Whose sign-in ends elsewhere signs in again, and is where they were.
	p.do(chromedp.Navigate(p.url + "/hosts"))
	p.until("document.querySelectorAll('tr[data-host-row]').length === 36 && !!fetch('/api/v1/session', {method: 'DELETE'})")
	p.do(chromedp.WaitVisible(chromedp.CSS("#password")), chromedp.SendKeys(chromedp.CSS("#name"), "vic"), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"))
	p.until("document.querySelectorAll('tr[data-host-row]').length === 36 && document.body.innerText.includes('Vic Lund')")
}
