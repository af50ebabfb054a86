package main

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"wladder/console/chromium"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/demo"
	"wladder/standin"
)

// TestByHand takes a change through the browser alone, from a form to its roll-back: drafted,
// revised, rehearsed, commented on, approved by somebody else, climbed, with a host that fails and is
// restored, and put back.
func TestByHand(t *testing.T) {
	t.Parallel()
	o := opened(t)
	ctx := t.Context()
	if err := o.Set(ctx); err != nil {
		t.Fatal(err)
	}
	ines, err := o.As(ctx, "ines")
	if err == nil {
		_, err = ines.KeepForm(ctx, demo.File("story/form.yaml"))
	}
	if err != nil {
		t.Fatal(err)
	}
	o.Hosts["bulletin-coast-03"].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 3072"})
	p := page{t, chromium.Open(t), o.URL}
	heard := p.listen()
	p.signIn("ines")
	heard.taken() // nobody was signed in
	p.do(chromedp.Navigate(p.url+"/changes"), chromedp.Click(chromedp.CSS("a[href='/draft']"), chromedp.NodeVisible))
	// A text with something wrong is not drafted, and says where.
	p.says("line 1: title: is empty")
	p.until("[...document.querySelectorAll('button')].find(b => b.innerText === 'Draft it').disabled")
	// By its parts: what is chosen and typed stands in the text, and says what it comes to.
	p.choose("#where select", "bulletin-pages")
	p.choose("select[aria-label='Label role']", "bulletin")
	p.choose("select[aria-label='Label site']", "coast")
	p.says("8 hosts fit now")
	p.press("exactly these 8")
	p.do(chromedp.SendKeys(chromedp.CSS("#edits [type=search]"), "connections"))
	p.press("Ask hosts for its values now")
	p.until("document.querySelector('.found .strip')?.getAttribute('aria-label').includes('768 on')")
	p.press("Set it")
	p.choose(".edit label:nth-of-type(2) select", "compute")
	p.until("!!document.querySelector('.edit .cm-content')")
	p.do(chromedp.Click(chromedp.CSS(".edit .cm-content"), chromedp.NodeVisible), chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("min(cores * 1024, 3000"), chromedp.KeyEvent(")"))
	p.do(chromedp.SendKeys(chromedp.CSS("#why input"), "A draft by parts"), chromedp.SendKeys(chromedp.CSS("#why textarea"), "to see it"))
	p.says("Nothing is wrong with the text.")
	p.until("/^\\d+ on \\d/.test(document.querySelector('.comes')?.innerText)")
	p.until("document.querySelectorAll('#pace .ladder .rung').length === 3 && document.querySelectorAll('#pace .course rect').length === 3")
	// The diff on a host, by a copy that is read once.
	p.choose("aside select", "bulletin-coast-02")
	p.until("document.querySelector('aside .diff')?.innerText.includes('worker_connections')")
	p.says("By the copy read")
	p.until("(document.querySelector('#edits').scrollIntoView(), true)")
	p.picture("draft")
	p.press("Try it now")
	p.says("It answers")
	p.press("As YAML")
	p.until("document.querySelector('.cm-content')?.innerText.includes('{set: events/worker_connections, compute: \"min(cores * 1024, 3000)\"}')")
	p.until("document.querySelector('.cm-content')?.innerText.includes('where: labels.role == \"bulletin\" && labels.site == \"coast\"')")
	p.press("Throw it away")
	p.says("line 1: title: is empty")
	p.until("!!document.querySelector('.cm-lint-marker-error')")
	p.press("By its parts")
	// The form's blanks alone.
	p.until("(s => s.options.length === 2 && (s.value = 'connections', s.dispatchEvent(new Event('change', {bubbles: true})), true))(document.querySelector('select[aria-label=\"A form\"]'))")
	p.do(chromedp.WaitVisible(chromedp.CSS("#limit")), chromedp.SendKeys(chromedp.CSS("#limit"), "3072"))
	p.until("(s => (s.value = 'coast', s.dispatchEvent(new Event('change', {bubbles: true})), true))(document.querySelector('#site'))")
	p.press("Draft it")
	p.says("3072 connections for each worker at coast")
	p.says("Change 1 · draft")
	// A revision of the same, by text: somebody else's comes between.
	p.do(chromedp.Click(chromedp.CSS("a[href='/draft?revise=1']"), chromedp.NodeVisible))
	p.says("It fits 8 hosts")
	p.press("As YAML")
	p.do(chromedp.Click(chromedp.CSS(".cm-content"), chromedp.NodeVisible), chromedp.KeyEvent(kb.Home, chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("tick"))
	p.until("document.querySelector('.cm-tooltip-autocomplete li')?.innerText === 'ticket'")
	time.Sleep(200 * time.Millisecond) // the editor takes no key for a completion that nobody can have seen yet
	p.do(chromedp.KeyEvent(kb.Tab), chromedp.KeyEvent("FLO-2240\n"))
	d, err := ines.Change(ctx, 1)
	if err == nil {
		_, err = ines.Draft(ctx, 1, []byte(strings.Replace(d.Source, "refused connections", "refused many connections", 1)))
	}
	if err != nil {
		t.Fatal(err)
	}
	p.says("Nothing is wrong with the text.")
	p.press("Save as revision 2")
	p.says("ines wrote revision 2 of change 1 meanwhile")
	p.until("document.querySelector('.ant-alert pre')?.innerText.includes('refused many')")
	p.press("I took over what I want of revision 2")
	p.press("Save as revision 3")
	p.says("FLO-2240")
	p.press("Rehearse")
	p.says("Change 1 · rehearsed")
	p.press("Offer for review")
	p.says("Change 1 · offered")
	p.signOut()

	p.signIn("oda")
	p.do(chromedp.Click(chromedp.CSS("main a[href='/changes/1']"), chromedp.NodeVisible)) // it waits for her
	p.until("document.querySelectorAll('[data-group]').length === 1")
	p.until("!!document.querySelector('.hunk')")
	// By keys: the group, read, side by side, a comment on it.
	p.do(chromedp.KeyEvent("n"), chromedp.KeyEvent("m"))
	p.says("1 of 1 group read")
	p.do(chromedp.KeyEvent("s"))
	p.until("document.querySelectorAll('.diff.beside .pair').length > 3")
	p.do(chromedp.KeyEvent("c"), chromedp.WaitVisible(chromedp.CSS("#say")), chromedp.SendKeys(chromedp.CSS("#say"), "The same as last year."))
	p.press("Comment")
	p.says("on a diff group")
	p.press("Approve for 8 hosts")
	p.says("Change 1 · approved")
	p.signOut()

	p.signIn("ines")
	p.do(chromedp.Navigate(p.url + "/changes/1"))
	p.press("Let it climb: 8 hosts")
	p.says("This changes 8 hosts, stage by stage.")
	p.press("Let it climb: 8 hosts")
	p.says("Change 1 · completed")
	p.until("document.querySelectorAll('.cell[data-state=done]').length === 7 && document.querySelectorAll('.cell[data-state=restored]').length === 1")
	// To the failed host's reason, from the start page: one press.
	p.do(chromedp.Navigate(p.url + "/"))
	p.until("!!document.querySelector('[data-ill=restored] a')")
	p.do(chromedp.Click(chromedp.CSS("[data-ill=restored] a"), chromedp.NodeVisible))
	p.until("document.querySelector('aside h2')?.innerText === 'bulletin-coast-03' && document.querySelector('aside')?.innerText.includes('status 500')")
	p.until("location.search === '?host=bulletin-coast-03'")
	p.until("document.querySelector('aside')?.innerText.includes('latest bulletin: well, status 200')") // before
	p.until("document.querySelector('aside')?.innerText.includes('→ not well, status 500')")
	p.until("document.querySelectorAll('.course svg').length === 2")
	p.until("/latest bulletin: [0-9.]+ ms before, [0-9.]+ ms after/.test(document.querySelector('.course [aria-label*=\"ms before\"]')?.getAttribute('aria-label'))")
	p.picture("restored")
	p.press("Roll back 7 hosts")
	p.do(chromedp.WaitVisible(chromedp.CSS("[role=dialog] textarea")), chromedp.SendKeys(chromedp.CSS("[role=dialog] textarea"), "enough for this year"))
	p.press("Roll back 7 hosts")
	d, err = demo.Until(ctx, ines, 1, func(d view.ChangeDetail) bool { return d.Climb.RollsBack && d.Climb.State.Final() })
	if err != nil || d.Counts[ladder.Done] != 7 {
		t.Errorf("rolled back: %v, %v", d.Counts, err)
	}
	p.says("Roll-back: completed")
	for name, h := range o.Hosts {
		if data, _ := h.Files.Read("/etc/nginx/nginx.conf"); strings.Contains(string(data), "worker_connections 3072") {
			t.Errorf("%s has the new file still", name)
		}
	}
	// Somebody edits a file past us: it is shown beside what was left, and put back as a change.
	edited := o.Hosts["bulletin-coast-01"].Files
	text, _ := edited.Read("/etc/nginx/nginx.conf")
	edited.Write("/etc/nginx/nginx.conf", []byte(strings.Replace(string(text), "worker_connections 768", "worker_connections 999", 1)))
	p.do(chromedp.Navigate(p.url + "/hosts/bulletin-coast-01"))
	p.press("Look now")
	p.says("was edited since")
	p.press("What differs")
	p.until("/worker_connections 768[^]*worker_connections 999/.test(document.querySelector('aside .diff')?.innerText)")
	p.picture("drift")
	p.press("Draft a change that puts it back")
	p.says("Put /etc/nginx/nginx.conf back on bulletin-coast-01")
	p.do(chromedp.Navigate(p.url + "/hosts/bulletin-coast-01"))
	p.press("Have it stay so")
	p.do(chromedp.WaitVisible(chromedp.CSS("[role=dialog] textarea")), chromedp.SendKeys(chromedp.CSS("[role=dialog] textarea"), "a trial until Monday"))
	p.press("Have it stay so")
	p.says("All files are as they were left, and in force.")
	p.says("has /etc/nginx/nginx.conf on bulletin-coast-01 stay as it stands: a trial until Monday")
	p.do(chromedp.Navigate(p.url + "/record?by=ines&change=1"))
	p.says("Ines Vael had all hosts of change 1 put back, the newest stage first: enough for this year")
	for _, text := range heard.taken() {
		if !strings.Contains(text, "412") && !strings.Contains(text, "/session") { // somebody came between; nobody was signed in
			t.Error(text)
		}
	}
	if n := len(o.Hosts); n != 36 {
		t.Error(fmt.Sprint(n, " hosts"))
	}
}
