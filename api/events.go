package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"wladder/core/record"
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
	write := func(format string, args ...any) {
		fmt.Fprintf(ctx.Writer, format, args...)
		ctx.Writer.Flush()
	}
	send := func(e record.Entry) {
		data, err := json.Marshal(e)
		if err != nil {
			return
		}
		write("id: %d\nevent: record\ndata: %s\n\n", e.Seq, data)
		last = e.Seq
	}
	backlog := func() {
		for {
			entries, err := s.Store.Record(ctx, id, last, 1000)
			if err != nil {
				return
			}
			for _, e := range entries {
				send(e)
			}
			if len(entries) < 1000 {
				return
			}
		}
	}
	if last < 0 { // a new reader has just read how things stand
		last = 0
		if all, err := s.Store.RecordEnd(ctx); err == nil {
			last = all
		}
		write(": following change %d\n\n", id)
	} else {
		backlog()
	}
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
			write(": still here\n\n")
		case e := <-events:
			s.pass(e, write, backlog)
		}
	}
}

func (s *Server) pass(e view.Event, write func(string, ...any), backlog func()) {
	if e.Type == "record" {
		backlog()
		return
	}
	write("event: %s\ndata: %s\n\n", e.Type, e.Data)
}
