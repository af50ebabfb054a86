package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wladder/core/ladder"
	"wladder/core/probe"
	"wladder/host"
)

// drains tells whether the service gets out of the way before its act.
func (s *service) drains() bool { return s.Drain != nil && s.acting.Act.Interrupts() }

// reboot has the host boot anew, and waits until it is back. What is under way ends with it; the
// guard knows of it, and gives its span anew.
func (r *hostRun) reboot(ctx context.Context, s *service, label string) (result, error) {
	begun, timeout := time.Now(), time.Duration(s.mine.Act.Timeout)
	rebooted, err := r.conn.Reboot(ctx, r.claim, label, s.acting, r.span())
	if err != nil {
		return result{}, err
	}
	for !rebooted {
		if time.Since(begun) > timeout {
			return failed("%s", r.of(s, fmt.Sprintf("the host was to boot anew, and is not back after %s", timeout))), nil
		}
		r.hangUp()
		if err := r.rest(rebootLook); err != nil {
			return result{}, err
		}
		bounded, cancel := context.WithTimeout(ctx, time.Minute)
		if r.connect(bounded) == nil {
			if rebooted, err = r.conn.Reboot(bounded, r.claim, label, s.acting, r.span()); err != nil && !errors.As(err, new(*host.Lost)) && !errors.As(err, new(*host.Unreachable)) {
				cancel()
				return result{}, err
			}
		}
		cancel()
	}
	return done("%s", r.of(s, fmt.Sprintf("the host has booted anew, and is back after %s", time.Since(begun).Round(time.Second)))), nil
}

// rebootLook is how often a host that boots is looked for.
const rebootLook = 2 * time.Second

// drain has services get out of the way, one after the other, and waits until what they wait
// for holds.
func (r *hostRun) drain(ctx context.Context, ask asker) (result, error) {
	var notes []string
	for _, s := range r.services {
		if !s.drains() {
			continue
		}
		begun, note := time.Now(), "is out of the way"
		if len(s.Drain.Command) > 0 {
			if err := r.conn.Drain(ctx, r.claim, s.acting); err != nil {
				return result{}, err
			}
		}
		if p := s.Drain.Until; p != nil {
			within := time.Duration(s.Drain.Within)
			res, err := r.wellWithin(ctx, ask, probe.Later, []probe.Probe{named(s.Part, *p, len(r.services) > 1)}, nil, max(within-time.Since(begun), 0))
			if err != nil {
				return result{}, err
			}
			if res.outcome != ladder.OK {
				return failed("%s", r.of(s, fmt.Sprintf("%s; it has %s to get out of the way", res.note, within))), nil
			}
			note += ": " + res.note
		}
		notes = append(notes, r.of(s, note))
	}
	return done("%s", strings.Join(notes, "; ")), nil
}

// readmit has services come back that got out of the way, in reverse.
func (r *hostRun) readmit(ctx context.Context) (result, error) {
	var notes []string
	for _, s := range slices.Backward(r.services) {
		if !s.drains() || len(s.Drain.Readmit) == 0 {
			continue
		}
		if err := r.conn.Readmit(ctx, r.claim, s.acting); err != nil {
			return result{}, err
		}
		notes = append(notes, r.of(s, "is back"))
	}
	return done("%s", strings.Join(notes, "; ")), nil
}
