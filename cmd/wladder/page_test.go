package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/performance"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"golang.org/x/time/rate"

	"wladder/console/chromium"
	"wladder/core/change"
	"wladder/core/definition"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/core/written"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
)

var fluid = flag.Int("fluid", 600, "over so many hosts TestFluidPages measures the pages; the figures in docs/performance.md are of 10000")

const pagesOfAll = `
service: pages
title: Bulletin pages
where: labels.role == "bulletin"
unit: nginx.service
files: {main: {format: nginx, paths: {debian: /etc/nginx/nginx.conf}}}
acts: [{name: reload, command: [systemctl, reload, nginx.service]}]
in-force: {ask: unit nginx.service, expect: state == "active"}
settle: 1s
`

// works is the server that works on hosts, as far as the database can tell: drive.
var works = store.Server{Name: "works", Scripts: []string{"scripts"}, Lease: time.Minute}

// withEvents serves a database as serve does, with an engine that tells of what happens, and a
// rehearsed change over so many hosts: a definition in force, on which its plan rests, among it.
func withEvents(t *testing.T, hosts int) (url string, st *store.Store, id int64) {
	st = opened(t)
	err := st.AddAccount(t.Context(), "setup", view.Account{Name: "oda", Display: "Oda Marsh", Roles: []string{"reviewer"}}, "a long password")
	if err != nil {
		t.Fatal(err)
	}
	svc, err := definition.Stored("pages", written.Names, []byte(pagesOfAll))
	if err == nil {
		if _, err = st.LoadService(t.Context(), "ada", svc); err == nil {
			err = st.ApproveService(t.Context(), "ben", "pages", svc.Digest)
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	id = rehearsedOver(t, st, hosts, svc.Digest) // before an engine is there, which would rehearse it
	e := engine.New(engine.Config{Store: st, Dialer: engine.Over(&host.Dialer{})})
	ctx, stop := context.WithCancel(t.Context())
	var running sync.WaitGroup
	there := make(chan struct{})
	running.Go(func() { st.Present(ctx, works, func() { close(there) }, func() {}) }) // so that the engine leaves its plans alone
	<-there
	running.Go(func() { e.Run(ctx) })
	t.Cleanup(func() { stop(); running.Wait() })
	return serving(t, st, e), st, id
}

// seenFrom notes, in each page that is opened: when its work was there first, the longest task until
// a second later, the longest one from then on, and how often what it says has changed.
const seenFrom = `
window.measured = {there: 0, opening: 0, longest: 0, updates: 0};
new PerformanceObserver(l => l.getEntries().forEach(e => {
	const at = measured.there && e.startTime > measured.there + 1000 ? 'longest' : 'opening';
	measured[at] = Math.max(measured[at], e.duration);
})).observe({type: 'longtask', buffered: true});
new MutationObserver(all => {
	if (!measured.there && document.querySelector('.ladder, [data-group]')) measured.there = performance.now();
	if (all.some(m => m.target.parentElement?.closest?.('.ladder, .legend'))) measured.updates++;
}).observe(document, {subtree: true, childList: true, characterData: true});
`

type measured struct {
	There, Opening, Longest float64 // ms
	Updates                 int
	Answer, Heap            float64 // bytes
}

func measure(t *testing.T, ctx context.Context, id int64) (m measured) {
	t.Helper()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](fmt.Sprintf(`JSON.stringify({...measured, answer: performance.getEntriesByType('resource').find(e => e.name.endsWith('/api/v1/changes/%d'))?.decodedBodySize ?? 0})`, id)))
	if err == nil {
		err = json.Unmarshal([]byte(text), &m)
	}
	if err != nil {
		t.Fatal(err)
	}
	got, err := chromedp.Call(ctx, performance.GetMetrics, cdp.Empty{})
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range got.Metrics {
		if one.Name == "JSHeapUsedSize" {
			m.Heap = one.Value
		}
	}
	return m
}

// TestFluidPages opens a rehearsed change and a climb of very many hosts, while 200 events a second
// come in: what is shown is what the database has, and the first answer stays small. Times are
// logged; they are of the machine.
func TestFluidPages(t *testing.T) {
	ctx := chromium.Open(t)
	url, st, id := withEvents(t, *fluid)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("#name")),
		chromedp.SendKeys(chromedp.CSS("#name"), "tam"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r"), chromedp.WaitVisible(chromedp.CSS(".bar"))))
	_, err := chromedp.Call(ctx, performance.Enable, performance.EnableParams{})
	must(err)
	_, err = chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: seenFrom})
	must(err)
	at := fmt.Sprintf("%s/changes/%d", url, id)
	say := func(what string, m measured) {
		t.Helper()
		t.Logf("%d hosts, %s: first content after %.0f ms, longest task %.0f ms while opening and %.0f ms later, first answer %.0f kB, heap %.1f MB, %d updates", *fluid, what, m.There, m.Opening, m.Longest, m.Answer/1000, m.Heap/1e6, m.Updates)
		if m.Answer == 0 || m.Answer > 300_000 {
			t.Errorf("%s: the first answer has %.0f bytes", what, m.Answer)
		}
	}
	opened := func(what string) {
		t.Helper()
		var all []float64
		for range 5 {
			must(chromedp.Do(ctx, chromedp.Navigate(at), chromedp.WaitVisible(chromedp.CSS(what))))
			all = append(all, measure(t, ctx, id).There)
		}
		slices.Sort(all)
		t.Logf("%s is there after %.0f ms (median of five; %.0f to %.0f)", what, all[2], all[0], all[4])
	}
	opened("[data-group]")
	time.Sleep(1200 * time.Millisecond)
	for range 8 {
		must(chromedp.Do(ctx, chromedp.KeyEvent("n")))
	}
	_, err = chromedp.Run(ctx, chromedp.Poll[bool]("document.querySelectorAll('.diff').length >= 7", chromedp.WithPollingTimeout(time.Minute)))
	must(err)
	say("diff groups, each opened by its key", measure(t, ctx, id))

	d, err := st.Change(t.Context(), id)
	must(err)
	must(st.Offer(t.Context(), "ines", id))
	for _, w := range d.Review.Open {
		must(st.Acknowledge(t.Context(), "oda", id, d.Rehearsal.Digest, w, ""))
	}
	must(st.Judge(t.Context(), "oda", id, d.Rehearsal.Digest, change.Approval, ""))
	_, err = st.StartClimb(t.Context(), "tam", id, "scripts")
	must(err)

	// Hosts go through their states as a server writes them, 200 entries of the record a second.
	driving, stop := context.WithCancel(t.Context())
	var events atomic.Int64
	driven := make(chan error, 1)
	go func() { driven <- drive(driving, st, id, &events) }()
	t.Cleanup(stop)
	for patience := time.After(30 * time.Second); d.Counts[ladder.Done] < 150; {
		select {
		case err := <-driven:
			t.Fatalf("after %v: %v", d.Counts, err)
		case <-patience:
			t.Fatalf("%v: %s, %s", d.Counts, d.Climb.State, d.Climb.Why)
		case <-time.After(50 * time.Millisecond):
		}
		d, err = st.Change(t.Context(), id)
		must(err)
	}
	opened(".ladder")
	before, began := events.Load(), time.Now()
	time.Sleep(time.Duration(max(2, *fluid/1000)) * time.Second) // the length of the measurement
	say(fmt.Sprintf("climb, with %.0f events a second", float64(events.Load()-before)/time.Since(began).Seconds()), measure(t, ctx, id))
	stop()
	must(<-driven)
	d, err = st.Change(t.Context(), id)
	must(err)
	shown := fmt.Sprintf("document.querySelector('.legend')?.innerText.includes('%d done')", d.Counts[ladder.Done])
	if _, err := chromedp.Run(ctx, chromedp.Poll[bool](shown, chromedp.WithPollingTimeout(time.Minute))); err != nil {
		text, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('.legend')?.innerText"))
		t.Errorf("the page counts %q; the database has %v", text, d.Counts)
	}
}

// drive takes the hosts of a climb through their states, as a server does that works on them.
func drive(ctx context.Context, st *store.Store, id int64, events *atomic.Int64) error {
	pace := rate.NewLimiter(200, 20)
	write := func(c *store.Claimed, p store.Progress) error {
		if pace.Wait(ctx) != nil {
			return nil
		}
		events.Add(1)
		err := st.Write(context.WithoutCancel(ctx), c, p)
		c.Run = p.Run
		return err
	}
	for ctx.Err() == nil {
		some, err := st.Advance(context.WithoutCancel(ctx), works, 20)
		if err != nil {
			return err
		}
		events.Add(int64(len(some)))
		for _, c := range some {
			soaking, done := c.Run, c.Run
			soaking.State, soaking.Step = ladder.Soaking, ladder.Soak
			done.State, done.Step, done.Files, done.Process = ladder.Done, "", ladder.FilesNew, ladder.ProcessNew
			if err := write(c, store.Progress{Run: soaking, Begin: time.Now()}); err != nil {
				return err
			}
			if err := write(c, store.Progress{Run: done}); err != nil {
				return err
			}
		}
		if len(some) == 0 {
			d, err := st.Change(context.WithoutCancel(ctx), id)
			if err == nil && d.Climb.State == ladder.Waiting {
				err = st.Order(context.WithoutCancel(ctx), "tam", id, ladder.Resume, "looked at", "scripts")
			}
			if err != nil {
				return err
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	return nil
}

// TestJudgedChange has a reviewer judge a change of a thousand hosts from signing in to approving it,
// and counts what that takes. All that a reviewer has to see was inside the window by then.
func TestJudgedChange(t *testing.T) {
	ctx := chromium.Open(t)
	url, st, id := withEvents(t, 1000)
	must := func(err error) {
		t.Helper()
		if err != nil {
			shot, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
			t.Fatalf("%v; the page says:\n%s", err, shot)
		}
	}
	must(st.Offer(t.Context(), "ines", id))
	clicks, keys, screens := 0, 0, 0
	until := func(what string) {
		t.Helper()
		_, err := chromedp.Run(ctx, chromedp.Poll[bool](what, chromedp.WithPollingTimeout(30*time.Second)))
		must(err)
	}
	key := func(k string) {
		t.Helper()
		keys++
		must(chromedp.Do(ctx, chromedp.KeyEvent(k)))
	}
	click := func(what string) {
		t.Helper()
		clicks++
		until("(e => !!e && !e.disabled && e.click() === undefined)(" + what + ")")
	}
	button := func(words string) string {
		return fmt.Sprintf("[...document.querySelectorAll('button')].find(b => b.innerText.startsWith(%q))", words)
	}
	must(chromedp.Do(ctx, chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("#name")), chromedp.SendKeys(chromedp.CSS("#name"), "oda"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r")))
	click(fmt.Sprintf("document.querySelector(\"main a[href='/changes/%d']\")", id)) // it waits for her
	until("document.querySelectorAll('[data-group]').length === 8")
	until(`(() => {
		window.inSight = new Set()
		const eyes = new IntersectionObserver(all => all.forEach(e => e.isIntersecting && inSight.add(e.target)), {threshold: 0.6})
		window.toSee = () => [...document.querySelectorAll('[data-group] > header, [data-group] > .differs, .finding.veto, .finding.warn, .ladder text, table.probes tbody tr')]
		setInterval(() => toSee().forEach(e => eyes.observe(e)), 50)
		return true
	})()`)
	look := func() {
		screens++
		time.Sleep(150 * time.Millisecond) // a frame is drawn, and seen
	}
	look()
	key(kb.PageDown) // the plan does not end on the first screen
	look()
	for range 8 {
		key("n")
		look()
		key("m")
	}
	until("document.body.innerText.includes('8 of 8 groups read')")
	click("document.querySelector('.words a[href=\"#review\"], .words button:nth-of-type(4)')")
	look()
	for {
		n, err := chromedp.Run(ctx, chromedp.Evaluate[int]("[...document.querySelectorAll('button')].filter(b => b.innerText.trim() === 'Acknowledge').length"))
		must(err)
		if n == 0 {
			break
		}
		click(button("Acknowledge"))
		until(fmt.Sprintf("[...document.querySelectorAll('button')].filter(b => b.innerText.trim() === 'Acknowledge').length < %d", n))
	}
	unseen, err := chromedp.Run(ctx, chromedp.Evaluate[string]("toSee().filter(e => !inSight.has(e)).map(e => e.outerHTML.slice(0, 200)).join('\\n')"))
	must(err)
	n, err := chromedp.Run(ctx, chromedp.Evaluate[int]("toSee().length"))
	must(err)
	if unseen != "" || n < 25 {
		t.Errorf("of %d parts these were never in sight:\n%s", n, unseen)
	}
	click(button("Approve for 999 hosts"))
	until("document.body.innerText.includes('It has the approvals that policy wants.')")
	t.Logf("%d parts seen; %d clicks, %d keys, %d screens", n, clicks, keys, screens)
}
