package api

import (
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/time/rate"

	"wladder/core/cache"
)

// Limits says how much one side may ask, so that nobody keeps the server from
// the others. A short burst is always let through.
type Limits struct {
	Requests       rate.Limit // a second, of one account or, before it is known, one address
	RequestBurst   int
	Streams        int           // event streams at once, of one account
	SignIns        time.Duration // after the burst, one failed sign-in in so long: of one account, and of one address
	SignInBurst    int
	PasswordsAtAll int           // passwords checked at once, of all together
	ReadFor        time.Duration // a request's body
}

// DefaultLimits suit a team with its programs.
var DefaultLimits = Limits{Requests: 100, RequestBurst: 400, Streams: 20, SignIns: 20 * time.Second, SignInBurst: 10, PasswordsAtAll: 8, ReadFor: 30 * time.Second}

// maxKept is how many sides are remembered at once.
const maxKept = 20_000

// limiter counts what the sides ask.
type limiter struct {
	Limits
	requests  *cache.Cache[string, *rate.Limiter]
	failures  *cache.Cache[string, *rate.Limiter] // of signing in
	known     *cache.Cache[string, bool]          // account and address that have signed in
	passwords chan struct{}

	mu      sync.Mutex
	streams map[string]int
}

func newLimiter(l Limits) *limiter {
	return &limiter{Limits: l, requests: cache.New[string, *rate.Limiter](maxKept), failures: cache.New[string, *rate.Limiter](maxKept), known: cache.New[string, bool](maxKept),
		passwords: make(chan struct{}, l.PasswordsAtAll), streams: map[string]int{}}
}

// bucket gives the limiter of a side.
func bucket(kept *cache.Cache[string, *rate.Limiter], key string, limit rate.Limit, burst int) *rate.Limiter {
	if l, ok := kept.Get(key); ok {
		return l
	}
	l := rate.NewLimiter(limit, burst)
	kept.Put(key, l)
	return l
}

// tooMany answers that a side asks too much (RFC 6585), and when to come again.
func tooMany(ctx *gin.Context, after time.Duration, what string) {
	seconds := max(1, int(math.Ceil(after.Seconds())))
	ctx.Header("Retry-After", strconv.Itoa(seconds))
	problem(ctx, http.StatusTooManyRequests, fmt.Sprintf("%s; try again in %d s", what, seconds))
}

// allow takes one request of a side, or answers that there are too many.
func (l *limiter) allow(ctx *gin.Context, side string) bool {
	r := bucket(l.requests, side, l.Requests, l.RequestBurst).Reserve()
	if wait := r.Delay(); wait > 0 {
		r.Cancel()
		tooMany(ctx, wait, "too many requests from here")
		return false
	}
	return true
}

// stream counts an event stream of an account until done is called.
func (l *limiter) stream(ctx *gin.Context, account string) (done func(), ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.streams[account] >= l.Streams {
		tooMany(ctx, 10*time.Second, fmt.Sprintf("%s follows %d streams of events already; end one of them", account, l.Streams))
		return nil, false
	}
	l.streams[account]++
	return func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.streams[account]--; l.streams[account] <= 0 {
			delete(l.streams, account)
		}
	}, true
}

// errBusy tells that too many passwords are being checked.
var errBusy = errors.New("too many people sign in just now")

// attempt runs a check of a password, slowed by what failed before: of the address,
// and of the account unless it has signed in from this address. So nobody who
// guesses keeps a person out.
func (l *limiter) attempt(ctx *gin.Context, at, account string, check func() error) error {
	sides := []string{"address " + at}
	if known, _ := l.known.Get(account + " " + at); !known {
		sides = append(sides, "account "+account)
	}
	every := rate.Every(l.SignIns)
	for _, side := range sides {
		if b := bucket(l.failures, side, every, l.SignInBurst); b.Tokens() < 1 {
			return &slowed{time.Duration((1 - b.Tokens()) * float64(l.SignIns))}
		}
	}
	select {
	case l.passwords <- struct{}{}:
		defer func() { <-l.passwords }()
	case <-time.After(5 * time.Second):
		return errBusy
	case <-ctx.Request.Context().Done():
		return ctx.Request.Context().Err()
	}
	err := check()
	if err != nil {
		for _, side := range sides {
			bucket(l.failures, side, every, l.SignInBurst).Allow()
		}
		return err
	}
	l.known.Put(account+" "+at, true)
	return nil
}

// slowed tells that a sign-in is not even tried yet.
type slowed struct{ wait time.Duration }

func (s *slowed) Error() string { return "too many sign-ins have failed" }
