package api

import (
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"wladder/core/policy"
	"wladder/core/view"
)

func (s *Server) loadPolicy(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	p, err := policy.Parse("policy", data)
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	request, err := s.Store.LoadPolicy(ctx, who(ctx).Name, string(data), p)
	give(s, ctx)(view.Requested{Request: request}, err)
}

// reasoned has do act on the change of a request that says why.
func (s *Server) reasoned(ctx *gin.Context, do func(id int64, in view.Judgement) error) {
	id, ok := s.id(ctx)
	var in view.Judgement
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, do(id, in))
	}
}

func (s *Server) emergency(ctx *gin.Context) {
	s.reasoned(ctx, func(id int64, in view.Judgement) error {
		return s.Store.Emergency(ctx, who(ctx).Name, id, in.Digest, in.Because)
	})
}

func (s *Server) reviewAfter(ctx *gin.Context) {
	s.reasoned(ctx, func(id int64, in view.Judgement) error {
		return s.Store.Review(ctx, who(ctx).Name, id, in.Because)
	})
}

func (s *Server) takeApprovalBack(ctx *gin.Context) {
	s.reasoned(ctx, func(id int64, in view.Judgement) error {
		return s.Store.TakeApprovalBack(ctx, who(ctx).Name, id, in.Because)
	})
}

func (s *Server) withdraw(ctx *gin.Context) {
	s.reasoned(ctx, func(id int64, in view.Judgement) error {
		return s.Store.Withdraw(ctx, who(ctx).Name, id, in.Because)
	})
}

func (s *Server) takeOver(ctx *gin.Context) {
	s.reasoned(ctx, func(id int64, in view.Judgement) error {
		return s.Store.TakeOver(ctx, who(ctx).Name, id, in.Because)
	})
}

func (s *Server) share(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Sharing
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.Share(ctx, who(ctx).Name, id, in.With))
	}
}

func (s *Server) acknowledge(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Acknowledgement
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.Acknowledge(ctx, who(ctx).Name, id, in.Digest, in.Finding, in.Because))
	}
}

func (s *Server) look(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Looking
	if ok && s.read(ctx, &in) {
		s.nothing(ctx, http.StatusNoContent, s.Store.Look(ctx, who(ctx).Name, id, in))
	}
}

func (s *Server) override(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.Overriding
	if ok && s.read(ctx, &in) {
		me := who(ctx)
		s.nothing(ctx, http.StatusNoContent, s.Store.Override(ctx, me.Name, me.Roles, id, in.Digest, in.Host, in.Finding, in.Because))
	}
}

func (s *Server) comment(ctx *gin.Context) {
	id, ok := s.id(ctx)
	var in view.NewComment
	if !ok || !s.read(ctx, &in) {
		return
	}
	number, err := s.Store.Comment(ctx, who(ctx).Name, id, in)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Created{ID: number})
}

func (s *Server) settle(ctx *gin.Context) {
	id, ok := s.id(ctx)
	if !ok {
		return
	}
	number, err := strconv.ParseInt(ctx.Param("comment"), 10, 64)
	if err != nil || number < 1 {
		s.fail(ctx, invalid{fmt.Errorf("%q is not a comment's number", ctx.Param("comment"))})
		return
	}
	s.nothing(ctx, http.StatusNoContent, s.Store.Settle(ctx, who(ctx).Name, id, number))
}
