package api

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"wladder/core/change"
	"wladder/core/view"
	"wladder/core/written"
	"wladder/store"
)

// checkDraft says what is wrong with a change as it is being written, which hosts it fits, and what it
// comes to by what is known of them. It keeps nothing, and reads no host.
func (s *Server) checkDraft(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	out := view.DraftChecked{Problems: []view.DraftProblem{}, First: []string{}, Doubts: []string{}, Edits: []view.DraftEdit{}, Probes: []view.DraftProbe{}}
	spec, err := s.written(ctx, data)
	var all, fit []view.Host
	if spec != nil {
		out.Title = spec.Title
		if spec.Where != "" {
			var bad error
			if all, fit, bad = s.Engine.Targets(ctx, spec.Where); err == nil {
				err = bad
			}
		}
		out.Hosts = len(fit)
		for _, h := range fit[:min(len(fit), view.DraftHosts)] {
			out.First = append(out.First, h.Name)
		}
	}
	if err == nil {
		err = s.Engine.Foresee(ctx, spec, all, fit, &out)
	}
	if err != nil {
		if store.Transient(err) {
			s.fail(ctx, err)
			return
		}
		out.Problems = problemsOf(data, err)
	}
	ctx.JSON(http.StatusOK, out)
}

// written reads a change that is being written, and refuses secrets that it writes out.
func (s *Server) written(ctx *gin.Context, data []byte) (*change.Spec, error) {
	spec, err := change.Parse("change", data)
	if err == nil {
		err = s.Engine.Literals(ctx, spec)
	}
	return spec, err
}

// preview says what a change that is being written comes to on one host.
func (s *Server) preview(ctx *gin.Context) {
	var in view.Previewing
	if !s.read(ctx, &in) {
		return
	}
	spec, err := s.written(ctx, []byte(in.Text))
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	give(s, ctx)(s.Engine.Preview(ctx, spec, in.Host, in.Again))
}

// problemsOf gives what is wrong with a text, each thing at its line as far as that is known.
func problemsOf(data []byte, err error) (all []view.DraftProblem) {
	var at *written.Misplaced
	var many *written.Problems
	if several, ok := err.(interface{ Unwrap() []error }); ok {
		for _, one := range several.Unwrap() {
			all = append(all, problemsOf(data, one)...)
		}
		return all
	}
	switch {
	case errors.As(err, &at):
		return []view.DraftProblem{{Line: at.Line, Column: at.Column, Text: at.What}}
	case errors.As(err, &many):
		for _, text := range many.Texts {
			all = append(all, view.DraftProblem{Line: written.Place(data, text), Text: text})
		}
		return all
	}
	return []view.DraftProblem{{Text: err.Error()}}
}

// basis reads on which revision somebody's text rests, as in RFC 9110's If-Match; 0 where they do
// not say.
func (s *Server) basis(ctx *gin.Context) (revision int, ok bool) {
	text := ctx.GetHeader("If-Match")
	if text == "" {
		return 0, true
	}
	revision, err := strconv.Atoi(strings.Trim(text, `"`))
	if err != nil || revision < 1 {
		s.fail(ctx, invalid{fmt.Errorf("If-Match: %s: want the number of a revision, in quotes", text)})
		return 0, false
	}
	return revision, true
}
