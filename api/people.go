package api

import (
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"wladder/core/identity"
	"wladder/core/view"
	"wladder/store"
)

func (s *Server) changePassword(ctx *gin.Context) {
	var in view.PasswordChange
	if !s.read(ctx, &in) {
		return
	}
	me := who(ctx).Name
	err := s.limit.attempt(ctx, s.source(ctx), me, func() error { return s.Store.ChangePassword(ctx, me, token(ctx), in.Old, in.New) })
	if errors.Is(err, store.ErrSignIn) { // the sign-in itself is well
		err = invalid{errors.New("the old password is wrong")}
	}
	s.nothing(ctx, http.StatusNoContent, err)
}

func (s *Server) endOwnSignIn(ctx *gin.Context) {
	if id, ok := s.id(ctx); ok {
		s.nothing(ctx, http.StatusNoContent, s.Store.EndSignIns(ctx, who(ctx).Name, who(ctx).Name, id))
	}
}

func (s *Server) makeToken(ctx *gin.Context) {
	var in view.NewToken
	if !s.read(ctx, &in) {
		return
	}
	lasts := time.Duration(in.Days) * 24 * time.Hour
	if in.Days == 0 {
		lasts = tokenLasts
	}
	if lasts < 0 || lasts > longestToken {
		s.fail(ctx, invalid{errors.New("days: want 1 to 366")})
		return
	}
	made, err := s.Store.MakeToken(ctx, who(ctx).Name, in.Label, in.Scopes, lasts, s.source(ctx))
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Token{Token: made})
}

func (s *Server) addPerson(ctx *gin.Context) {
	var in view.NewPerson
	if !s.read(ctx, &in) {
		return
	}
	request, err := s.Store.AddPerson(ctx, who(ctx).Name, in)
	give(s, ctx)(view.Requested{Request: request}, err)
}

func (s *Server) changePerson(ctx *gin.Context) {
	var in view.PersonChange
	if !s.read(ctx, &in) {
		return
	}
	me, name := who(ctx).Name, ctx.Param("name")
	var request int64
	var err error
	given := 0
	for _, is := range []bool{in.Roles != nil, in.Password != "", in.Disabled != nil, in.Directory} {
		if is {
			given++
		}
	}
	switch {
	case given != 1:
		err = invalid{errors.New("want one of roles, password, disabled and directory")}
	case in.Roles != nil:
		request, err = s.Store.SetRoles(ctx, me, name, *in.Roles)
	case in.Password != "":
		request, err = s.Store.ResetPassword(ctx, me, name, in.Password)
	case in.Disabled != nil:
		request, err = s.Store.Disable(ctx, me, name, *in.Disabled)
	case s.Directory == nil:
		err = identity.NotAsked
	default:
		request, err = s.Store.TieToDirectory(ctx, me, name)
	}
	give(s, ctx)(view.Requested{Request: request}, err)
}

func (s *Server) decide(ctx *gin.Context) {
	var in view.Decision
	id, ok := s.id(ctx)
	if !ok || !s.read(ctx, &in) {
		return
	}
	s.nothing(ctx, http.StatusNoContent, s.Store.Decide(ctx, who(ctx).Name, id, in.Agreed))
}

func (s *Server) bindSecret(ctx *gin.Context) {
	var in view.Binding
	if !s.read(ctx, &in) {
		return
	}
	s.nothing(ctx, http.StatusNoContent, s.Store.BindSecret(ctx, who(ctx).Name, ctx.Param("name"), in))
}
