package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"wladder/store"
)

// onceHeader is the header under which a caller may send a request again without its happening
// twice, as draft-ietf-httpapi-idempotency-key-header has it.
const onceHeader = "Idempotency-Key"

// once tells whether a route takes that header: all that steer do.
func (r route) once() bool {
	return r.method == http.MethodPost && (strings.HasPrefix(r.path, "/changes") || strings.HasPrefix(r.path, "/halts"))
}

// kept is a writer that keeps what is written.
type kept struct {
	gin.ResponseWriter
	body bytes.Buffer
}

func (k *kept) Write(data []byte) (int, error) {
	k.body.Write(data)
	return k.ResponseWriter.Write(data)
}

func (k *kept) WriteString(text string) (int, error) {
	k.body.WriteString(text)
	return k.ResponseWriter.WriteString(text)
}

// atMostOnce carries a request out, or repeats the answer that it had before under the same key.
func (s *Server) atMostOnce(ctx *gin.Context, handle func()) {
	key := ctx.GetHeader(onceHeader)
	if key == "" {
		handle()
		return
	}
	if len(key) > 200 {
		s.fail(ctx, invalid{fmt.Errorf("%s: is longer than 200 bytes", onceHeader)})
		return
	}
	body, err := io.ReadAll(ctx.Request.Body)
	if err != nil {
		s.fail(ctx, invalid{err})
		return
	}
	ctx.Request.Body = io.NopCloser(bytes.NewReader(body))
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%s\n", ctx.Request.Method, ctx.Request.URL.RequestURI())
	h.Write(body)
	account := who(ctx).Name
	was, err := s.Store.Begin(ctx, account, key, h.Sum(nil))
	switch {
	case err != nil:
		s.fail(ctx, err)
		return
	case was != nil:
		ctx.Header("Idempotent-Replayed", "true")
		if len(was.Body) == 0 {
			ctx.Status(was.Status)
			ctx.Writer.WriteHeaderNow()
			return
		}
		ctx.Data(was.Status, was.Kind, was.Body)
		return
	}
	k := &kept{ResponseWriter: ctx.Writer}
	ctx.Writer = k
	ended := false
	defer func() { // a panic ends it too
		answer := store.Answered{Status: http.StatusInternalServerError}
		if ended {
			answer = store.Answered{Status: k.Status(), Kind: k.Header().Get("Content-Type"), Body: k.body.Bytes()}
		}
		if err := s.Store.End(context.WithoutCancel(ctx), account, key, answer); err != nil {
			s.Log.Error("what a request was answered could not be kept", "path", ctx.FullPath(), "error", err)
		}
	}()
	handle()
	ended = true
}
