package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// Service is what a program makes of its configuration.
type Service struct {
	Port    int // where it listens; 0: nowhere
	Banner  string
	Headers map[string]string
	Pages   map[string]string // by path; others answer 404
	Workers int
	Text    string // the configuration as read, for faults that depend on it
}

// Program reads its configuration, or says why it would not start with it.
type Program func(*Files) (Service, error)

// UnitConfig describes a unit and the program that it runs.
type UnitConfig struct {
	Name    string // such as nginx.service
	Checker string // the command that checks the configuration
	Read    Program
	User    string // as whom it is started; empty is root
}

// process is one entry of a unit's process list; started is in hundredths of a
// second since boot.
type process struct {
	pid     int64
	started int64
}

type unit struct {
	UnitConfig
	host *Host

	mu       sync.Mutex
	state    string // active, inactive, failed
	sub      string
	result   string
	said     string // its last words, where it did not start
	restarts int
	service  Service
	main     process
	workers  []process
	listener net.Listener
	server   *http.Server
	dies     *time.Timer
}

func (h *Host) sinceBoot() int64 {
	return (time.Now().UnixNano() - h.booted.Load()) / int64(10*time.Millisecond)
}

func (h *Host) newProcess() process { return process{h.pids.Add(1), h.sinceBoot()} }

// proc serves the files below /proc that depend on the moment.
func (h *Host) proc(name string) ([]byte, bool) {
	if name == "/proc/1/net/unix" {
		return nil, true // nobody listens on one
	}
	if name == "/proc/uptime" {
		up := h.sinceBoot()
		return fmt.Appendf(nil, "%d.%02d %d.00\n", up/100, up%100, up/100), true
	}
	if name == "/proc/sys/kernel/random/boot_id" {
		return fmt.Appendf(nil, "%08x-0000-4000-8000-%012x\n", uint32(h.booted.Load()>>32), uint32(h.booted.Load())), true
	}
	if !strings.HasPrefix(name, "/proc/") {
		return nil, false
	}
	for _, u := range h.units {
		if data, ok := u.proc(name); ok {
			return data, true
		}
	}
	return nil, false
}

func (u *unit) proc(name string) ([]byte, bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.state != "active" {
		return nil, false
	}
	if name == fmt.Sprintf("/proc/%d/task/%d/children", u.main.pid, u.main.pid) {
		var b strings.Builder
		for _, w := range u.workers {
			fmt.Fprintf(&b, "%d ", w.pid)
		}
		return []byte(b.String()), true
	}
	for _, p := range append([]process{u.main}, u.workers...) {
		if name == fmt.Sprintf("/proc/%d/comm", p.pid) {
			return []byte(strings.TrimSuffix(u.Name, ".service") + "\n"), true
		}
		if name == fmt.Sprintf("/proc/%d/stat", p.pid) {
			return fmt.Appendf(nil, "%d (a worker) S 1 %s%d 0 0\n", p.pid, strings.Repeat("0 ", 17), p.started), true
		}
	}
	return nil, false
}

func (u *unit) start() error {
	service, err := u.Read(u.host.Files)
	if err == nil && u.host.fault(RefuseStart, u.Name, service.Text) != nil {
		err = errors.New("refused to start (a scripted fault)")
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if err == nil {
		err = u.listen(service)
	}
	if err != nil {
		u.state, u.sub, u.result = "failed", "failed", "exit-code"
		u.said = fmt.Sprintf("%s: %v", strings.TrimSuffix(u.Name, ".service"), err)
		return err
	}
	u.said = ""
	u.state, u.sub, u.result = "active", "running", "success"
	u.main = u.host.newProcess()
	u.adopt(service)
	return nil
}

// adopt takes a configuration up: new workers, and the faults that it brings.
func (u *unit) adopt(service Service) {
	u.service, u.workers = service, nil
	for range service.Workers {
		u.workers = append(u.workers, u.host.newProcess())
	}
	if f := u.host.fault(DieAfter, u.Name, service.Text); f != nil {
		main := u.main
		u.dies = time.AfterFunc(f.For, func() {
			u.mu.Lock()
			defer u.mu.Unlock()
			if u.main == main { // not one that was started meanwhile
				u.die()
			}
		})
	}
}

// Kill ends a unit's process by signal 9.
func (h *Host) Kill(name string) {
	u := h.units[name]
	u.mu.Lock()
	defer u.mu.Unlock()
	u.die()
}

func (u *unit) die() {
	u.close()
	u.state, u.sub, u.result = "failed", "failed", "signal"
}

func (u *unit) listen(service Service) error {
	if service.Port == 0 {
		return nil
	}
	listener, err := net.Listen("tcp", fmt.Sprintf("%s:%d", u.host.ip(), service.Port))
	if err != nil {
		return err
	}
	u.listener = listener
	if service.Banner != "" {
		u.host.running.Go(func() {
			for {
				c, err := listener.Accept()
				if err != nil {
					return
				}
				io.WriteString(c, service.Banner+"\r\n")
				c.Close()
			}
		})
		return nil
	}
	u.server = &http.Server{Handler: http.HandlerFunc(u.answer), ReadHeaderTimeout: 5 * time.Second}
	server := u.server
	u.host.running.Go(func() { server.Serve(listener) })
	return nil
}

func (u *unit) answer(w http.ResponseWriter, r *http.Request) {
	u.mu.Lock()
	service := u.service
	u.mu.Unlock()
	for name, value := range service.Headers {
		w.Header().Set(name, value)
	}
	if u.host.fault(AnswerWrongly, u.Name, service.Text) != nil {
		http.Error(w, "out of order (a scripted fault)", http.StatusInternalServerError)
		return
	}
	page, ok := service.Pages[r.URL.Path]
	if !ok {
		http.NotFound(w, r)
		return
	}
	io.WriteString(w, page)
}

func (u *unit) close() {
	if u.dies != nil {
		u.dies.Stop()
	}
	if u.server != nil {
		u.server.Close()
	}
	if u.listener != nil {
		u.listener.Close()
	}
	u.server, u.listener, u.workers = nil, nil, nil
}

func (u *unit) stop() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.close()
	u.state, u.sub = "inactive", "dead"
}

// reload takes the configuration up in new workers. As real daemons do, it
// goes on with the old one where the new is wrong, and says nothing.
func (u *unit) reload() {
	service, err := u.Read(u.host.Files)
	u.mu.Lock()
	defer u.mu.Unlock()
	if err != nil {
		return
	}
	if service.Port != u.service.Port {
		old, server := u.listener, u.server
		u.listener, u.server = nil, nil
		if u.listen(service) != nil {
			u.listener, u.server = old, server
			return
		}
		if server != nil {
			server.Close()
		}
		if old != nil {
			old.Close()
		}
	}
	u.adopt(service)
}

// processes lists the ids of all units' processes.
func (h *Host) processes() (all []string) {
	for _, u := range h.units {
		u.mu.Lock()
		if u.state == "active" {
			for _, p := range append([]process{u.main}, u.workers...) {
				all = append(all, fmt.Sprint(p.pid))
			}
		}
		u.mu.Unlock()
	}
	return all
}

func systemctl(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, words, err := options(hc, "systemctl", args, "--no-block")
	if err != nil || len(words) == 0 {
		return errors.Join(err, fail(hc, 1, "systemctl: want a verb"))
	}
	if s.host.goingDown.Load() {
		return fail(hc, 1, "Failed to connect to bus: Transport endpoint is not connected")
	}
	verb := words[0]
	flags, names, err := options(hc, "systemctl", words[1:], "--quiet", "--now", "-p:", "--property:")
	if err == nil && verb == "show" && flags["--property"] != "" {
		s.host.loaded(hc.Stdout, names)
		return nil
	}
	if err == nil && verb == "daemon-reload" && len(names) == 0 {
		return nil
	}
	if err == nil && verb == "reboot" && len(names) == 0 {
		s.host.running.Add(1)
		go func() { // as systemd does, once it has said that it will
			defer s.host.running.Done()
			if f := s.host.fault(GoDownLate, "reboot"); f != nil {
				s.host.goingDown.Store(true)
				select {
				case <-time.After(f.For):
				case <-s.host.ctx.Done():
				}
				s.host.goingDown.Store(false)
			}
			s.host.Reboot()
		}()
		return nil
	}
	if err != nil || len(names) != 1 {
		return errors.Join(err, fail(hc, 1, "systemctl: want one unit"))
	}
	if strings.HasSuffix(names[0], ".timer") && verb == "stop" {
		return s.host.stopTimer(hc, names[0])
	}
	u := s.host.units[names[0]]
	if u == nil {
		return fail(hc, 5, "Unit %s could not be found.", names[0])
	}
	u.mu.Lock()
	active := u.state == "active"
	u.mu.Unlock()
	switch verb {
	case "show":
		u.show(hc.Stdout)
	case "is-active":
		if flags["--quiet"] == "" {
			u.mu.Lock()
			fmt.Fprintln(hc.Stdout, u.state)
			u.mu.Unlock()
		}
		if !active {
			return interp.ExitStatus(3)
		}
	case "is-enabled":
		fmt.Fprintln(hc.Stdout, "enabled")
	case "reset-failed":
	case "reload":
		if !active {
			return fail(hc, 1, "%s is not active, cannot reload.", u.Name)
		}
		u.reload()
	case "restart", "start":
		u.stop()
		if err := u.start(); err != nil {
			return fail(hc, 1, "Job for %s failed: %v", u.Name, err)
		}
	case "stop":
		u.stop()
	default:
		return fail(hc, 1, "systemctl: the stand-in does not know %s", verb)
	}
	return nil
}

// loaded tells which units fit names or patterns, as show with Id and LoadState does.
func (h *Host) loaded(w io.Writer, patterns []string) {
	for _, pattern := range patterns {
		if _, there := h.units[pattern]; !there && !strings.Contains(pattern, "*") {
			fmt.Fprintf(w, "Id=%s\nLoadState=not-found\nLimitNOFILE=1024\n\n", pattern)
		}
		for _, name := range slices.Sorted(maps.Keys(h.units)) {
			if fits, _ := path.Match(pattern, name); fits {
				u := h.units[name]
				fmt.Fprintf(w, "LimitNOFILE=4096\nMemoryMax=infinity\nAmbientCapabilities=\nUser=%s\nId=%s\nLoadState=loaded\n\n", u.User, name)
			}
		}
	}
}

// dpkgQuery knows the one form in which the versions of packages are asked for.
func dpkgQuery(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	_, names, err := options(hc, "dpkg-query", args, "-W", "-f:")
	if err != nil {
		return err
	}
	missing := error(nil)
	for _, name := range names {
		if version, there := s.host.Packages[name]; there {
			fmt.Fprintf(hc.Stdout, "%s %s ii \n", name, version)
		} else {
			missing = fail(hc, 1, "dpkg-query: no packages found matching %s", name)
		}
	}
	return missing
}

func (u *unit) show(w io.Writer) {
	u.mu.Lock()
	defer u.mu.Unlock()
	main, cause, status := u.main.pid, 0, 0
	if u.state != "active" {
		main, cause = 0, 1
	}
	switch u.result {
	case "signal":
		cause, status = 2, 9
	case "exit-code":
		status = 1
	}
	fmt.Fprintf(w, "ActiveState=%s\nSubState=%s\nNRestarts=%d\nMainPID=%d\nResult=%s\nExecMainCode=%d\nExecMainStatus=%d\nRestart=no\n", u.state, u.sub, u.restarts, main, u.result, cause, status)
}

// systemdRun starts a command later, as a transient timer does.
func systemdRun(_ context.Context, s *shell, hc interp.HandlerContext, args []string) error {
	if s.host.goingDown.Load() {
		return fail(hc, 1, "Failed to connect to bus: Transport endpoint is not connected")
	}
	flags, words, err := options(hc, "systemd-run", args, "--quiet", "--collect", "--unit:", "--on-active:", "--on-unit-inactive:", "--timer-property:", "--no-block", "-p:")
	after, bad := time.ParseDuration(flags["--on-active"])
	if err != nil || bad != nil || len(words) == 0 || s.files != s.host.Files {
		return errors.Join(err, fail(hc, 1, "systemd-run: want a time and a command, outside a namespace"))
	}
	again, _ := time.ParseDuration(flags["--on-unit-inactive"])
	h, name := s.host, flags["--unit"]+".timer"
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.timers[name] != nil {
		return fail(hc, 1, "systemd-run: unit %s was already loaded", name)
	}
	line := "'" + strings.Join(words, "' '") + "'"
	h.running.Add(1)
	var timer *time.Timer
	timer = time.AfterFunc(after, func() {
		defer h.running.Done()
		h.mu.Lock()
		up := h.up
		h.mu.Unlock()
		h.newShell(h.Files).run(up, line, strings.NewReader(""), io.Discard, io.Discard)
		h.mu.Lock()
		defer h.mu.Unlock()
		switch {
		case h.timers[name] != timer: // stopped meanwhile
		case again > 0 && h.ctx.Err() == nil:
			h.running.Add(1)
			timer.Reset(again)
		default:
			delete(h.timers, name)
		}
	})
	h.timers[name] = timer
	return nil
}

func (h *Host) stopTimer(hc interp.HandlerContext, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	timer := h.timers[name]
	if timer == nil {
		return fail(hc, 5, "Unit %s not loaded.", name)
	}
	if timer.Stop() {
		h.running.Done()
	}
	delete(h.timers, name)
	return nil
}
