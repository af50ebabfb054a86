package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"wladder/core/change"
	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/host"
)

func (s *Server) runs(ctx *gin.Context) {
	n, ok := s.numbers(ctx, rows, "after")
	if !ok {
		return
	}
	id, ok := s.known(ctx)
	if !ok {
		return
	}
	since, ok := s.moment(ctx, "since")
	if !ok {
		return
	}
	give(s, ctx)(s.Store.Runs(ctx, id, n[1], since, ladder.RunState(ctx.Query("state")), int(n[0])))
}

func (s *Server) offer(ctx *gin.Context) {
	if id, ok := s.id(ctx); ok {
		s.nothing(ctx, http.StatusNoContent, s.Store.Offer(ctx, who(ctx).Name, id))
	}
}

func (s *Server) approve(ctx *gin.Context) { s.judge(ctx, change.Approval) }

func (s *Server) decline(ctx *gin.Context) { s.judge(ctx, change.Declined) }

func (s *Server) judge(ctx *gin.Context, event change.Event) {
	id, ok := s.id(ctx)
	var in view.Judgement
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.Judge(ctx, who(ctx).Name, id, in.Digest, event, in.Because))
	}
}

// onlyHosts tells whether a request is for some hosts only, instead of for all.
func (s *Server) onlyHosts(ctx *gin.Context, some string) (only, ok bool) {
	hosts := ctx.Query("hosts")
	if hosts != "" && hosts != "all" && hosts != some {
		s.fail(ctx, invalid{fmt.Errorf("hosts=%s: want all or %s", hosts, some)})
		return false, false
	}
	return hosts == some, true
}

func (s *Server) climb(ctx *gin.Context) {
	id, ok := s.id(ctx)
	if !ok {
		return
	}
	start := s.Store.StartClimb
	behind, ok := s.onlyHosts(ctx, "behind")
	if !ok {
		return
	}
	if behind {
		start = s.Store.TakeLater
	}
	_, err := start(ctx, who(ctx).Name, id, host.Carried()...)
	s.nothing(ctx, http.StatusAccepted, err)
}

func (s *Server) followUp(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Judgement
	if !ok || !s.read(ctx, &in) {
		return
	}
	made, err := s.Engine.FollowUp(ctx, who(ctx).Name, id, in.Because)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Created{ID: made})
}

func (s *Server) order(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Order
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.Order(ctx, who(ctx).Name, id, in.Order, in.Because, host.Carried()...))
	}
}

func (s *Server) orderHost(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.HostOrder
	if !ok || !s.read(ctx, &in) {
		return
	}
	do, known := map[string]func(context.Context, string, int64, string, string) error{"again": s.Store.TryAgain, "give-up": s.Store.GiveUp, "overwrite": s.Store.Overwrite}[in.Order]
	if !known {
		s.fail(ctx, invalid{fmt.Errorf("order: %q; want again, give-up or overwrite", in.Order)})
		return
	}
	s.nothing(ctx, http.StatusNoContent, do(ctx, who(ctx).Name, id, ctx.Param("host"), in.Because))
}

func (s *Server) hostRun(ctx *gin.Context) {
	if id, ok := s.id(ctx); ok {
		give(s, ctx)(s.Store.HostRun(ctx, id, ctx.Param("host")))
	}
}
