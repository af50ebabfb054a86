package main

import (
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"wladder/core/view"
)

// TestMetrics climbs and reads what the server counts: it is told to those who may look alone, and
// each figure of ours stands in docs/metrics.md and the other way round.
func TestMetrics(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 36, 2)
	id := w.climb(`labels.role == "bulletin"`, 2, "{stages: [{hosts: all}], soak: 100ms}")
	w.until(id, ended)
	get := func(path, token string) (int, string) {
		t.Helper()
		request, _ := http.NewRequest("GET", w.url+path, nil)
		if token != "" {
			request.Header.Set("Authorization", "Bearer "+token)
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		text, _ := io.ReadAll(response.Body)
		return response.StatusCode, string(text)
	}
	if status, _ := get("/metrics", ""); status != 401 {
		t.Errorf("without a sign-in: %d", status)
	}
	w.as("ines")
	status, text := get("/metrics", w.tokens["ines"])
	if status != 200 || !strings.Contains(text, `wladder_steps_total{outcome="done",step="confirm"} 2`) || !strings.Contains(text, "wladder_servers 1") || !strings.Contains(text, "wladder_database_up 1") {
		t.Errorf("%d: %s", status, text)
	}
	documented, err := os.ReadFile("../../docs/metrics.md")
	if err != nil {
		t.Fatal(err)
	}
	names := func(pattern, of string) (all []string) {
		for _, m := range regexp.MustCompile(pattern).FindAllStringSubmatch(of, -1) {
			all = append(all, m[1])
		}
		slices.Sort(all)
		return slices.Compact(all)
	}
	told, listed := names(`(?m)^# TYPE (wladder_\w+)`, text), names("`(wladder_\\w+)`", string(documented))
	for _, name := range []string{"wladder_host_runs", "wladder_climbs", "wladder_receiver_waiting"} { // nothing of theirs goes on
		told = append(told, name)
	}
	slices.Sort(told)
	if told = slices.Compact(told); !slices.Equal(told, listed) {
		t.Errorf("it tells %v, and docs/metrics.md lists %v", told, listed)
	}
	if status, text := get("/readyz", ""); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	// Whoever keeps the database from answering has it say so.
	if _, err := w.db.Exec(t.Context(), `alter table servers rename to away`); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		status, text := get("/readyz", "")
		if status == 503 && (strings.Contains(text, "no work") || strings.Contains(text, "other servers")) {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d %s", status, text)
		}
	}
	if _, err := w.db.Exec(t.Context(), `alter table away rename to servers`); err != nil {
		t.Fatal(err)
	}
	w.until(id, func(view.ChangeDetail) bool { status, _ := get("/readyz", ""); return status == 200 })
}
