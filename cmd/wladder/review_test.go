package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wladder/console/chromium"
	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/definition"
	"wladder/core/expr"
	"wladder/core/finding"
	"wladder/core/ladder"
	"wladder/core/outline"
	"wladder/core/plan"
	"wladder/core/probe"
	"wladder/core/render"
	"wladder/core/view"
	"wladder/store"
)

const thousandEdits = `title: More connections for the high water
reason: The bulletins are asked for by twice as many people.
service: pages
where: labels.role == "bulletin"
count: 1..20000
edits:
  - {set: events/worker_connections, compute: cores * 1024}
probes:
  - {name: front page, ask: "http :8480/", expect: status == 200}
may-fail: labels.site == "spare"
ladder: {stages: [{up-to: 1}, {up-to: 10%, gate: true}, {hosts: all}], at_once: 20, soak: 30s, pause_after: 2}
`

// dashed is a line that goes on the last of a few hosts: in a diff it looks as the heading of a file does.
const dashed = "-- by hand\n"

// rehearsedOver plants a change that was rehearsed over n hosts: five sizes of them, and three
// odd ones, as a rehearsal over real hosts would have found them. The plan rests on the definition
// under a digest; on none, where nobody looks at it.
func rehearsedOver(t testing.TB, st *store.Store, n int, digest string) int64 {
	ctx := t.Context()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	text := func(connections int, more string) string {
		return fmt.Sprintf("user www-data;\nworker_processes auto;\n\nevents {\n    worker_connections %d; # per worker\n    multi_accept on;\n}\n\nhttp {\n    sendfile on;\n%s}\n", connections, more)
	}
	var hosts []view.Host
	for i := range n {
		hosts = append(hosts, view.Host{Name: fmt.Sprintf("bulletin-%05d", i), Address: fmt.Sprintf("192.0.2.%d:%d", i%250+1, 22+i/250), Login: "root", HostKey: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl",
			Labels: map[string]string{"role": "bulletin", "site": []string{"coast", "delta", "upland"}[i%3]}})
	}
	_, err := st.LoadHosts(ctx, "ada", hosts)
	must(err)
	hosts, err = st.Hosts(ctx)
	must(err)
	spec, err := change.Parse("c", []byte(thousandEdits))
	must(err)
	id, err := st.Draft(ctx, "ines", 0, spec)
	must(err)
	_, err = st.BeginRehearsal(ctx, "ines", id, store.Targets{Revision: 1, Hosts: hosts})
	must(err)
	claimed, err := st.ClaimRehearsals(ctx, store.Server{Name: "here", Scripts: []string{"scripts"}, Lease: time.Minute}, 1, []int64{})
	must(err)
	act := definition.Act{Name: "reload", Commands: [][]string{{"systemctl", "reload", "nginx.service"}}}
	var reads []store.Read
	var leaves []plan.Leaf
	var planned []ladder.Host
	for i, h := range hosts {
		cores := 2 << (i * 5 / n)
		before, after, more := 768, cores*1024, ""
		r := store.Read{RehearsedHost: view.RehearsedHost{HostID: h.ID, Host: h.Name, Act: "reload", Findings: []finding.Finding{}}}
		switch i {
		case 17:
			before = 512
		case 404:
			more = "    server_tokens off;\n"
			r.Findings = append(r.Findings, finding.Finding{Level: finding.Warn, Code: "unwell", Text: `probe "front page" is not well before the change: status 500`})
		case 405:
			after = before
			r.Act, r.Findings = "", append(r.Findings, finding.Finding{Level: finding.Veto, Code: "refused-by-checker", File: "/etc/nginx/nginx.conf", Line: 12, Text: "the service's checker refuses the files as they are: unknown directive \"exprires\""})
		}
		if before != after {
			gone := ""
			if n < 20 && i == n-1 {
				gone = dashed
			}
			r.Diff = render.Unified("/etc/nginx/nginx.conf", []byte(gone+text(before, more)), []byte(text(after, more)))
			r.Alterations = []conf.Alteration{{Address: "events/worker_connections", Old: fmt.Sprint(before), New: fmt.Sprint(after), Kind: "changed"}}
			leaf := plan.Leaf{HostID: h.ID, Host: h.Name, Address: h.Address, HostKey: h.HostKey, Login: h.Login, Labels: h.Labels, MayFail: i%100 == 99, Parts: []plan.LeafPart{{Act: act, Files: []plan.LeafFile{},
				InForce: []probe.Probe{{Name: "events/worker_connections in force", Ask: "command dump", After: "output.contains(value)", Value: fmt.Sprint(after)}}}}}
			r.Leaf = []byte("{}")
			leaves, planned = append(leaves, leaf), append(planned, ladder.Host{Host: expr.Host{Name: h.Name, Labels: h.Labels}})
		}
		r.Group = render.GroupKey(r.Diff, r.Act, r.Findings)
		reads = append(reads, r)
	}
	policy, err := spec.Policy()
	must(err)
	policy, rungs, err := policy.Assign(planned)
	must(err)
	for i, rung := range rungs {
		leaves[i].Stage, leaves[i].Turn = rung.Stage, rung.Turn
	}
	head := plan.Head{Version: plan.Version, Change: id, Revision: 1, Hosts: len(leaves), Scripts: "scripts", Policy: policy, Probes: spec.Probes,
		Parts: []plan.Part{{Service: "pages", ServiceDigest: digest, Unit: "nginx.service", Trial: definition.Trial{Command: []string{"nginx", "-t"}}, Settle: ladder.Span(2 * time.Second), Guard: ladder.Span(90 * time.Second)}}}
	sites := map[string]int{}
	for _, h := range hosts {
		sites[h.Labels["site"]]++
	}
	pools := outline.Pools{Keep: map[string]int{"pages": 10}, Size: map[string]map[string]int{"pages": sites}, Of: func(_ string, leaf int) string { return leaves[leaf].Labels["site"] }}
	for some := range slices.Chunk(reads, 100) {
		must(st.AddRead(ctx, claimed[0], some))
	}
	must(st.EndRehearsal(ctx, claimed[0], nil, &store.Made{Head: head, Leaves: leaves, Outline: outline.Of(spec, head, leaves, pools)}))
	return id
}

// TestReviewOfAThousand answers ten questions about a change of a thousand hosts from what
// show and diff print, and from nothing else.
func TestReviewOfAThousand(t *testing.T) {
	url, st := serve(t)
	id := rehearsedOver(t, st, 1000, "")
	env := map[string]string{"XDG_CONFIG_HOME": t.TempDir(), "WLADDER_SERVER": url}
	printed := play(fmt.Sprintf("$ wladder sign-in ines < a long password\n$ wladder show %d\n$ wladder diff %d\n", id, id), env)
	_, printed, _ = strings.Cut(printed, "show 1\n")
	t.Logf("\n%s", printed)
	flat := strings.Join(strings.Fields(printed), " ")
	for _, q := range []struct{ question, answer string }{
		{"what", `set events/worker_connections to what cores \* 1024 comes to`},
		{"whom", `where labels\.role == "bulletin" .*: 1000 hosts, 999 in the plan`},
		{"in which order", `3 899 hosts, all .* 2 99 hosts, up to 10% .* gate .* 1 bulletin-00000`},
		{"how many at once", `at most 20 hosts at once, each watched for 30 s`},
		{"out of a pool at once", `pool coast of pages: 334 hosts, \d+ of them changed, 20 under way at once at most; 10 stay well`},
		{"how long at least", `takes 27 min 12 s at least, acts and probes apart, and waits for a person at 1 gate`},
		{"which act", `pages \(nginx.service\): reload on 999 hosts, then 2 s to settle; checked before by nginx -t`},
		{"which proof", `events/worker_connections in force: command dump; after output.contains\(value\) \(proves`},
		{"what if one fails", `one that fails gets its old files back, and at 2 failed hosts in a stage all pauses`},
		{"which may", `may fail: bulletin-00099, bulletin-00199, `},
		{"the odd one by its value", `bulletin-00017: events/worker_connections: 512 → 2048`},
		{"the odd one by its state", `bulletin-00404: events/worker_connections: 768 → 8192; warn unwell`},
		{"the odd one that is refused", `bulletin-00405: veto refused-by-checker`},
		{"what that says", `nginx.conf:12: the service's checker refuses`},
	} {
		if !regexp.MustCompile(q.answer).MatchString(flat) {
			t.Errorf("%s: no answer such as %s", q.question, q.answer)
		}
	}
	lines := 0
	for l := range strings.Lines(printed) {
		lines += max(1, (len([]rune(strings.TrimRight(l, "\n")))-2+99)/100)
	}
	if t.Logf("%d lines of 100 columns", lines); lines > 100 {
		t.Errorf("%d lines; want 100 at most", lines)
	}
}

// TestPageOfAThousand has the page of the same change tell it in two heights of a window, review
// included, the odd hosts first.
func TestPageOfAThousand(t *testing.T) {
	ctx := chromium.Open(t)
	url, st := serve(t)
	id := rehearsedOver(t, st, 1000, "")
	const ready = "document.querySelectorAll('[data-group]').length === 8"
	err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url), chromedp.WaitVisible(chromedp.CSS("#name")),
		chromedp.SendKeys(chromedp.CSS("#name"), "ines"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r"), chromedp.WaitVisible(chromedp.CSS(".bar")),
		chromedp.Navigate(fmt.Sprintf("%s/changes/%d", url, id)))
	if err == nil {
		_, err = chromedp.Run(ctx, chromedp.Poll[bool](ready, chromedp.WithPollingTimeout(time.Minute)))
	}
	if err != nil {
		t.Fatal(err)
	}
	said, err := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('main').innerText"))
	if err != nil {
		t.Fatal(err)
	}
	last := 0
	for _, want := range []string{"set events/worker_connections to what cores * 1024 comes to", "stage 1: 1 host", "stage 2: 99 hosts", "stage 3: 899 hosts", "at most 20 hosts at once", "takes 27 min 12 s at least", "reload on 999 hosts", "front page", "200 hosts alike, 800 differ",
		"bulletin-00405", "refuses the files as they are", "bulletin-00404", "bulletin-00017", "512 → 2048", "198 hosts"} {
		at := strings.Index(said, want)
		if at < last {
			t.Errorf("%q stands at %d, behind %d", want, at, last)
		}
		last = max(last, at)
	}
	height, err := chromedp.Run(ctx, chromedp.Evaluate[int]("Math.round(document.querySelector('#review').getBoundingClientRect().bottom + scrollY)"))
	if t.Logf("%d pixels high", height); err != nil || height > 2*800 {
		t.Errorf("%d pixels high, %v; want 1600 at most\n%s", height, err, said)
	}
	if *pictures != "" {
		shot, err := chromedp.Run(ctx, chromedp.FullScreenshot(100))
		if err == nil {
			err = os.WriteFile(*pictures, shot, 0o644)
		}
		if err != nil {
			t.Error(err)
		}
	}
}

var pictures = flag.String("picture", "", "keep a picture of the page of a thousand hosts in this file")

// BenchmarkReview is what the answer behind it weighs and takes, the first time and later.
func BenchmarkReview(b *testing.B) {
	for _, n := range []int{1000, 10_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			_, st := serve(b)
			id := rehearsedOver(b, st, n, "")
			size, began := 0, time.Now()
			if _, err := st.Change(b.Context(), id); err != nil {
				b.Fatal(err)
			}
			first := time.Since(began)
			for b.Loop() {
				d, err := st.Change(b.Context(), id)
				if err != nil {
					b.Fatal(err)
				}
				data, _ := json.Marshal(d)
				size = len(data)
			}
			b.ReportMetric(float64(size), "bytes")
			b.ReportMetric(float64(first.Microseconds())/1000, "ms-first")
		})
	}
}
