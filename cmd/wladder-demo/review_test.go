package main

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wladder/console/chromium"
	"wladder/core/change"
	"wladder/core/view"
	"wladder/demo"
	"wladder/standin"
)

// TestReviewInConsole takes a plan through its review in the browser, under a policy: a warning
// acknowledged, a line commented on, answered and settled, two approvals, and one withdrawn.
func TestReviewInConsole(t *testing.T) {
	t.Parallel()
	o := opened(t)
	ctx := t.Context()
	if err := o.Set(ctx); err != nil {
		t.Fatal(err)
	}
	ada, err := o.As(ctx, "ada")
	if err != nil {
		t.Fatal(err)
	}
	asked, err := ada.LoadPolicy(ctx, demo.File("story/policy.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	ben, err := o.As(ctx, "ben")
	if err == nil {
		err = ben.Decide(ctx, asked.Request, true)
	}
	if err != nil {
		t.Fatal(err)
	}
	o.Hosts["bulletin-coast-03"].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 768"})
	ines, err := o.As(ctx, "ines")
	if err == nil {
		_, err = ines.KeepForm(ctx, demo.File("story/form.yaml"))
	}
	var id int64
	if err == nil {
		id, err = ines.DraftForm(ctx, "connections", map[string]string{"limit": "3072", "site": "coast"})
	}
	if err == nil {
		err = ines.Rehearse(ctx, id)
	}
	if err == nil {
		_, err = demo.Until(ctx, ines, id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
	}
	if err == nil {
		err = ines.Offer(ctx, id)
	}
	if err != nil {
		t.Fatal(err)
	}
	p := page{t, chromium.Open(t), o.URL}
	at := func(name string) {
		p.signIn(name)
		p.do(chromedp.Navigate(p.url + "/changes/1"))
		p.says("Review")
	}
	leave := func() {
		p.signOut()
	}
	at("oda")
	p.says("It lacks 2 approvals from gauges")
	p.says(`No host starts now: the freeze "warning exercise" lasts until Thu 2099-01-01 08:00 CET`)
	p.press("Approve for 8 hosts")
	p.says("1 of the warnings of change 1 wait to be acknowledged")
	p.press("Acknowledge")
	p.until("document.querySelectorAll('[data-warning]').length === 0")
	p.press("Approve for 8 hosts")
	p.says("It lacks 1 more approval from gauges")
	p.until("![...document.querySelectorAll('button')].some(b => b.innerText.startsWith('Approve for'))")
	leave()
	at("kai")
	p.until("(b => !!b && (b.click(), true))(document.querySelector('.diff button[aria-label=\"Comment on line 7 as it would be\"]'))")
	p.says("Comment on /etc/nginx/nginx.conf:7")
	p.do(chromedp.SendKeys(chromedp.CSS("#say"), "Does the open-files limit allow that?"))
	p.press("Comment")
	p.until("document.querySelector('.thread.open pre')?.innerText.includes('+\\tworker_connections 3072;')")
	p.says("or press the mark of a line in a diff")
	leave()
	at("ines")
	p.says("Approve alone, in an emergency")
	p.press("Answer")
	p.do(chromedp.SendKeys(chromedp.CSS("textarea[aria-label=Answer]"), "It is 4096 there."))
	p.press("Answer") // the last one
	p.until("document.querySelectorAll('.thread .answer').length === 1")
	p.until("(t => (t.scrollIntoView({ block: 'center' }), true))(document.querySelector('.thread'))")
	p.picture("review")
	p.press("Settle")
	p.says("settled by ines")
	leave()
	at("kai")
	p.press("Approve for 8 hosts")
	p.says("Change 1 · approved")
	p.press("Withdraw my approval")
	p.do(chromedp.SendKeys(chromedp.CSS(".ant-modal textarea"), "I have read it again"))
	p.press("Withdraw my approval")
	p.says("Change 1 · offered")
	p.says("Approval withdrawn")
	p.until("document.documentElement.scrollWidth <= window.innerWidth")
	d, err := ines.Change(ctx, id)
	if err != nil || d.State != change.Offered || len(d.Review.Comments) != 2 || len(d.Review.Acknowledged) != 1 || !strings.Contains(strings.Join(d.Review.Missing, " "), "1 more approval") {
		t.Errorf("%v: the server says %s, %+v", err, d.State, d.Review)
	}
}
