package lab

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
)

var (
	chaos = flag.Int("chaos", 0, "how many climbs TestInsideChaos has go through trouble; 0: none")
	seed  = flag.Uint64("seed", 1, "of what happens when in TestInsideChaos")
)

// chaosWorld is two servers and a database, all of which may be lost, and pools of real hosts.
type chaosWorld struct {
	*world
	mu      sync.Mutex
	servers [2]*exec.Cmd
	urls    [2]string
	count   map[string]int
	wrong   []string
}

func (c *chaosWorld) add(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.count[what]++
}

func (c *chaosWorld) never(format string, args ...any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.wrong = append(c.wrong, fmt.Sprintf(format, args...))
}

// up starts a server that is down.
func (c *chaosWorld) up(n int) {
	cmd, url := c.serve(filepath.Join(c.dir, fmt.Sprintf("data%d", n)))
	c.mu.Lock()
	defer c.mu.Unlock()
	c.servers[n], c.urls[n] = cmd, url
}

func (c *chaosWorld) signal(n int, s syscall.Signal) {
	c.mu.Lock()
	cmd := c.servers[n]
	c.mu.Unlock()
	cmd.Process.Signal(s)
	if s == syscall.SIGKILL {
		cmd.Wait()
	}
}

// insist repeats what a server that is lost may leave undone, on either of them.
func (c *chaosWorld) insist(what string, f func(ctx context.Context, c *client.Client, other *client.Client) error) bool {
	var err error
	for n, deadline := 0, time.Now().Add(5*time.Minute); time.Now().Before(deadline); n++ {
		c.mu.Lock()
		url := c.urls[n%2]
		c.mu.Unlock()
		ctx, cancel := context.WithTimeout(c.Context(), 10*time.Second)
		err = f(ctx, client.New(url, c.token("ines")), client.New(url, c.token("oda")))
		if cancel(); err == nil || c.Context().Err() != nil {
			return err == nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	c.Errorf("%s: %v", what, err)
	return false
}

// troubles may happen to a real host while it is changed.
var troubles = map[string]func(n int, rnd *rand.Rand, order func(ladder.Order)){
	"power lost": func(n int, rnd *rand.Rand, _ func(ladder.Order)) {
		script("cut", fmt.Sprint(n)).Run()
		pause(rnd, 0, 3000)
		script("boot", fmt.Sprint(n)).Run()
	},
	"reboot": func(n int, _ *rand.Rand, _ func(ladder.Order)) {
		try(n, "systemctl reboot")
		script("await", fmt.Sprint(n)).Run()
	},
	"scripts killed":  func(n int, _ *rand.Rand, _ func(ladder.Order)) { try(n, "pkill -KILL -f ' wladder-[a-z]'") },
	"connections cut": func(n int, _ *rand.Rand, _ func(ladder.Order)) { try(n, "pkill -KILL -f 'sshd: (root|op)'") },
	"link dark": func(n int, rnd *rand.Rand, _ func(ladder.Order)) {
		link(n, "down")
		pause(rnd, 300, 9000)
		link(n, "up")
	},
	"steered to stop":      func(_ int, _ *rand.Rand, order func(ladder.Order)) { order(ladder.Stop) },
	"steered to roll back": func(_ int, _ *rand.Rand, order func(ladder.Order)) { order(ladder.RollBack) },
}

func link(n int, state string) { exec.Command("ip", "link", "set", fmt.Sprintf("v%d", n), state).Run() }

func pause(rnd *rand.Rand, least, most int) {
	time.Sleep(time.Duration(least+rnd.IntN(most-least)) * time.Millisecond)
}

// TestInsideChaos has climbs over real hosts go through trouble, several side by side: each host is
// wholly old and well, or wholly new and well, as is told of it, or is told to want a person.
func TestInsideChaos(t *testing.T) { // not beside others
	needInside(t)
	if *chaos == 0 {
		t.Skip("SKIPPED: it takes a quarter of an hour; -args -chaos 50 -only 'TestInsideChaos$'")
	}
	const lanes, size = 3, 4
	var numbers []int
	for n := range lanes * size {
		numbers = append(numbers, 101+n)
	}
	c := &chaosWorld{world: newWorld(t, numbers...), count: map[string]int{}}
	c.file("pages.yaml", restartedService+"guard: 12s\n")
	c.load("pages.yaml")
	c.kill()
	for n := range c.servers {
		if out, err := exec.Command("cp", "-a", filepath.Join(c.dir, "data"), filepath.Join(c.dir, fmt.Sprintf("data%d", n))).CombinedOutput(); err != nil {
			t.Fatalf("%s", out)
		}
		c.up(n)
		t.Cleanup(func() { c.signal(n, syscall.SIGKILL) })
	}
	for _, n := range numbers {
		on(t, n, "sed -i 's/^worker_processes .*/worker_processes 1;/' /etc/nginx/nginx.conf; systemctl enable -q --now nginx; systemctl restart nginx")
	}
	begun := time.Now()
	ended := make(chan struct{})
	var great, all sync.WaitGroup
	great.Go(func() {
		rnd := rand.New(rand.NewPCG(*seed, 99))
		for {
			select {
			case <-ended:
				return
			case <-time.After(time.Duration(1000+rnd.IntN(5000)) * time.Millisecond):
			}
			switch n := rnd.IntN(2); rnd.IntN(3) {
			case 0, 1:
				c.signal(n, syscall.SIGKILL)
				c.add("server killed")
				pause(rnd, 0, 2000)
				c.up(n)
			case 2:
				c.signal(n, syscall.SIGSTOP)
				c.add("server stopped for a while")
				pause(rnd, 500, 5000)
				c.signal(n, syscall.SIGCONT)
			}
		}
	})
	var mu sync.Mutex
	left := *chaos
	for at := range lanes {
		mine := numbers[at*size : (at+1)*size]
		all.Go(func() {
			rnd, values := rand.New(rand.NewPCG(*seed, uint64(at))), []int{1, 1, 1, 1}
			for next := 2; ; next = next%5 + 1 {
				mu.Lock()
				left--
				goOn := left >= 0 && !t.Failed()
				mu.Unlock()
				if !goOn {
					return
				}
				c.climb(mine, values, next, rnd)
			}
		})
	}
	all.Wait()
	close(ended)
	great.Wait()
	if !t.Failed() {
		c.insist("reading the record", func(ctx context.Context, ines, _ *client.Client) error {
			c.url = c.urls[0]
			if out, status := c.tried("ines", "", "record", "-verify"); status != 0 {
				return fmt.Errorf("%s", out)
			}
			return nil
		})
	}
	text := ""
	for _, what := range slices.Sorted(maps.Keys(c.count)) {
		text += fmt.Sprintf("\n  %5d %s", c.count[what], what)
	}
	t.Logf("seed %d, %s:%s", *seed, time.Since(begun).Round(time.Second), text)
	for _, what := range c.wrong {
		t.Error(what)
	}
}

// climb has one change of some hosts go through trouble, and looks at each in the end.
func (c *chaosWorld) climb(hosts, values []int, next int, rnd *rand.Rand) {
	var names []string
	for _, n := range hosts {
		names = append(names, fmt.Sprintf("%q", hostName(n)))
	}
	var id int64
	ok := c.insist("preparing a climb", func(ctx context.Context, ines, oda *client.Client) error {
		var err error
		id, err = ines.Draft(ctx, 0, fmt.Appendf(nil, "title: t\nreason: r\nservice: bulletin-pages\nwhere: name in [%s]\ncount: %d\nedits: [{set: worker_processes, to: %d}]\nladder: {stages: [{up-to: 1}, {hosts: all}], at_once: 2, soak: 1s, pause_after: 4}\n", strings.Join(names, ", "), len(hosts), next))
		if err == nil {
			err = ines.Rehearse(ctx, id)
		}
		var d view.ChangeDetail
		for err == nil && (d.Rehearsal == nil || d.Rehearsal.EndedAt == nil) {
			time.Sleep(100 * time.Millisecond)
			d, err = ines.Change(ctx, id)
		}
		if err != nil {
			return err
		}
		if d.Rehearsal.Planned == 0 {
			ines.Withdraw(ctx, id, "none was read")
			return fmt.Errorf("none is planned: %+v", d.Rehearsal.Groups)
		}
		if err = ines.Offer(ctx, id); err == nil {
			if err = oda.Approve(ctx, id, d.Rehearsal.Digest); err == nil {
				err = ines.Climb(ctx, id)
			}
		}
		return err
	})
	if !ok {
		return
	}
	order := func(o ladder.Order) {
		c.insist("order "+string(o), func(ctx context.Context, ines, _ *client.Client) error {
			d, err := ines.Change(ctx, id)
			if err == nil && d.Climb != nil && !d.Climb.State.Final() {
				ines.Order(ctx, id, o, "chaos")
			}
			return err
		})
	}
	kinds := slices.Sorted(maps.Keys(troubles))
	for range 1 + rnd.IntN(2) {
		pause(rnd, 500, 6000)
		what, n := kinds[rnd.IntN(len(kinds))], hosts[rnd.IntN(len(hosts))]
		c.add(what)
		troubles[what](n, rnd, order)
	}
	steered := 0
	var runs map[string]view.HostRun
	ok = c.insist(fmt.Sprintf("the climb of change %d comes to its end", id), func(ctx context.Context, ines, _ *client.Client) error {
		d, err := ines.Change(ctx, id)
		if err != nil {
			return err
		}
		active := underWay(d.Counts)
		if d.Climb.State == ladder.Paused && active == 0 {
			o := []ladder.Order{ladder.Resume, ladder.RollBack, ladder.Stop}[min(rnd.IntN(2)+steered, 2)]
			steered++
			ines.Order(ctx, id, o, "chaos")
		}
		if !d.Climb.State.Final() || active > 0 {
			return fmt.Errorf("it is %s (%s), hosts %v", d.Climb.State, d.Climb.Why, d.Counts)
		}
		all, err := ines.AllRuns(ctx, id, time.Time{})
		runs = map[string]view.HostRun{}
		for _, r := range all.Runs {
			runs[r.Host] = r
		}
		return err
	})
	c.add("climbs")
	if !ok {
		return
	}
	earlier := c.earlier(id)
	for i, n := range hosts {
		link(n, "up")
		c.look(id, n, runs[hostName(n)], earlier, values, i, next)
	}
}

// earlier gives how hosts ended in the climbs of a change before its roll-back, from the database.
func (c *chaosWorld) earlier(id int64) map[string]string {
	found := map[string]string{}
	c.insist("reading the database", func(ctx context.Context, _, _ *client.Client) error {
		db, err := pgx.Connect(ctx, c.database)
		if err != nil {
			return err
		}
		defer db.Close(ctx)
		rows, err := db.Query(ctx, `select r.host, (case when c.rolls_back then 'back ' else '' end) || r.state from host_runs r join climbs c on c.id = r.climb where c.change = $1 order by r.id`, id)
		if err != nil {
			return err
		}
		var host, state string
		_, err = pgx.ForEachRow(rows, []any{&host, &state}, func() error { found[host] += state + "; "; return nil })
		return err
	})
	return found
}

// mend makes a host whole by hand, as a person would.
func mend(n, value int) {
	try(n, fmt.Sprintf("rm -f /var/lib/wladder/pending/* /var/lib/wladder/firing/*; sed -i 's/^worker_processes .*/worker_processes %d;/' /etc/nginx/nginx.conf; systemctl reset-failed nginx; systemctl restart nginx", value))
}

// look holds one host against what is told of it, and makes it whole as a person would.
func (c *chaosWorld) look(id int64, n int, run view.HostRun, earlier map[string]string, values []int, i, next int) {
	var out string
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(500 * time.Millisecond) {
		var err error
		if out, err = try(n, `sed -n 's/^worker_processes \(.*\);/\1/p' /etc/nginx/nginx.conf; pgrep -c -f 'nginx: worker process$'; systemctl is-active nginx; ls /var/lib/wladder/pending /var/lib/wladder/firing 2>/dev/null | grep -c '^run'`); err == nil || strings.Count(out, "\n") == 4 {
			break
		}
	}
	told := earlier[hostName(n)]
	c.add("hosts told " + strings.TrimSuffix(strings.ReplaceAll(told, "; ", ", then "), ", then "))
	want := values[i]
	switch {
	case strings.Contains(told, "stranded") || strings.Contains(told, "unknown"):
		mend(n, values[i])
		return
	case strings.HasPrefix(told, "done; ") && !strings.Contains(told, "back done"):
		want = next
	}
	if expected := fmt.Sprintf("%d\n%d\nactive\n0\n", want, want); out != expected {
		steps := ""
		c.insist("steps", func(ctx context.Context, ines, _ *client.Client) error {
			r, err := ines.HostRun(ctx, id, hostName(n))
			for _, s := range r.Steps {
				steps += fmt.Sprintf("\n    %s %s %s %s", s.BegunAt.Format("15:04:05.000"), s.Step, s.Outcome, s.Note)
			}
			return err
		})
		c.never("change %d: h%d is told %s(%s): file, workers, state, guards armed: %q; want %q (old %d, new %d)%s", id, n, told, run.Why, out, expected, values[i], next, steps)
		mend(n, want)
	}
	values[i] = want
}
