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

// checkedHosts is how many hosts an expression is tried on for who drafts.
const checkedHosts = 20_000

// checkDraft says what is wrong with a change as it is being written, and how many hosts it fits. It
// keeps nothing, and reads no host.
func (s *Server) checkDraft(ctx *gin.Context) {
	data, ok := s.text(ctx)
	if !ok {
		return
	}
	out := view.DraftChecked{Problems: []view.DraftProblem{}, First: []string{}}
	spec, err := change.Parse("change", data)
	if err == nil {
		out.Title = spec.Title
		err = s.Engine.Literals(ctx, spec)
	}
	if err != nil {
		if store.Transient(err) {
			s.fail(ctx, err)
			return
		}
		out.Problems = problemsOf(data, err)
	}
	if spec != nil && spec.Where != "" {
		hosts, err := s.Store.HostList(ctx, store.HostFilter{Where: spec.Where, Limit: checkedHosts})
		var bad *store.Unfit
		switch {
		case errors.As(err, &bad):
			if len(out.Problems) == 0 { // else one of them says so
				out.Problems = problemsOf(data, err)
			}
		case err != nil:
			s.fail(ctx, err)
			return
		}
		out.Hosts = len(hosts)
		for _, h := range hosts[:min(len(hosts), 12)] {
			out.First = append(out.First, h.Name)
		}
	}
	ctx.JSON(http.StatusOK, out)
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
