package api

import (
	"maps"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"wladder/core/change"
	"wladder/core/form"
	"wladder/core/view"
)

// blanks gives a form with its blanks, by name.
func blanks(v view.Form) (view.Form, error) {
	f, err := form.Stored("form "+v.Name, v.Names, []byte(v.Source))
	if err != nil {
		return v, err
	}
	v.Blanks = []view.Blank{}
	for _, name := range slices.Sorted(maps.Keys(f.Blanks)) {
		b := f.Blanks[name]
		v.Blanks = append(v.Blanks, view.Blank{Name: name, Type: b.Type, Range: b.Range, Choices: b.Choices, Measure: b.Measure, Default: b.Default, Explanation: b.Explanation})
	}
	return v, nil
}

func (s *Server) forms(ctx *gin.Context) {
	all, err := s.Store.Forms(ctx)
	for i := range all {
		if err == nil {
			all[i], err = blanks(all[i])
		}
	}
	give(s, ctx)(all, err)
}

func (s *Server) form(ctx *gin.Context) {
	v, err := s.Store.Form(ctx, ctx.Param("name"))
	if err == nil {
		v, err = blanks(v)
	}
	give(s, ctx)(v, err)
}

func (s *Server) keepForm(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	f, err := form.Parse("form", data)
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	v, err := s.Store.KeepForm(ctx, who(ctx).Name, string(data), f)
	if err == nil {
		v, err = blanks(v)
	}
	give(s, ctx)(v, err)
}

func (s *Server) draftForm(ctx *gin.Context) {
	var in view.Filling
	if !s.read(ctx, &in) {
		return
	}
	v, err := s.Store.Form(ctx, ctx.Param("name"))
	if err != nil {
		s.fail(ctx, err)
		return
	}
	f, err := form.Stored("form "+v.Name, v.Names, []byte(v.Source))
	var text []byte
	if err == nil {
		text, err = f.Filled(in.Blanks)
	}
	var spec *change.Spec
	if err == nil {
		spec, err = change.Parse("form "+v.Name, text)
	}
	if err == nil {
		err = s.Engine.Literals(ctx, spec)
	}
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	id, err := s.Store.Draft(ctx, who(ctx).Name, 0, spec)
	if err != nil {
		s.fail(ctx, err)
		return
	}
	ctx.JSON(http.StatusCreated, view.Created{ID: id})
}
