package api

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"wladder/core/identity"
	"wladder/core/view"
	"wladder/directory"
)

// attemptLasts is how long somebody may take at the directory.
const attemptLasts = 10 * time.Minute

// attempt is what a browser keeps while its person is at the directory: the cookie proves that who
// comes back is who went.
type attempt struct {
	directory.Attempt
	To string    `json:"to"` // the page to go on with
	At time.Time `json:"at"`
}

// attemptCookie names the cookie; with TLS the prefix keeps others from setting it (RFC 6265bis, 4.1.3).
func (s *Server) attemptCookie(ctx *gin.Context) *http.Cookie {
	c := &http.Cookie{Name: "wladder_attempt", Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode}
	if s.secure(ctx) {
		c.Name, c.Secure = "__Host-"+c.Name, true
	}
	return c
}

// waysIn says how one may sign in, and, where a sign-in failed, why.
func (s *Server) waysIn(ctx *gin.Context) {
	var ways view.WaysIn
	if s.Directory != nil {
		ways.Directory = s.Directory.Name
	}
	if why := identity.Refusal(ctx.Query("why")); why.Known() {
		ways.Why = why.Error()
	}
	ctx.JSON(http.StatusOK, ways)
}

// toDirectory sends a browser to the directory.
func (s *Server) toDirectory(ctx *gin.Context) {
	if s.Directory == nil {
		s.turnAway(ctx, identity.NotAsked)
		return
	}
	at, a, err := s.Directory.Begin(ctx)
	if err != nil {
		s.turnAway(ctx, err)
		return
	}
	kept, err := json.Marshal(attempt{a, ownPage(ctx.Query("to")), time.Now().UTC()})
	if err != nil {
		s.turnAway(ctx, err)
		return
	}
	c := s.attemptCookie(ctx)
	c.Value, c.MaxAge = base64.RawURLEncoding.EncodeToString(kept), int(attemptLasts.Seconds())
	http.SetCookie(ctx.Writer, c)
	ctx.Redirect(http.StatusSeeOther, at)
}

// ownPage gives a page of the console, or the first one for what leads elsewhere.
func ownPage(text string) string {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "" || u.Host != "" || u.User != nil || !strings.HasPrefix(u.Path, "/") || strings.HasPrefix(u.Path, "//") || strings.ContainsAny(text, "\\\t\r\n") || strings.HasPrefix(u.Path, prefix) {
		return "/"
	}
	return u.String()
}

// fromDirectory signs in whom the directory has sent back.
func (s *Server) fromDirectory(ctx *gin.Context) {
	if s.Directory == nil {
		s.turnAway(ctx, identity.NotAsked)
		return
	}
	c := s.attemptCookie(ctx)
	var a attempt
	if text, err := ctx.Cookie(c.Name); err == nil {
		if kept, err := base64.RawURLEncoding.DecodeString(text); err == nil && json.Unmarshal(kept, &a) == nil && time.Since(a.At) > attemptLasts {
			a = attempt{}
		}
	}
	c.MaxAge = -1
	http.SetCookie(ctx.Writer, c) // it serves once
	person, err := s.Directory.Finish(ctx, a.Attempt, ctx.Query("state"), ctx.Query("code"), ctx.Query("error"))
	var token string
	if err == nil {
		token, err = s.Store.SignInFrom(ctx, person, "console", s.source(ctx), sessionLasts)
	}
	if err != nil {
		s.turnAway(ctx, err)
		return
	}
	s.giveSession(ctx, token)
	ctx.Redirect(http.StatusSeeOther, ownPage(a.To))
}

// turnAway sends a browser to the sign-in page, which says why.
func (s *Server) turnAway(ctx *gin.Context, err error) {
	var why identity.Refusal
	if !errors.As(err, &why) {
		s.fail(ctx, err)
		return
	}
	ctx.Redirect(http.StatusSeeOther, "/?sign-in="+url.QueryEscape(string(why)))
}

// giveSession gives a browser its sign-in: scripts in a page never see the token.
func (s *Server) giveSession(ctx *gin.Context, token string) {
	http.SetCookie(ctx.Writer, &http.Cookie{Name: cookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: s.secure(ctx), MaxAge: int(sessionLasts.Seconds())})
}

// signInElsewhere begins the sign-in of a program that has no browser.
func (s *Server) signInElsewhere(ctx *gin.Context) {
	if s.Directory == nil {
		s.fail(ctx, identity.NotAsked)
		return
	}
	e, err := s.Directory.BeginElsewhere(ctx)
	give(s, ctx)(view.Elsewhere{Device: e.Device, Code: e.Code, Address: e.Address, WithCode: e.WithCode, EndsAt: e.EndsAt, Every: e.Every}, err)
}

// signedInElsewhere gives the token once somebody has typed the code.
func (s *Server) signedInElsewhere(ctx *gin.Context) {
	var in view.ElsewhereAsked
	if !s.read(ctx, &in) {
		return
	}
	if s.Directory == nil {
		s.fail(ctx, identity.NotAsked)
		return
	}
	person, waiting, err := s.Directory.Await(ctx, in.Device, in.Every)
	var out view.SignedInElsewhere
	if err == nil && !waiting {
		if out.Token, err = s.Store.SignInFrom(ctx, person, "client", s.source(ctx), sessionLasts); err == nil {
			out.Account, err = s.Store.Who(ctx, out.Token)
		}
	}
	out.Waiting = waiting
	give(s, ctx)(out, err)
}
