package main

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wladder/console/chromium"
	"wladder/core/change"
	"wladder/store"
)

// climbing is a server with a climb over so many hosts, on which nobody works.
func climbing(t *testing.T, hosts int) (url string, st *store.Store) {
	url, st, id := withEvents(t, hosts)
	ctx := t.Context()
	plan, err := st.Change(ctx, id)
	if err == nil {
		err = st.Offer(ctx, "ines", id)
	}
	if err == nil {
		err = st.Judge(ctx, "oda", id, plan.Rehearsal.Digest, change.Approval, "")
	}
	if err == nil {
		_, err = st.StartClimb(ctx, "tam", id, "scripts")
	}
	if err != nil {
		t.Fatal(err)
	}
	return url, st
}

// TestStagesWithoutHostsStay has the picture of a climb number its stages as its ladder does, also those
// that take no host: of ten hosts a tenth is the one that the first stage has taken.
func TestStagesWithoutHostsStay(t *testing.T) {
	ctx := chromium.Open(t)
	url, _ := climbing(t, 10)
	err := chromedp.Do(ctx, chromedp.Navigate(url+"/changes/1"), chromedp.WaitVisible(chromedp.CSS("#name")), chromedp.SendKeys(chromedp.CSS("#name"), "oda"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r"))
	if err == nil {
		_, err = chromedp.Run(ctx, chromedp.Poll[bool](`(l => !!l && l.textContent.includes('stage 2: no hosts') && l.textContent.includes('stage 3: 9 hosts') && l.textContent.includes('stage 1: 1 host'))(document.querySelector('svg.ladder'))`, chromedp.WithPollingTimeout(20*time.Second)))
	}
	if err != nil {
		said, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.querySelector('svg.ladder')?.textContent ?? document.body.innerText"))
		t.Errorf("%v: %s", err, said)
	}
	printed := play("$ wladder sign-in oda < a long password\n$ wladder show 1\n", map[string]string{"XDG_CONFIG_HOME": t.TempDir(), "WLADDER_SERVER": url})
	for _, want := range []string{" 3 9 hosts", " 2 no host"} {
		if !strings.Contains(strings.Join(strings.Fields(printed), " "), want) {
			t.Errorf("the client does not say %q:\n%s", want, printed)
		}
	}
}

// TestLineThatLooksLikeAHeading shows a line that goes as one, whatever it begins with.
func TestLineThatLooksLikeAHeading(t *testing.T) {
	ctx := chromium.Open(t)
	url, _, _ := withEvents(t, 10)
	err := chromedp.Do(ctx, chromedp.Navigate(url+"/changes/1"), chromedp.WaitVisible(chromedp.CSS("#name")), chromedp.SendKeys(chromedp.CSS("#name"), "oda"), chromedp.SendKeys(chromedp.CSS("#password"), "a long password\r"))
	if err == nil {
		_, err = chromedp.Run(ctx, chromedp.Poll[bool](`document.querySelector('svg.ladder')?.textContent.includes('stage 2: no hosts') && (b => !!b && (b.click(), true))([...document.querySelectorAll('[data-group]')].find(g => g.innerText.includes('bulletin-00009'))?.querySelector('button'))`, chromedp.WithPollingTimeout(20*time.Second)))
	}
	if err == nil {
		_, err = chromedp.Run(ctx, chromedp.Poll[bool](`[...document.querySelectorAll('.diff .minus')].some(e => e.textContent.includes('-- by hand'))`, chromedp.WithPollingTimeout(20*time.Second)))
	}
	if err != nil {
		said, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("[...document.querySelectorAll('.diff')].map(d => d.innerText).join('\\n==\\n') || document.body.innerText"))
		t.Errorf("the line that goes is not shown: %v\n%s", err, said)
	}
}

// TestCtrlC has the real program follow a climb and presses Ctrl-C: it says that the climb goes on, and
// how to steer it, ends with 130, and the climb is as it was.
func TestCtrlC(t *testing.T) {
	url, st := climbing(t, 20)
	ctx := t.Context()
	dir := t.TempDir()
	bin := filepath.Join(dir, "wladder")
	build := exec.Command("go", "build", "-tags", "nomsgpack", "-o", bin, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	env := append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir(), "WLADDER_SERVER="+url)
	signIn := exec.Command(bin, "sign-in", "tam")
	signIn.Env, signIn.Stdin = env, strings.NewReader("a long password\n")
	if out, err := signIn.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, call := range [][]string{{"follow", "1"}, {"follow", "-json", "1"}} {
		cmd := exec.CommandContext(ctx, bin, call...)
		cmd.Env = env
		said, err := cmd.StderrPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		time.AfterFunc(1500*time.Millisecond, func() { cmd.Process.Signal(os.Interrupt) })
		var all strings.Builder
		for lines := bufio.NewScanner(said); lines.Scan(); {
			all.WriteString(lines.Text() + "\n")
		}
		cmd.Wait()
		if status := cmd.ProcessState.ExitCode(); status != exitEnded || !strings.Contains(all.String(), "the climb of change 1 goes on by itself") || !strings.Contains(all.String(), "wladder pause -because TEXT 1") || strings.Contains(all.String(), "context canceled") {
			t.Errorf("%v ends with %d: %s", call, status, all.String())
		}
	}
	if d, err := st.Change(ctx, 1); err != nil || d.Climb == nil || d.Climb.EndedAt != nil {
		t.Errorf("the climb afterwards: %+v, %v", d.Climb, err)
	}
}
