package main

import (
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	otlp "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"wladder/core/ladder"
	"wladder/core/view"
	"wladder/standin"
)

// collector takes traces as one does, but refuses the first ones.
type collector struct {
	sync.Mutex
	refuses int
	spans   map[string]*otlp.Span // by trace and span, so that what comes twice is one
	raw     strings.Builder
}

func (c *collector) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.Lock()
	defer c.Unlock()
	body, _ := io.ReadAll(r.Body)
	var all otlp.TracesData
	if err := proto.Unmarshal(body, &all); err != nil || r.URL.Path != "/v1/traces" || r.Header.Get("Content-Type") != "application/x-protobuf" {
		http.Error(w, "no", 400)
		return
	}
	if c.refuses > 0 {
		c.refuses--
		http.Error(w, "not now", 503)
		return
	}
	c.raw.Write(body)
	for _, of := range all.ResourceSpans {
		for _, scope := range of.ScopeSpans {
			for _, s := range scope.Spans {
				c.spans[hex.EncodeToString(s.TraceId)+hex.EncodeToString(s.SpanId)] = s
			}
		}
	}
}

// below lists the names of spans with a parent, in order of their begin.
func (c *collector) below(parent *otlp.Span) (all []*otlp.Span) {
	for _, s := range c.spans {
		if string(s.TraceId) == string(parent.TraceId) && string(s.ParentSpanId) == string(parent.SpanId) {
			all = append(all, s)
		}
	}
	slices.SortFunc(all, func(a, b *otlp.Span) int { return int(int64(a.StartTimeUnixNano) - int64(b.StartTimeUnixNano)) })
	return all
}

// named waits for a span of that name.
func (c *collector) named(t *testing.T, name string) *otlp.Span {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		c.Lock()
		for _, s := range c.spans {
			if s.Name == name {
				c.Unlock()
				return s
			}
		}
		c.Unlock()
		if time.Now().After(deadline) {
			t.Fatalf("no span is called %s", name)
		}
	}
}

// TestTraces climbs through a killed server, has a host fail, and takes the change back: each climb is
// one trace with each host's steps, whoever did them.
func TestTraces(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 47, 3)
	c := &collector{refuses: 2, spans: map[string]*otlp.Span{}}
	there := httptest.NewServer(c)
	t.Cleanup(there.Close)
	w.kill()
	w.env = []string{"WLADDERD_TRACES_TO=" + there.URL}
	w.start()
	reached := w.stopAt("b00", ladder.Act, "begin")
	id := w.climb("true", 3, "{stages: [{hosts: all}], soak: 200ms, pause_after: 2}", func() { w.hosts[2].Script(&standin.Fault{Do: standin.AnswerWrongly, When: "worker_connections 1024"}) })
	reached()
	w.kill()
	w.goOn()
	w.start()
	w.until(id, func(d view.ChangeDetail) bool { return d.Climb != nil && d.Climb.EndedAt != nil })
	root := c.named(t, fmt.Sprintf("climb of change %d", id))
	if len(root.ParentSpanId) != 0 || root.Status.GetCode() != otlp.Status_STATUS_CODE_ERROR {
		t.Errorf("the climb's span: %+v", root)
	}
	attributes := func(s *otlp.Span) string {
		var all []string
		for _, a := range s.Attributes {
			all = append(all, a.Key+"="+a.Value.String())
		}
		return strings.Join(all, " ")
	}
	if got := attributes(root); !strings.Contains(got, "wladder.hosts=int_value:3") || !strings.Contains(got, "wladder.hosts.not_done=int_value:1") || !strings.Contains(got, `string_value:"pages"`) {
		t.Errorf("the climb's attributes: %s", got)
	}
	var ways []string
	for _, way := range c.below(root) {
		host, _, _ := strings.Cut(way.Name, " ")
		ways = append(ways, fmt.Sprint(way.Name, way.Status.GetCode() == otlp.Status_STATUS_CODE_ERROR))
		if way.StartTimeUnixNano < root.StartTimeUnixNano || way.EndTimeUnixNano > root.EndTimeUnixNano {
			t.Errorf("%s reaches beyond the climb", way.Name)
		}
		run := w.run(id, host)
		var want, got []string
		for _, s := range run.Steps {
			if back := slices.Contains(ladder.Back, s.Step); back == strings.HasSuffix(way.Name, "back") {
				want = append(want, string(s.Step)+" "+string(s.Outcome))
			}
		}
		for _, s := range c.below(way) {
			outcome := ""
			for _, a := range s.Attributes {
				if a.Key == "wladder.outcome" {
					outcome = a.Value.GetStringValue()
				}
			}
			got = append(got, s.Name+" "+outcome)
			if s.StartTimeUnixNano < way.StartTimeUnixNano || s.EndTimeUnixNano > way.EndTimeUnixNano || (s.Status.GetCode() == otlp.Status_STATUS_CODE_ERROR) != (outcome != "done") {
				t.Errorf("%s of %s reaches beyond it, or its status is wrong", s.Name, way.Name)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s has the steps\n%v; the record of the run has\n%v", way.Name, got, want)
		}
	}
	slices.Sort(ways)
	if want := []string{"b00 forwardfalse", "b01 forwardfalse", "b02 backfalse", "b02 forwardtrue"}; !slices.Equal(ways, want) {
		t.Errorf("below the climb: %v; want %v", ways, want)
	}
	for _, text := range []string{"worker_connections", "1024", "status", "500", confPath} { // values, notes and reasons stay here
		if strings.Contains(c.raw.String(), text) {
			t.Errorf("a trace holds %q", text)
		}
	}
	if err := w.as("oda").Order(t.Context(), id, ladder.RollBack, "a test"); err != nil {
		t.Fatal(err)
	}
	back := c.named(t, fmt.Sprintf("way back of change %d", id))
	if all := c.below(back); len(all) != 2 || all[0].Name != "b00 back" && all[1].Name != "b00 back" || string(back.TraceId) == string(root.TraceId) || back.Status.GetCode() == otlp.Status_STATUS_CODE_ERROR {
		t.Errorf("the way back: %+v, below it %+v", back, all)
	}
	told, err := w.as("ada").Receivers(t.Context())
	if err != nil || len(told) != 1 || told[0].Name != "traces" || told[0].Lost != 0 {
		t.Errorf("receivers: %+v, %v", told, err)
	}
}
