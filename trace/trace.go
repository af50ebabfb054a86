// Package trace tells of climbs as OpenTelemetry traces, by OTLP over HTTP.
//
//	go trace.Run(ctx, log, store, "http://127.0.0.1:4318")
//
// A climb is one trace: a span for it, below it one for each host's way forward and way back, below
// those one for each step. They are made of what the database holds once a host's part has ended, so
// that a trace is whole although servers come and go within a climb; the record's place for the
// receiver "traces" says how far was told. What is told twice has the same identifiers. Values, notes
// and reasons stay here.
package trace

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"wladder/core/ladder"
	"wladder/store"
	"wladder/version"
)

// receiver is what the place in the record is called, beside the receivers of notices.
const receiver = "traces"

// kinds are the entries that end a part of a climb.
var kinds = []string{"climb.completed", "climb.stopped", "host.done", "host.passed-over", "host.restored", "host.stranded"}

// every is how often it is looked for what has ended.
const every = time.Second

// Run tells of climbs until the context ends.
func Run(ctx context.Context, log *slog.Logger, st *store.Store, to string) {
	u, err := url.Parse(to)
	if err != nil {
		log.Error("traces are not sent", "error", err)
		return
	}
	if strings.Trim(u.Path, "/") == "" { // the specification's path
		u.Path = "/v1/traces"
	}
	out := otlptrace.NewUnstarted(post{u.String()})
	known := false
	for tick := time.NewTicker(every); ; {
		if !known {
			known = st.AddReceiver(ctx, receiver, u.Scheme+"://"+u.Host, kinds) == nil
		}
		for known && tell(ctx, log, st, out) {
		}
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
	}
}

// tell sends what one entry ended, and says whether it did.
func tell(ctx context.Context, log *slog.Logger, st *store.Store, out *otlptrace.Exporter) bool {
	n, err := st.NextNotice(ctx, receiver)
	if err != nil || n == nil {
		return false
	}
	spans, err := ended(ctx, st, n)
	var gone *store.NotFound
	if errors.As(err, &gone) {
		err = nil // its steps have been kept for long enough
	}
	if err == nil && len(spans) > 0 {
		err = out.ExportSpans(ctx, spans)
	}
	why := ""
	if err != nil {
		why = err.Error()
		log.Warn("a trace was not sent; it is tried again", "seq", n.Seq, "error", err)
	}
	return st.Noticed(ctx, receiver, n.Seq, why) == nil && why == ""
}

// ended gives the spans of what an entry of the record ended.
func ended(ctx context.Context, st *store.Store, n *store.Notice) ([]sdk.ReadOnlySpan, error) {
	host, isHost := strings.CutPrefix(n.Subject, "host/")
	if !isHost {
		host = ""
	}
	c, r, err := st.Traced(ctx, n.Change, host, n.At)
	if err != nil {
		return nil, err
	}
	var kept spans
	from := sdk.NewTracerProvider(sdk.WithIDGenerator(given{}), sdk.WithSpanProcessor(&kept), sdk.WithSampler(sdk.AlwaysSample()),
		sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", "wladderd"), attribute.String("service.version", version.Number())))).Tracer("wladder/trace")
	if r == nil {
		climb(ctx, from, c)
	} else {
		run(ctx, from, c, *r)
	}
	return kept.all, nil
}

func climb(ctx context.Context, from trace.Tracer, c store.TracedClimb) {
	until := c.StartedAt
	for _, at := range []*time.Time{c.All.LastAt, c.EndedAt} {
		if at != nil && at.After(until) {
			until = *at
		}
	}
	name := fmt.Sprintf("climb of change %d", c.Change)
	if c.RollsBack {
		name = fmt.Sprintf("way back of change %d", c.Change)
	}
	_, s := from.Start(named(ctx, traceOf(c), spanID(traceOf(c), "climb")), name, trace.WithNewRoot(), trace.WithTimestamp(c.StartedAt), trace.WithAttributes(about(c)...), trace.WithAttributes(
		attribute.String("wladder.started_by", c.StartedBy), attribute.String("wladder.state", string(c.State)), attribute.Int("wladder.hosts", c.All.Hosts), attribute.Int("wladder.hosts.not_done", c.All.Not)))
	if c.State == ladder.Stopped || c.All.Not > 0 && !c.RollsBack {
		s.SetStatus(codes.Error, fmt.Sprintf("%d of %d hosts did not end done", c.All.Not, c.All.Hosts))
	}
	s.End(trace.WithTimestamp(until))
}

// run makes the spans of a host's way forward and of its way back, as far as there are steps of it.
func run(ctx context.Context, from trace.Tracer, c store.TracedClimb, r store.TracedRun) {
	ctx = trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{TraceID: traceOf(c), SpanID: spanID(traceOf(c), "climb"), TraceFlags: trace.FlagsSampled}))
	var forward, back []store.TracedStep
	for _, s := range r.Steps {
		if slices.Contains(ladder.Back, s.Step) || len(back) > 0 {
			back = append(back, s)
		} else {
			forward = append(forward, s)
		}
	}
	there, again := "forward", "back"
	if c.RollsBack { // it goes to the old files
		there, again = "back", "forward again"
	}
	for _, way := range []struct {
		name  string
		steps []store.TracedStep
		well  bool
	}{{there, forward, r.State == ladder.Done || len(back) > 0 && wentWell(forward)}, {again, back, r.State == ladder.Restored}} {
		if len(way.steps) == 0 {
			continue
		}
		first, last := way.steps[0].BegunAt, way.steps[0].EndedAt
		for _, s := range way.steps {
			if s.EndedAt.After(last) {
				last = s.EndedAt
			}
		}
		under, span := from.Start(named(ctx, traceOf(c), spanID(traceOf(c), way.name, r.ID)), r.Host+" "+way.name, trace.WithTimestamp(first), trace.WithAttributes(about(c)...), trace.WithAttributes(
			attribute.String("host.name", r.Host), attribute.Int("wladder.stage", r.Stage+1), attribute.String("wladder.state", string(r.State))))
		if !way.well {
			span.SetStatus(codes.Error, string(r.State))
		}
		for _, s := range way.steps {
			_, step := from.Start(named(under, traceOf(c), spanID(traceOf(c), string(s.Step), r.ID, int64(s.N))), string(s.Step), trace.WithTimestamp(s.BegunAt), trace.WithAttributes(
				attribute.String("host.name", r.Host), attribute.String("wladder.outcome", string(s.Outcome)), attribute.Int64("wladder.fence", s.Fence)))
			if s.Outcome != ladder.OK {
				step.SetStatus(codes.Error, string(s.Outcome))
			}
			step.End(trace.WithTimestamp(s.EndedAt))
		}
		span.End(trace.WithTimestamp(last))
	}
}

func wentWell(steps []store.TracedStep) bool {
	return !slices.ContainsFunc(steps, func(s store.TracedStep) bool { return s.Outcome != ladder.OK })
}

// about is what each span says of its climb.
func about(c store.TracedClimb) []attribute.KeyValue {
	return []attribute.KeyValue{attribute.Int64("wladder.change", c.Change), attribute.String("wladder.digest", c.Digest), attribute.StringSlice("wladder.services", c.Services)}
}

// traceOf names the trace of a climb: one name, whoever asks.
func traceOf(c store.TracedClimb) (id trace.TraceID) {
	sum := sha256.Sum256(fmt.Appendf(nil, "climb %d %s %d", c.ID, c.Digest, c.StartedAt.UnixMicro()))
	copy(id[:], sum[:])
	return id
}

// spanID names a span within a trace.
func spanID(t trace.TraceID, what string, numbers ...int64) (id trace.SpanID) {
	text := append(t[:], what...)
	for _, n := range numbers {
		text = binary.BigEndian.AppendUint64(text, uint64(n))
	}
	sum := sha256.Sum256(text)
	copy(id[:], sum[:])
	return id
}

// name is what the next span of a context is to be called.
type name struct{}

type names struct {
	trace trace.TraceID
	span  trace.SpanID
}

func named(ctx context.Context, t trace.TraceID, s trace.SpanID) context.Context {
	return context.WithValue(ctx, name{}, names{t, s})
}

// given gives spans the identifiers that their context names.
type given struct{}

func (given) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	n := ctx.Value(name{}).(names)
	return n.trace, n.span
}

func (given) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	return ctx.Value(name{}).(names).span
}

// spans keeps what has ended, to be sent in one go.
type spans struct {
	mu  sync.Mutex
	all []sdk.ReadOnlySpan
}

func (s *spans) OnStart(context.Context, sdk.ReadWriteSpan) {}
func (s *spans) OnEnd(one sdk.ReadOnlySpan) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, one)
}
func (s *spans) Shutdown(context.Context) error   { return nil }
func (s *spans) ForceFlush(context.Context) error { return nil }
