package api

import (
	"github.com/gin-gonic/gin"

	"wladder/core/view"
)

func (s *Server) lookForDrift(ctx *gin.Context) {
	var in view.Where
	if !s.read(ctx, &in) {
		return
	}
	missed, err := s.Engine.LookForDrift(ctx, in.Where)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	out, err := s.Store.Drift(ctx, "")
	out.Missed = missed
	give(s, ctx)(out, err)
}

func (s *Server) compare(ctx *gin.Context) {
	var in view.Comparing
	if !s.read(ctx, &in) {
		return
	}
	out, err := s.Engine.Compare(ctx, in)
	give(s, ctx)(out, err)
}
