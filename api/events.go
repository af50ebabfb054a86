package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"wladder/core/view"
)

// events streams what happens to a change. Entries of the record carry their
// number as id, so a reader that comes back with Last-Event-ID misses none;
// steps are hints without an id.
func (s *Server) events(ctx *gin.Context) {
	id, ok := s.known(ctx)
	if !ok {
		return
	}
	done, ok := s.limit.stream(ctx, who(ctx).Name)
	if !ok {
		return
	}
	defer done()
	events, stop := s.Engine.Subscribe(id)
	defer stop()
	last, err := strconv.ParseInt(ctx.GetHeader("Last-Event-ID"), 10, 64)
	if err != nil {
		last = -1
	}
	h := ctx.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	ctx.Status(http.StatusOK)
	of, leave := s.tails.follow(id)
	defer leave()
	write := func(format string, args ...any) { fmt.Fprintf(ctx.Writer, format, args...) }
	behind := func(all []sent, err error) {
		if err != nil {
			return // the next hint, or the next quiet moment, brings it
		}
		for _, one := range all {
			ctx.Writer.Write(one.text)
			last = one.seq
		}
	}
	pass := func(e view.Event) {
		if e.Type == "record" {
			behind(s.since(ctx, of, id, last, toldOf(e)))
			return
		}
		write("event: %s\ndata: %s\n\n", e.Type, e.Data)
	}
	if last < 0 { // a new reader has just read how things stand
		last = 0
		if all, err := s.Store.RecordEnd(ctx); err == nil {
			last = all
		}
		write(": following change %d\n\n", id)
	} else {
		behind(s.sentBehind(ctx, id, last))
	}
	ctx.Writer.Flush()
	quiet := time.NewTicker(15 * time.Second)
	defer quiet.Stop()
	for {
		select {
		case <-ctx.Request.Context().Done():
			return
		case <-quiet.C:
			if _, err := s.Store.Who(ctx, token(ctx)); err != nil {
				return // signed out, ended, or not to be known
			}
			behind(s.sentBehind(ctx, id, last)) // a hint may have been lost
			write(": still here\n\n")
		case e := <-events:
			pass(e)
			for range len(events) { // what waits already goes in the same piece
				pass(<-events)
			}
		}
		ctx.Writer.Flush()
	}
}
