package standin

import (
	"context"
	"strings"
	"time"
)

// Logged is one script as the host itself saw it.
type Logged struct {
	Script string
	Words  string // its arguments, as they were sent
	From   time.Time
	To     time.Time // zero while it runs
	Status int       // with which it ended
}

// Log gives the scripts that ran, in the order of their beginning, with their times.
func (h *Host) Log() []Logged {
	h.mu.Lock()
	defer h.mu.Unlock()
	all := make([]Logged, len(h.log))
	for i, l := range h.log {
		all[i] = *l
	}
	return all
}

// Forget empties the log; what runs is not noted any more.
func (h *Host) Forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.log = nil
}

// began notes a script, and gives what notes its end.
func (h *Host) began(command string) (ended func(status int)) {
	name := scriptName(command)
	_, words, _ := strings.Cut(command, "'wladder-"+name+"' ")
	h.mu.Lock()
	defer h.mu.Unlock()
	h.ran = append(h.ran, name)
	one := &Logged{Script: name, Words: words, From: time.Now()}
	h.log = append(h.log, one)
	return func(status int) {
		h.mu.Lock()
		defer h.mu.Unlock()
		one.To, one.Status = time.Now(), status
	}
}

// Fill has the disk be full: nothing that holds a byte is written any more; or has it be free again.
func (h *Host) Fill(full bool) { h.Files.full.Store(full) }

// SetClock has the host's clock be fast by so much, or slow: what date says, and when files were
// changed. The time since boot goes on as it does.
func (h *Host) SetClock(fast time.Duration) { h.Files.clock.Store(int64(fast)) }

// boot begins the time in which scripts run; it ends with the next reboot.
func (h *Host) boot() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.up, h.endUp = context.WithCancel(h.ctx)
}

// Reboot ends all that runs, as when power is lost, and brings the host up again: what stands in
// its boot for the guards of runs comes first, then its units.
func (h *Host) Reboot() {
	h.rebooting.Lock()
	defer h.rebooting.Unlock()
	h.mu.Lock()
	if h.ctx.Err() != nil {
		h.mu.Unlock()
		return
	}
	h.endUp()
	for name, timer := range h.timers {
		if timer.Stop() {
			h.running.Done()
		}
		delete(h.timers, name)
	}
	h.mu.Unlock()
	h.Deaf(true)
	h.scripts.Wait()
	for _, u := range h.units {
		u.stop()
	}
	h.booted.Store(time.Now().UnixNano())
	h.boot()
	if _, err := h.Files.Read("/etc/systemd/system/wladder-guard.service"); err == nil {
		h.Run("sh /var/lib/wladder/boot.sh boot")
	}
	for _, u := range h.units {
		u.start() // one that does not is seen by who asks
	}
	if _, err := h.Files.Read("/etc/systemd/system/wladder-guard-late.service"); err == nil {
		h.Run("sh /var/lib/wladder/boot.sh late")
	}
	h.Deaf(false)
}

// Works gives the configuration that a unit took up last; ok is false while it does not run.
func (h *Host) Works(name string) (configuration string, ok bool) {
	u := h.units[name]
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.service.Text, u.state == "active"
}
