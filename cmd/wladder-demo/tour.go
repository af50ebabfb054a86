package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/demo"
)

// tour walks through one change with the client: each command, its output and
// its exit status, which must be the one expected.
func (o *office) tour(ctx context.Context) error {
	began := time.Now()
	if err := o.Set(ctx); err != nil {
		return err
	}
	t := &guide{ctx: ctx, office: o}
	for _, name := range []string{"nginx.conf"} {
		os.WriteFile(filepath.Join(o.dir, name), demo.File("images/"+name), 0o644)
	}
	os.WriteFile(filepath.Join(o.dir, "connections.yaml"), demo.File("changes/5-connections.yaml"), 0o644)
	t.say("A file on this machine, with no server: what it says, and an edit as a diff.")
	t.wladder(0, "settings", "nginx.conf")
	t.wladder(0, "retouch", "-set", "events/worker_connections=2048", "nginx.conf")
	t.wladder(1, "retouch", "-set", "events/worker_connection[2]=2048", "nginx.conf")

	t.say("Ines plans the same on two dozen hosts, by the cores of each.")
	t.signIn("ines")
	t.wladder(0, "draft", "connections.yaml")
	t.wladder(0, "rehearse", "1")
	t.wladder(0, "diff", "1")
	t.wladder(0, "offer", "1")
	digest := t.digest()
	t.say("She cannot approve it herself; Oda can, for exactly this digest.")
	t.wladder(3, "approve", "-digest", digest, "1")
	t.signIn("oda")
	t.wladder(4, "approve", "-digest", strings.Repeat("0", 64), "1")
	t.wladder(0, "approve", "-digest", digest, "1")

	t.say("Meanwhile somebody edits one host by hand. Ines lets it climb.")
	h := o.Hosts["bulletin-coast-06"]
	byHand := append([]byte("# by hand\n"), demo.File("images/nginx.conf")...)
	h.Files.Write("/etc/nginx/nginx.conf", byHand)
	t.signIn("ines")
	climbing := time.Now()
	t.wladder(1, "climb", "-follow", "1")
	climbed := time.Since(climbing)

	t.say("One host answered wrongly and was put back; this is what was done to it.")
	t.wladder(0, "show", "-host", "bulletin-delta-03", "1")
	t.wladder(0, "show", "1")
	t.wladder(0, "record", "-verify")
	if t.err != nil {
		return t.err
	}
	return o.check(ctx, byHand, time.Since(began), climbed)
}

// check holds the hosts themselves against what the tour said of them.
func (o *office) check(ctx context.Context, byHand []byte, all, climbed time.Duration) error {
	ines, err := o.As(ctx, "ines")
	if err != nil {
		return err
	}
	d, err := ines.Change(ctx, 1)
	if err != nil {
		return err
	}
	runs, err := ines.AllRuns(ctx, 1, time.Time{})
	if err != nil {
		return err
	}
	for _, r := range runs.Runs {
		data, err := o.Hosts[r.Host].Files.Read("/etc/nginx/nginx.conf")
		if err != nil {
			return err
		}
		want, state := false, ladder.Done
		switch r.Host {
		case "bulletin-delta-03":
			want, state = bytes.Equal(data, demo.File("images/nginx.conf")), ladder.Restored
		case "bulletin-coast-06":
			want, state = bytes.Equal(data, byHand), ladder.PassedOver
		default:
			want = !bytes.Contains(data, []byte("worker_connections 768;"))
		}
		if r.State != state || !want {
			return fmt.Errorf("%s ended %s (%s); want %s, and its file to agree", r.Host, r.State, r.Why, state)
		}
	}
	fmt.Printf("\nAll as it should be: %d hosts rehearsed in %.1f s, climbed in %.1f s; the tour took %.1f s.\n",
		d.Rehearsal.Hosts, d.Rehearsal.EndedAt.Sub(d.Rehearsal.BegunAt).Seconds(), climbed.Seconds(), all.Seconds())
	return nil
}

// guide runs the client and stops at the first thing that is not as expected.
type guide struct {
	ctx    context.Context
	office *office
	who    string
	known  map[string]bool // who has signed in
	reader *client.Client
	err    error
}

func (g *guide) say(text string) {
	if g.err == nil {
		fmt.Printf("\n── %s\n", text)
	}
}

func (g *guide) command(args ...string) *exec.Cmd {
	cmd := exec.CommandContext(g.ctx, filepath.Join(g.office.bin, "wladder"), args...)
	cmd.Dir = g.office.dir
	cmd.Env = append(os.Environ(), "WLADDER_SERVER="+g.office.URL, "XDG_CONFIG_HOME="+filepath.Join(g.office.dir, "home-"+g.who))
	return cmd
}

func (g *guide) wladder(status int, args ...string) {
	if g.err != nil {
		return
	}
	shown := make([]string, len(args))
	for i, a := range args {
		if shown[i] = a; strings.ContainsAny(a, " []'\"$") {
			shown[i] = "'" + a + "'"
		}
	}
	fmt.Printf("\n$ wladder %s\n", strings.Join(shown, " "))
	cmd := g.command(args...)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stdout
	cmd.Run()
	if got := cmd.ProcessState.ExitCode(); got != status {
		g.err = fmt.Errorf("wladder %s ended with status %d; want %d", strings.Join(shown, " "), got, status)
	} else if status != 0 {
		fmt.Printf("(status %d, as expected)\n", status)
	}
}

func (g *guide) signIn(name string) {
	if g.err != nil {
		return
	}
	g.who = name
	fmt.Printf("\n$ wladder sign-in %s\n", name)
	cmd := g.command("sign-in", name)
	cmd.Stdin = strings.NewReader(demo.Password + "\n")
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stdout
	g.err = cmd.Run()
}

func (g *guide) digest() string {
	if g.err != nil {
		return ""
	}
	ines, err := g.office.As(g.ctx, "ines")
	if err == nil {
		d, derr := ines.Change(g.ctx, 1)
		if err = derr; err == nil && d.Rehearsal != nil {
			return d.Rehearsal.Digest
		}
	}
	g.err = err
	return ""
}
