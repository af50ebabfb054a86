package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"wladder/core/definition"
	"wladder/core/probe"
)

// doorWatch asks the front door again and again while the service takes its
// files up, as those who come by it would.
type doorWatch struct {
	stop  context.CancelFunc
	ended sync.WaitGroup

	asked, failed int
	out           time.Duration // the longest time without an answer that is well
	last          string        // what was wrong
}

// doorAsk bounds one question: who waits longer has gone.
const doorAsk = time.Second

// watch begins to ask the front door, where the definition has one.
func (s *service) watch(ctx context.Context, ask asker) {
	if s.FrontDoor == nil {
		return
	}
	s.shut()
	ctx, stop := context.WithCancel(ctx)
	s.door = &doorWatch{stop: stop}
	s.door.ended.Go(func() { s.door.run(ctx, *s.FrontDoor, ask) })
}

func (w *doorWatch) run(ctx context.Context, door definition.FrontDoor, ask asker) {
	p := door.Probe()
	question, err := probe.ParseAsk(p.Ask)
	if err != nil {
		return
	}
	var since time.Time // when it was found shut
	for ctx.Err() == nil {
		begun := time.Now()
		bounded, cancel := context.WithTimeout(ctx, doorAsk)
		v := p.Judge(probe.Later, ask.network(bounded, p, question))
		cancel()
		if ctx.Err() != nil {
			break
		}
		w.asked++
		if v.Well {
			since = time.Time{}
		} else {
			w.failed++
			w.last = ask.redactor.Clean(v.Why)
			if since.IsZero() {
				since = begun
			}
			w.out = max(w.out, time.Since(since))
		}
		if wait(ctx, time.Duration(door.Every)) != nil {
			break
		}
	}
}

// shut ends the watch, if there is one.
func (s *service) shut() {
	if s.door != nil {
		s.door.stop()
		s.door.ended.Wait()
	}
}

// doorSays tells how it went at the front door, and whether that was too bad.
func (s *service) doorSays() (text string, bad bool) {
	if s.door == nil {
		return "the front door was not watched: the act was another server's", false
	}
	s.shut()
	w, limit := s.door, s.FrontDoor
	text = fmt.Sprintf("the front door was asked %s during the act, %d failed, shut for %.1f s at most", counted(w.asked, "time"), w.failed, w.out.Seconds())
	if w.failed > 0 {
		text += " (" + w.last + ")"
	}
	switch {
	case limit.Out > 0 && w.out > time.Duration(limit.Out):
		return fmt.Sprintf("%s; at most %s are allowed", text, time.Duration(limit.Out)), true
	case limit.Failed > 0 && w.failed > limit.Failed:
		return fmt.Sprintf("%s; at most %d may fail", text, limit.Failed), true
	}
	return text, false
}
