package lab

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wladder/core/plan"
	"wladder/host"
)

// swapper is what a service's own user can do in a directory of theirs: exchange
// the file, the directory on the way to it, and whatever appears beside it, for links
// to what is root's. It counts what it has exchanged.
const swapper = `
use strict; use warnings; chdir "/srv/own" or die;
my ($n, $beside, $end) = (0, 0, time + shift);
sub wait_a_bit { select undef, undef, undef, rand shift }
sub fresh { return if -f "d/gauge.conf" && !-l "d/gauge.conf"; unlink "d/gauge.conf"; open my $f, ">", "d/gauge.conf" or return; print $f "gauge = 1\n"; close $f; chmod 0640, "d/gauge.conf" }
mkdir "d.away";
while (time < $end) {
	fresh();
	symlink "/etc/victim", "d/gauge.conf.wladder-restore";
	wait_a_bit(0.02);
	for my $k (1 .. 20) {
		for (glob "d/.wladder-* d/.??*") { next if -l; unlink and symlink "/etc/victim", $_ and $beside++ }
		select undef, undef, undef, 0.0005;
	}
	if (rand() < 0.6) {
		unlink "d/real"; rename "d/gauge.conf", "d/real" and symlink "/etc/victim", "d/gauge.conf" and $n++;
		wait_a_bit(0.01); unlink "d/gauge.conf"; rename "d/real", "d/gauge.conf";
	} else {
		rename "d", "d.real" and symlink "/etc/victim.d", "d" and $n++;
		wait_a_bit(0.01); unlink "d"; rename "d.real", "d";
	}
}
fresh(); unlink glob("d/.wladder-*"), "d/gauge.conf.wladder-restore";
open my $f, ">", "count"; print $f "$n $beside\n";
`

// TestInsideLinkRace has every operation that reads or writes a file meet somebody
// who exchanges it, all the while. Nothing of root's may be read or another.
func TestInsideLinkRace(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 92
	boot(t, n)
	seconds := 8
	if *every {
		seconds = 60
	}
	on(t, n, `mkdir -p /srv/own/d /etc/victim.d && printf 'of root alone\n' >/etc/victim && cp /etc/victim /etc/victim.d/gauge.conf && chmod 600 /etc/victim /etc/victim.d/gauge.conf && chmod 700 /etc/victim.d
printf 'gauge = 1\n' >/srv/own/d/gauge.conf && chmod 640 /srv/own/d/gauge.conf && chown -R www-data:www-data /srv/own && systemctl start nginx`)
	on(t, n, "cat >/srv/swap.pl <<'END'\n"+swapper+"END\nchmod 644 /srv/swap.pl")
	const victim = "stat -c '%n %a %U %G %h %s %i %Y %Z' /etc/victim /etc/victim.d /etc/victim.d/gauge.conf; cat /etc/victim /etc/victim.d/gauge.conf; ls -A /etc/victim.d"
	before := on(t, n, victim)
	conn := connect(t, n)
	defer conn.Close()
	swapping := make(chan error, 1)
	go func() {
		_, err := try(n, fmt.Sprintf("runuser -u www-data -- perl /srv/swap.pl %d", seconds))
		swapping <- err
	}()
	const path = "/srv/own/d/gauge.conf"
	base := plan.Copy{Kind: plan.Regular, Content: []byte("gauge = 1\n"), Owner: "www-data", Group: "www-data", Mode: "640"}
	next := base
	next.Content = []byte("gauge = 2\n")
	files := []host.File{{Path: path, Base: host.Stands(base), Candidate: host.Stands(next), Content: next.Content}}
	ctx := t.Context()
	came := map[string][2]int{} // how many times each came through, and not
	note := func(what string, err error) bool {
		c := came[what]
		if err == nil {
			c[0]++
		} else {
			c[1]++
		}
		came[what] = c
		return err == nil
	}
	for round, end := 0, time.Now().Add(time.Duration(seconds)*time.Second); time.Now().Before(end); round++ {
		found, err := conn.Collect(ctx, []string{path})
		if note("collect", err) && strings.Contains(string(found[0].Content), "of root") {
			t.Errorf("a rehearsal read what is root's: %q, through %+v", found[0].Content, found[0].Links)
		}
		claim := host.Claim{Fence: int64(round + 1), Run: fmt.Sprintf("run-%d", round)}
		if !note("claim", conn.TakeOver(ctx, claim)) || !note("snapshot", conn.Snapshot(ctx, claim, []string{"nginx.service"}, files)) {
			continue
		}
		span := time.Minute
		if round%4 == 3 {
			span = time.Second
		}
		_, err = conn.Arm(ctx, claim, span, []host.Service{{Unit: "nginx.service", Act: reload, Heaviest: restart}}, files)
		note("arm", err)
		note("place", conn.Place(ctx, claim, files))
		if round%4 == 3 {
			time.Sleep(1500 * time.Millisecond) // its guard fires
		}
		_, err = conn.Restore(ctx, claim, files)
		note("restore", err)
		if round%2 == 0 {
			_, err := try(n, "sh /var/lib/wladder/runs/"+claim.Run+"/restore.sh")
			note("restore.sh", err)
		}
		note("disarm", conn.Disarm(ctx, claim, files))
	}
	if err := <-swapping; err != nil {
		t.Fatal(err)
	}
	if after := on(t, n, victim); after != before {
		t.Errorf("what is root's is another:\n%s", difference(before, after))
	}
	if owned := on(t, n, "find / -xdev -newer /srv/swap.pl -user www-data ! -path '/srv/own*' ! -path '/proc*' ! -path '/var/lib/wladder/*' ! -path '/var/lib/nginx*'"); owned != "" {
		t.Errorf("www-data has come to own %s", owned)
	}
	count := strings.Fields(on(t, n, "cat /srv/own/count"))
	t.Logf("%s exchanges landed, %s of what appeared beside, in %d s; came through and not: %v", count[0], count[1], seconds, came)
	if count[0] == "0" || came["place"][0]+came["place"][1] == 0 || came["snapshot"][0] == 0 {
		t.Errorf("there was no race: %v, %v", count, came)
	}
}
