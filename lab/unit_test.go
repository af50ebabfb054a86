package lab

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestInsideServiceUnit runs the server under its hardened unit, with a PostgreSQL of
// its own, on a real host.
func TestInsideServiceUnit(t *testing.T) {
	needInside(t)
	t.Parallel()
	const n = 93
	boot(t, n)
	for from, to := range map[string]string{filepath.Join(os.Getenv("LAB_BIN"), "wladderd"): "/usr/bin/wladderd", "../packaging/wladderd.service": "/etc/systemd/system/wladderd.service"} {
		file, err := os.Open(from)
		if err != nil {
			t.Fatal(err)
		}
		copied := exec.Command("ssh", "-i", filepath.Join(os.Getenv("WLADDER_LAB"), "id"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "root@10.77.0.95", "cat >"+to+" && chmod 755 "+to)
		copied.Stdin = file
		out, err := copied.CombinedOutput()
		file.Close()
		if err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	on(t, n, "useradd --system --home /var/lib/wladderd wladderd; systemctl daemon-reload; systemctl start wladderd")
	const ask = `bash -c 'exec 3<>/dev/tcp/127.0.0.1/8480 && printf "GET /readyz HTTP/1.0\r\n\r\n" >&3 && cat <&3'`
	answer := ""
	for deadline := time.Now().Add(60 * time.Second); !strings.Contains(answer, "ready") && time.Now().Before(deadline); time.Sleep(500 * time.Millisecond) {
		answer, _ = try(n, ask)
	}
	if !strings.Contains(answer, "200 OK") {
		t.Errorf("it does not come up: %s\n%s", answer, on(t, n, "systemctl status wladderd; journalctl -u wladderd --no-pager | tail -30"))
	}
	if modes := on(t, n, "stat -c '%a %U %n' /var/lib/wladderd /var/lib/wladderd/key /var/lib/wladderd/ssh_key"); !strings.HasPrefix(modes, "711 wladderd ") || strings.Count(modes, "600 wladderd ") != 2 {
		t.Errorf("the keys: %s", modes)
	}
	exposure := on(t, n, "systemd-analyze security wladderd.service 2>/dev/null | tail -1")
	t.Logf("%s", strings.TrimSpace(exposure))
	if !strings.Contains(exposure, " OK ") {
		t.Error("it is exposed more than it was")
	}
	on(t, n, "systemctl stop wladderd")
}
