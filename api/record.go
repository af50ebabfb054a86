package api

import (
	"errors"
	"fmt"

	"github.com/gin-gonic/gin"

	"wladder/core/record"
	"wladder/core/view"
	"wladder/store"
)

func (s *Server) record(ctx *gin.Context) {
	if n, ok := s.numbers(ctx, rows, "change", "after"); ok {
		give(s, ctx)(s.Store.Record(ctx, n[1], n[2], int(n[0])))
	}
}

// exportRecord writes the record as it goes: where something fails on the way, the answer ends without
// the checkpoint, and does not hold.
func (s *Server) exportRecord(ctx *gin.Context) {
	end, err := s.Store.Checkpoint(ctx)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.Header("Content-Type", jsonLines)
	ctx.Header("Content-Disposition", fmt.Sprintf("attachment; filename=record-%d.jsonl", end.Seq))
	err = record.Export(ctx.Writer, func(after int64) ([]record.Entry, error) { return s.Store.Record(ctx, 0, after, rows) }, end)
	if err != nil {
		s.Log.Warn("the record was not exported to its end", "error", err)
	}
}

// jsonLines is the media type of an export, a JSON text a line.
const jsonLines = "application/jsonl"

// told gives the record as people read it.
func (s *Server) told(ctx *gin.Context) {
	n, ok := s.numbers(ctx, 500, "before", "change")
	since, ok2 := s.moment(ctx, "since")
	until, ok3 := s.moment(ctx, "until")
	if ok && ok2 && ok3 {
		give(s, ctx)(s.Store.Told(ctx, store.RecordFilter{Change: n[2], Host: ctx.Query("host"), By: ctx.Query("by"), Since: since, Until: until, Before: n[1], Limit: int(n[0])}))
	}
}

func (s *Server) verify(ctx *gin.Context) {
	chain, waiting, seams, err := s.Store.VerifyRecord(ctx)
	var broken *record.Broken
	out := view.Verification{Holds: true, Entries: chain.Seq, Hash: chain.Hash, Waiting: waiting, Seams: seams}
	if errors.As(err, &broken) {
		out.Holds, out.Broken, err = false, broken.Error(), nil
	} else if sound := s.Store.Sound(); err == nil && sound != nil { // found before, elsewhere
		out.Holds, out.Broken = false, sound.Error()
	}
	give(s, ctx)(out, err)
}
