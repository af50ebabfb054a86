package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	// What the programs under test are built from, so that a result is not
	// taken from the test cache when one of these has changed.
	_ "wladder/api"
	"wladder/client"
	_ "wladder/console"
	"wladder/console/chromium"
	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/demo"
	_ "wladder/store/postmaster"
)

var pictures = flag.String("pictures", "", "keep a picture of each page in this directory")

// nets counts the demos of this process: each has a loopback network of its own.
// The tour and the demo that people start have 71 and 72.
var nets atomic.Int32

// opened is a demo of the test's own: real server, real PostgreSQL, stand-in
// hosts, and a real browser before it.
func opened(t *testing.T) *office {
	t.Helper()
	second := 72 + int(nets.Add(1))
	bin := t.TempDir()
	sources, _ := filepath.Glob("../wladder*/*.go")
	for _, name := range sources {
		os.ReadFile(name) // the test cache notes what is read
	}
	build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", bin, "wladder/cmd/wladderd", "wladder/cmd/wladder")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	dir, err := os.MkdirTemp("", "wladder-test-") // t.TempDir lets PostgreSQL's account not in
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	os.Chmod(dir, 0o711)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listen := free.Addr().String()
	free.Close()
	o := &office{dir: dir, bin: bin}
	if err := o.start(t.Context(), listen, second); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(o.close)
	return o
}

// page drives the browser and fails the test where it cannot.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

func (p page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, steps...); err != nil {
		shot, _ := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
		name := filepath.Join(os.TempDir(), "wladder-console-failed.png")
		os.WriteFile(name, shot, 0o644)
		p.t.Fatalf("%v; the page is in %s", err, name)
	}
}

// until waits for a JavaScript expression to be true.
func (p page) until(expression string) {
	p.t.Helper()
	if _, err := chromedp.Run(p.ctx, chromedp.Poll[bool](expression, chromedp.WithPollingTimeout(60*time.Second))); err != nil {
		text, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("waiting for %s: %v; the page says:\n%s", expression, err, text)
	}
}

func (p page) says(text string) {
	p.t.Helper()
	p.until(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// arrives waits for a JavaScript expression on a page of another address, on the way to which what
// is asked may be lost.
func (p page) arrives(expression string) {
	p.t.Helper()
	for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		found, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool]("document.readyState === 'complete' && !!("+expression+")"))
		if found {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("waiting for %s: %v", expression, err)
		}
	}
}

// press clicks the button with these words.
func (p page) press(words string) {
	p.t.Helper()
	button := fmt.Sprintf("[...document.querySelectorAll('button')].findLast(b => b.innerText.trim() === %q)", words)
	p.until("(b => !!b && !b.disabled && !b.classList.contains('ant-btn-loading'))(" + button + ")") // one that waits for an answer takes no click
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](button+".click() === undefined")); err != nil {
		p.t.Fatal(err)
	}
}

// choose picks an option of a select, as a person would.
func (p page) choose(selector, value string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`(s => !!s && [...s.options].some(o => o.value === %[2]q) && (Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, %[2]q), s.dispatchEvent(new Event('change', {bubbles: true}))))(document.querySelector(%[1]q))`, selector, value))
}

func (p page) signIn(name string) {
	p.t.Helper()
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url), chromedp.WaitVisible(chromedp.CSS("#name")),
		chromedp.SendKeys(chromedp.CSS("#name"), name), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"))
	p.until("!!document.querySelector('.bar')")
}

// signOut does so by the menu of one's name.
func (p page) signOut() {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.CSS(".bar > .menu > button"), chromedp.NodeVisible))
	p.press("Sign out")
	p.do(chromedp.WaitVisible(chromedp.CSS("#name")))
}

func (p page) picture(name string) {
	p.t.Helper()
	if *pictures == "" {
		return
	}
	shot, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	if err == nil {
		err = os.WriteFile(filepath.Join(*pictures, name+".png"), shot, 0o644)
	}
	if err != nil {
		p.t.Fatal(err)
	}
}

func TestConsole(t *testing.T) {
	t.Parallel()
	p := page{t: t, ctx: chromium.Open(t)}
	o := opened(t)
	p.url = o.URL
	ctx := t.Context()
	if err := o.Past(ctx, demo.PastChanges, strings.NewReplacer()); err != nil {
		t.Fatal(err)
	}
	ines, err := o.As(ctx, "ines")
	if err != nil {
		t.Fatal(err)
	}
	const id = 5 // on offer, of those that the demo begins with

	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url), chromedp.WaitVisible(chromedp.CSS("#name")))
	p.picture("sign-in")
	p.signIn("oda")
	p.do(chromedp.Navigate(p.url + "/changes"))
	p.says("it is paused: an operator resumes, stops or rolls it back")
	p.until("document.querySelectorAll('tbody tr[data-row-key]').length === 8")
	p.picture("changes")
	p.do(chromedp.Click(chromedp.CSS("a[href='/changes/5']"), chromedp.NodeVisible))
	p.says("events/worker_connections: 768 → 4096")
	p.until("document.querySelectorAll('[data-group]').length === 3")
	p.until("document.querySelector('.diff .plus u')?.innerText === '2048' || document.querySelector('.diff .plus u')?.innerText === '4096'")
	p.picture("change")
	p.press("Three hosts at random")
	p.until("document.querySelectorAll('[data-whole] .diff .plus').length === 3")
	p.until("[...document.querySelectorAll('[data-whole] .fold button')].map(b => b.click()).length > 0")
	p.says("server_name") // far from what changes
	// Any other, by its name.
	p.until("(i => !!i && (i.focus(), true))(document.querySelector('.whole:has([data-whole]) input'))")
	p.do(chromedp.KeyEvent("bulletin-delta-02\r"))
	p.until("[...document.querySelectorAll('[data-whole]')].map(e => e.dataset.whole).join() === 'bulletin-delta-02'")
	p.press("Approve for 24 hosts")
	p.says("Change 5 · approved")
	p.signOut()

	p.signIn("ines")
	p.do(chromedp.Navigate(p.url + "/changes/5"))
	p.press("Let it climb: 24 hosts")
	p.says("This changes 24 hosts, stage by stage.")
	p.press("Let it climb: 24 hosts") // in the dialogue: the last one
	p.until("document.querySelectorAll('.cell').length === 24")
	p.until("document.querySelectorAll('.cell[data-state=done]').length >= 6 && document.querySelectorAll('.cell[data-state=working], .cell[data-state=soaking]').length > 2")
	p.until("document.querySelectorAll('.cell[data-state=restored]').length === 1")
	p.says("status 500")
	p.picture("climb")
	p.says("Change 5 · completed")
	p.until("document.querySelectorAll('.cell[data-state=done]').length === 23")
	p.says("status 500")
	// By keyboard: another host, and back.
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`document.querySelector("[data-host='bulletin-upland-01']").focus() === undefined`)); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.KeyEvent("\r"))
	p.until("document.querySelector('aside h2')?.innerText === 'bulletin-upland-01'")
	p.says("the host shows its pinned key")
	p.picture("climbed")
	d, err := ines.Change(ctx, id)
	if err != nil || d.State != change.Completed || d.Counts[ladder.Restored] != 1 || d.Counts[ladder.Done] != 23 {
		t.Errorf("the server says %s, %v, %v", d.State, d.Counts, err)
	}
	p.until("document.documentElement.scrollWidth <= window.innerWidth")
	p.do(chromedp.Navigate(p.url + "/changes/4"))
	p.says("Climb: waiting, at the gate before stage 2")
	p.says("bulletin-coast-04")
	p.says("Before stage 2, look at")
	p.picture("gate")
	p.press("Stop, leaving 16 hosts out")
	p.says("16 hosts will stay as they are; those that are done stay. Stop?")
	p.press("Cancel")
	p.do(chromedp.Navigate(p.url + "/changes/6"))
	p.says("/etc/gauge-intake/intake.ini:7: intake/max_gauges: 5000 is out of range; want 1 to 500 gauges")
	p.picture("findings")
	p.do(chromedp.Navigate(p.url + "/changes/7"))
	p.says("store/upload_token: added, ‹secret›")
	p.says("50-limits.conf: new, root:root, mode 644")
	p.picture("secret")
	p.do(chromedp.Navigate(p.url + "/changes/8"))
	p.says("gauge-intake, then bulletin-pages on hosts with")
	p.says("intake/poll_seconds: 30 → 180")
	source, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.documentElement.outerHTML"))
	if err != nil {
		t.Fatal(err)
	}
	log, _ := os.ReadFile(filepath.Join(o.dir, "wladderd.log"))
	for place, text := range map[string]string{"the page's source": source, "the server's log": string(log)} {
		if strings.Contains(text, demo.UploadToken) {
			t.Errorf("%s holds a secret", place)
		}
	}
	p.do(chromedp.Navigate(p.url+"/changes/4"), chromedp.EmulateViewport(420, 800))
	p.says("Climb: waiting")
	p.picture("narrow")
	p.until("document.documentElement.scrollWidth <= window.innerWidth")
}

// TestPeople has two admins agree on a third, and keep somebody out.
func TestPeople(t *testing.T) {
	t.Parallel()
	o := opened(t)
	ctx := t.Context()
	ada, err := o.As(ctx, "ada")
	if err != nil {
		t.Fatal(err)
	}
	if out, err := ada.AddAccount(ctx, view.NewPerson{Name: "cleo", Display: "Cleo Marr", Roles: []string{"operator", "admin"}, Password: "first of three"}); err != nil || out.Request == 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	if _, err := ada.ChangeAccount(ctx, "ines", view.PersonChange{Roles: &[]string{"author", "operator", "admin"}}); err != nil {
		t.Fatal(err)
	}
	p := page{t, chromium.Open(t), o.URL}
	p.signIn("ben")
	p.do(chromedp.Navigate(p.url + "/people"))
	p.says("cleo (Cleo Marr) is to have the roles operator, admin")
	p.says("Cleo Marr")
	p.says("has to change the password")
	p.picture("people")
	p.press("Refuse") // the last one: ines
	p.until("document.querySelectorAll('.request').length === 1")
	p.press("Agree")
	p.says("Nothing waits for a second admin.")
	p.until("[...document.querySelectorAll('tr')].some(r => r.innerText.includes('cleo') && r.innerText.includes('operator, admin'))")
	p.until("![...document.querySelectorAll('tr')].some(r => r.innerText.includes('ines') && r.innerText.includes('admin'))")
	if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`[...document.querySelectorAll('tr')].find(r => r.innerText.includes('ines')).querySelector('button:last-of-type').click() === undefined`)); err != nil {
		t.Fatal(err)
	}
	p.says("What they have started goes on.")
	p.until("document.documentElement.scrollWidth <= window.innerWidth")
	p.press("Keep out")
	p.says("kept out")
	// An account, roles and a token, as an admin makes them here.
	fill := func(field, text string) {
		p.do(chromedp.WaitVisible(chromedp.CSS("#"+field)), chromedp.SendKeys(chromedp.CSS("#"+field), text))
	}
	tick := func(role string) {
		p.until(fmt.Sprintf("[...document.querySelectorAll('.ant-modal label')].some(l => l.innerText.startsWith(%q) && (l.click(), true))", role))
	}
	p.press("New account")
	fill("name", "kit")
	fill("display", "Kit Rowe")
	fill("password", "tide")
	tick("author")
	p.press("Make the account")
	p.says("characters") // the server's word on the password
	p.picture("person")
	fill("password", " and river and rain")
	p.press("Make the account")
	p.until("[...document.querySelectorAll('tr')].some(r => r.innerText.includes('Kit Rowe') && r.innerText.includes('author'))")
	p.until("(b => b && (b.click(), true))([...document.querySelectorAll('tr')].find(r => r.innerText.includes('Kit Rowe')).querySelector('button'))")
	p.says("New password, where they have lost theirs")
	tick("admin")
	p.press("Save")
	p.says("Another admin has to agree before that is so for Kit Rowe.")
	p.says("kit is to have the roles author, admin")
	p.press("Make a token")
	fill("label", "the duty board")
	p.picture("token")
	p.press("Make the token")
	p.says("It is shown this once.")
	p.until("/^wl_/.test(document.querySelector('.ant-modal code')?.innerText)")
	p.press("I have kept it")
	p.says("Token “the duty board”")
	p.says("reads, ends on")
	// Another policy, by who may ask for one.
	p.press("Write another policy")
	p.do(chromedp.SendKeys(chromedp.CSS("#policy textarea"), "bogus: 1\n"))
	p.press("Ask a second admin to agree")
	p.says("bogus")
	p.do(chromedp.Click(chromedp.CSS("#policy textarea")), chromedp.KeyEvent("a", chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent("approvals: [{needs: 2}]\n"))
	p.press("Ask a second admin to agree")
	p.says("Another admin has to agree. You may take it back.")
	p.signOut()
	// Whose password somebody else knows sees nothing but how to change it.
	p.do(chromedp.SendKeys(chromedp.CSS("#name"), "cleo"), chromedp.SendKeys(chromedp.CSS("#password"), "first of three\r"))
	p.says("Somebody else knows your password.")
	p.do(chromedp.SendKeys(chromedp.CSS("#old"), "first of three"), chromedp.SendKeys(chromedp.CSS("#next"), "levels rise at noon\r"))
	p.until("!document.body.innerText.includes('Somebody else knows')")
	p.do(chromedp.Navigate(p.url+"/people"), chromedp.EmulateViewport(420, 800))
	p.says("Ada Thorne")
	p.until("document.documentElement.scrollWidth <= window.innerWidth")
}

// TestDirectoryInBrowser signs people in with the stand-in directory: in the console, and in a
// terminal whose code a browser elsewhere types.
func TestDirectoryInBrowser(t *testing.T) {
	t.Parallel()
	o := opened(t)
	p := page{t, chromium.Open(t), o.URL}
	with := "[...document.querySelectorAll('a')].find(a => a.innerText.startsWith('Sign in with'))"
	choose := func(who string) {
		p.arrives(`document.body.innerText.includes("It only pretends")`)
		p.press(who)
	}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(p.url))
	p.says("Sign in with the office's directory")
	p.picture("sign-in")
	p.until("(a => a && (a.click(), true))(" + with + ")")
	p.arrives(`document.body.innerText.includes("Who are you?")`)
	p.picture("directory")
	choose("A guest")
	p.arrives(`document.body.innerText.includes("none of your groups gives you a role here")`)
	p.picture("turned-away")
	p.do(chromedp.Navigate(p.url + "/hosts?labels=none"))
	p.until("(a => a && (a.click(), true))(" + with + ")")
	choose("Runa Lock")
	p.arrives("document.querySelector('.bar')?.innerText.includes('Runa Lock') && location.pathname + location.search === '/hosts?labels=none'")

	config := t.TempDir()
	said, beside := io.Pipe()
	run := exec.CommandContext(t.Context(), filepath.Join(o.bin, "wladder"), "sign-in", "-directory")
	run.Env = append(os.Environ(), "WLADDER_SERVER="+o.URL, "XDG_CONFIG_HOME="+config)
	run.Stderr, run.Stdout = beside, beside
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { err := run.Wait(); beside.Close(); ended <- err }()
	lines := bufio.NewReader(said)
	var heard strings.Builder
	for !strings.Contains(heard.String(), "which holds the code") {
		line, err := lines.ReadString('\n')
		heard.WriteString(line)
		if err != nil {
			t.Fatalf("%v; it said %s", err, heard.String())
		}
	}
	at := regexp.MustCompile(`or open (\S+), which`).FindStringSubmatch(heard.String())[1]
	p.do(chromedp.Navigate(at))
	p.picture("device")
	choose("Piet Dyke")
	p.arrives(`document.body.innerText.includes("The program is signed in.")`)
	rest, _ := io.ReadAll(lines)
	if err := <-ended; err != nil || !strings.Contains(string(rest), "signed in to "+o.URL+" as Piet Dyke (viewer)") {
		t.Errorf("%v: %s%s", err, heard.String(), rest)
	}
	show := exec.Command(filepath.Join(o.bin, "wladder"), "sign-in", "-show")
	show.Env = run.Env
	if out, err := show.CombinedOutput(); err != nil || !strings.HasPrefix(string(out), "Piet Dyke (piet), viewer, at ") {
		t.Errorf("%v: %s", err, out)
	}
}

// nasty is text that must stay data wherever it goes.
const nasty = "it's \"$(touch oops)\" `x`; <script>window.oops=1</script><img src=x onerror=window.oops=1> ' or 1=1 --"

// TestTextStaysData takes nasty text from the client over the API and the host
// to the page.
func TestTextStaysData(t *testing.T) {
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
	odd := o.Load[0]
	odd.Labels = map[string]string{"role": "bulletin", "note": nasty}
	if _, err := ada.LoadHosts(ctx, []view.Host{odd}); err != nil {
		t.Fatal(err)
	}
	ines, err := o.As(ctx, "ines")
	if err != nil {
		t.Fatal(err)
	}
	text := fmt.Sprintf("title: %q\nreason: %q\nservice: bulletin-pages\nwhere: %q\ncount: 1\nedits: [{set: 'http/server/add_header[\"X-Note\"]', to: [%q]}]\nladder: {soak: 0s}\n",
		nasty, nasty+"\nsecond line", "labels.note == "+fmt.Sprintf("%q", nasty), nasty)
	id := offered(t, ines, []byte(text))
	d, err := ines.Change(ctx, id)
	if err != nil || d.Title != nasty || len(d.Rehearsal.Groups) != 1 || !strings.Contains(d.Rehearsal.Groups[0].Diff, "<script>window.oops=1</script>") {
		t.Fatalf("%v: %+v", err, d.Rehearsal)
	}
	oda, err := o.As(ctx, "oda")
	if err != nil {
		t.Fatal(err)
	}
	if err := oda.Approve(ctx, id, d.Rehearsal.Digest); err != nil {
		t.Fatal(err)
	}
	if err := ines.Climb(ctx, id); err != nil {
		t.Fatal(err)
	}
	d, err = demo.Until(ctx, ines, id, func(d view.ChangeDetail) bool { return d.Climb.State != ladder.Running })
	if err != nil || d.Counts[ladder.Done] != 1 {
		t.Fatalf("%v: %+v", err, d.Climb)
	}
	data, _ := o.Hosts[odd.Name].Files.Read("/etc/nginx/nginx.conf")
	want := "\t\tadd_header X-Note \"" + strings.ReplaceAll(nasty, `"`, `\"`) + "\";\n"
	if strings.Count(string(data), "\n") != strings.Count(string(demo.File("images/nginx.conf")), "\n")+1 || !strings.Contains(string(data), want) {
		t.Errorf("the host's file holds\n%s", data)
	}
	for _, name := range o.Hosts[odd.Name].Files.List("/") {
		if strings.HasSuffix(name, "oops") {
			t.Errorf("a shell read the text: %s", name)
		}
	}
	p := page{t: t, ctx: chromium.Open(t), url: o.URL}
	p.signIn("vic")
	p.do(chromedp.Navigate(fmt.Sprintf("%s/changes/%d", o.URL, id)))
	p.says(nasty)
	p.until("document.querySelector('h1')?.innerText === " + fmt.Sprintf("%q", nasty))
	p.until("document.querySelectorAll('.diff .plus').length === 1 && window.oops === undefined && document.querySelectorAll('img').length === 0")
	for _, path := range []string{"/changes", "/hosts", "/hosts/" + odd.Name, "/record"} {
		p.do(chromedp.Navigate(o.URL + path))
		p.says("$(touch oops)")
		p.until("window.oops === undefined && document.querySelectorAll('img').length === 0")
	}
}

func offered(t *testing.T, author *client.Client, text []byte) int64 {
	t.Helper()
	ctx := t.Context()
	id, _, err := demo.Rehearsed(ctx, author, text)
	if err == nil {
		err = author.Offer(ctx, id)
	}
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// TestTour has the tour walk its way, which checks each step by itself.
func TestTour(t *testing.T) {
	t.Parallel()
	o := opened(t)
	if err := o.tour(t.Context()); err != nil {
		t.Error(err)
	}
}

// TestStory has the story told, which checks each step by itself.
func TestStory(t *testing.T) {
	t.Parallel()
	o := opened(t)
	if err := o.story(t.Context()); err != nil {
		t.Error(err)
	}
}
