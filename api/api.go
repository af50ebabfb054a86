// Package api serves the engine and the store over HTTP: JSON under /api/v1,
// problems as RFC 9457 has them, and events as Server-Sent Events. The routes
// stand in one table, from which openapi.yaml is made.
package api

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"wladder/core/identity"
	"wladder/core/trouble"
	"wladder/core/view"
	"wladder/core/written"
	"wladder/directory"
	"wladder/engine"
	"wladder/host"
	"wladder/store"
)

// Config says what is served.
type Config struct {
	Store   *store.Store
	Engine  *engine.Engine
	Log     *slog.Logger
	Console fs.FS        // the built console; nil serves none
	Metrics http.Handler // at /metrics, for who may look; nil serves none
	Limits  Limits       // DefaultLimits where unset
	// Directory signs people in beside the passwords; nil where the team has none.
	Directory *directory.Directory
	TLS       bool // requests come by TLS of our own
	// Behind are the proxies through which alone requests come, by TLS of theirs; where
	// there are none, anybody reaches us.
	Behind []netip.Prefix
}

// Server answers requests.
type Server struct {
	Config
	router http.Handler
	limit  *limiter
	tails  tails
}

// New makes a server; it is an http.Handler.
func New(c Config) *Server {
	if c.Limits == (Limits{}) {
		c.Limits = DefaultLimits
	}
	s := &Server{Config: c, limit: newLimiter(c.Limits), tails: tails{of: map[int64]*tail{}}}
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.Use(gin.CustomRecoveryWithWriter(io.Discard, func(ctx *gin.Context, p any) {
		s.Log.Error("a handler panicked", "path", ctx.FullPath(), "panic", fmt.Sprint(p))
		problem(ctx, http.StatusInternalServerError, "the server made a mistake; its log has the details")
	}))
	g.Use(func(ctx *gin.Context) {
		h := ctx.Writer.Header()
		if len(s.Behind) > 0 && !s.proxied(ctx) {
			problem(ctx, http.StatusForbidden, "this server is reached through its proxy only")
			return
		}
		if s.secure(ctx) {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		if strings.HasPrefix(ctx.Request.URL.Path, prefix) {
			h.Set("Cache-Control", "no-store")
		}
		query, err := url.QueryUnescape(ctx.Request.URL.RawQuery)
		if address := ctx.Request.URL.Path + query; err != nil || !utf8.ValidString(address) || strings.ContainsRune(address, 0) {
			problem(ctx, http.StatusBadRequest, "the address of this request holds bytes that are no text")
			return
		}
		ctx.Request.Body = http.MaxBytesReader(ctx.Writer, ctx.Request.Body, longest(ctx.Request.URL.Path))
		if ctx.Request.ContentLength != 0 { // a body comes within a time, or not at all
			http.NewResponseController(ctx.Writer).SetReadDeadline(time.Now().Add(s.Limits.ReadFor))
		}
	})
	g.GET("/healthz", func(ctx *gin.Context) { ctx.String(http.StatusOK, "ok\n") })
	g.GET("/readyz", func(ctx *gin.Context) {
		bounded, cancel := context.WithTimeout(ctx, readyWithin)
		defer cancel()
		if err := s.Store.Ready(bounded); err != nil {
			problem(ctx, http.StatusServiceUnavailable, "the database does not answer")
			return
		}
		if err := cmp.Or(s.Store.Sound(), s.Engine.Ready()); err != nil {
			problem(ctx, http.StatusServiceUnavailable, err.Error())
			return
		}
		ctx.String(http.StatusOK, "ready\n")
	})
	if s.Metrics != nil {
		g.GET("/metrics", s.permit(route{path: "/metrics", role: "viewer"}), gin.WrapH(s.Metrics))
	}
	for _, r := range routes {
		g.Handle(r.method, prefix+ginPath(r.path), s.permit(r), func(ctx *gin.Context) {
			if r.once() {
				s.atMostOnce(ctx, func() { r.handle(s, ctx) })
				return
			}
			r.handle(s, ctx)
		})
	}
	g.NoRoute(s.console)
	// Requests that change something are refused from other origins: the
	// session is a cookie.
	s.router = http.NewCrossOriginProtection().Handler(g)
	return s
}

// readyWithin is how long the database may take to answer who asks whether we are ready.
const readyWithin = 3 * time.Second

// peer gives the address at the other end of the connection.
func peer(ctx *gin.Context) netip.Addr {
	at, _ := netip.ParseAddrPort(ctx.Request.RemoteAddr)
	return at.Addr().Unmap()
}

// proxied tells whether a request comes from one of the proxies.
func (s *Server) proxied(ctx *gin.Context) bool {
	from := peer(ctx)
	return slices.ContainsFunc(s.Behind, func(p netip.Prefix) bool { return p.Contains(from) })
}

// secure tells whether the request came by TLS: ours, or that of a proxy, which says
// so.
func (s *Server) secure(ctx *gin.Context) bool {
	return s.TLS || ctx.Request.TLS != nil || s.proxied(ctx) && ctx.GetHeader("X-Forwarded-Proto") == "https"
}

// source gives the address that a request comes from, past the proxy; of IPv6 the
// network, since one side has many.
func (s *Server) source(ctx *gin.Context) string {
	at := peer(ctx)
	if s.proxied(ctx) { // it adds whom it heard at the end
		said := strings.Split(strings.Join(ctx.Request.Header.Values("X-Forwarded-For"), ","), ",")
		if client, err := netip.ParseAddr(strings.TrimSpace(said[len(said)-1])); err == nil {
			at = client.Unmap()
		}
	}
	if at.Is6() {
		if network, err := at.Prefix(64); err == nil {
			return network.String()
		}
	}
	return at.String()
}

// longest bounds a request, in bytes: a list of ten thousand hosts is the longest
// that anybody sends.
func longest(path string) int64 {
	if path == prefix+"/hosts" {
		return 16 << 20
	}
	return 2 << 20
}

const prefix = "/api/v1"

// ginPath writes {name} as :name.
func ginPath(p string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(p)
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// Problem is what goes wrong, as RFC 9457 has it.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"` // what happened and what to do
}

func problem(ctx *gin.Context, status int, detail string) {
	ctx.Header("Content-Type", "application/problem+json")
	ctx.AbortWithStatusJSON(status, Problem{"about:blank", http.StatusText(status), status, detail})
}

// invalid marks an error as the caller's.
type invalid struct{ error }

// fail answers with the problem that an error is.
func (s *Server) fail(ctx *gin.Context, err error) {
	var conflict *store.Conflict
	var newer *store.Overtaken
	var missing *store.NotFound
	var permitted *store.NotPermitted
	var bad invalid
	var unfit *store.Unfit
	var wrong *written.Problems // of what was drafted before a rule came
	var large *http.MaxBytesError
	var slow *slowed
	var refused identity.Refusal
	switch {
	case errors.As(err, &slow):
		tooMany(ctx, slow.wait, slow.Error())
	case errors.Is(err, errBusy):
		tooMany(ctx, 2*time.Second, err.Error())
	case errors.As(err, &conflict):
		problem(ctx, http.StatusConflict, conflict.Error())
	case errors.As(err, &newer):
		problem(ctx, http.StatusPreconditionFailed, newer.Error())
	case errors.As(err, &missing):
		problem(ctx, http.StatusNotFound, missing.Error())
	case errors.As(err, &permitted):
		problem(ctx, http.StatusForbidden, permitted.Error())
	case errors.As(err, &large):
		problem(ctx, http.StatusRequestEntityTooLarge, fmt.Sprintf("the request is longer than %d bytes", large.Limit))
	case errors.As(err, &wrong):
		problem(ctx, http.StatusUnprocessableEntity, wrong.Error())
	case errors.As(err, &unfit):
		problem(ctx, http.StatusUnprocessableEntity, unfit.Error())
	case errors.As(err, &bad):
		problem(ctx, http.StatusUnprocessableEntity, bad.Error())
	case store.Unstorable(err):
		problem(ctx, http.StatusUnprocessableEntity, "a text in this request holds a character that cannot be kept")
	case errors.As(err, &refused) && refused == identity.NotReached:
		problem(ctx, http.StatusBadGateway, refused.Error())
	case errors.As(err, &refused) && (refused == identity.NotAsked || refused == identity.NoDevices):
		problem(ctx, http.StatusUnprocessableEntity, refused.Error())
	case errors.As(err, &refused):
		problem(ctx, http.StatusUnauthorized, refused.Error())
	case errors.Is(err, store.ErrSignIn):
		problem(ctx, http.StatusUnauthorized, err.Error())
	case host.RefusalOf(err) != host.None:
		problem(ctx, http.StatusBadGateway, host.Advised(err))
	case store.Transient(err):
		s.Log.Error("a request failed", "path", ctx.FullPath(), "error", err)
		ctx.Header("Retry-After", "2")
		problem(ctx, http.StatusServiceUnavailable, "the database does not answer now; try again in a moment; "+trouble.DatabaseGone.Help())
	default:
		s.Log.Error("a request failed", "path", ctx.FullPath(), "error", err)
		problem(ctx, http.StatusInternalServerError, "the server could not do this; its log has the details")
	}
}

// cookie is the name of the console's session.
const cookie = "wladder_session"

func token(ctx *gin.Context) string {
	if t, ok := strings.CutPrefix(ctx.GetHeader("Authorization"), "Bearer "); ok {
		return t
	}
	t, _ := ctx.Cookie(cookie)
	return t
}

// permit lets in who has the role that the route wants.
func (s *Server) permit(r route) gin.HandlerFunc {
	return func(ctx *gin.Context) {
		if r.role == "" {
			s.limit.allow(ctx, s.source(ctx))
			return
		}
		if token(ctx) == "" && !s.limit.allow(ctx, s.source(ctx)) {
			return
		}
		who, err := s.Store.Who(ctx, token(ctx))
		var missing *store.NotFound
		switch {
		case errors.As(err, &missing):
			if !s.limit.allow(ctx, s.source(ctx)) {
				return
			}
			problem(ctx, http.StatusUnauthorized, "you are not signed in, or your sign-in has ended; sign in again")
		case err != nil:
			s.fail(ctx, err)
		case !slices.ContainsFunc(strings.Split(r.role, " or "), who.Has):
			problem(ctx, http.StatusForbidden, fmt.Sprintf("this needs the role %s; %s has %s", r.role, who.Name, strings.Join(who.Roles, ", ")))
		case who.MustChange && !strings.HasPrefix(r.path, "/session"):
			problem(ctx, http.StatusForbidden, "somebody else knows your password; set one of your own first, with wladder password or on the page People")
		case r.session && who.Kind != "session":
			problem(ctx, http.StatusForbidden, "this needs a person who signed in; a token for programs does not do")
		case !s.limit.allow(ctx, "account "+who.Name):
		default:
			ctx.Set("who", who)
		}
	}
}

func who(ctx *gin.Context) view.Account { return ctx.MustGet("who").(view.Account) }

// console serves the built console; paths that are no file get its page.
func (s *Server) console(ctx *gin.Context) {
	if strings.HasPrefix(ctx.Request.URL.Path, "/api/") || s.Console == nil || ctx.Request.Method != http.MethodGet {
		problem(ctx, http.StatusNotFound, "there is nothing at this address")
		return
	}
	name := strings.TrimPrefix(path.Clean(ctx.Request.URL.Path), "/")
	if info, err := fs.Stat(s.Console, name); err != nil || info.IsDir() {
		name = "index.html"
	}
	if strings.HasPrefix(name, "assets/") {
		ctx.Header("Cache-Control", "public, max-age=31536000, immutable") // their names hold a hash
	} else {
		ctx.Header("Cache-Control", "no-cache")
	}
	if _, err := fs.Stat(s.Console, name+".gz"); err == nil && strings.Contains(ctx.GetHeader("Accept-Encoding"), "gzip") {
		ctx.Header("Content-Encoding", "gzip")
		ctx.Header("Vary", "Accept-Encoding")
		ctx.Header("Content-Type", contentType(name))
		name += ".gz"
	}
	data, err := fs.ReadFile(s.Console, name)
	if err != nil {
		problem(ctx, http.StatusNotFound, "the console is not built into this server; run make build")
		return
	}
	sum := sha256.Sum256(data)
	ctx.Header("ETag", `"`+hex.EncodeToString(sum[:8])+`"`)
	http.ServeContent(ctx.Writer, ctx.Request, path.Base(strings.TrimSuffix(name, ".gz")), time.Time{}, strings.NewReader(string(data)))
}

func contentType(name string) string {
	switch path.Ext(name) {
	case ".js":
		return "text/javascript; charset=utf-8"
	case ".css":
		return "text/css; charset=utf-8"
	case ".html":
		return "text/html; charset=utf-8"
	}
	return "application/octet-stream"
}
