package store

import (
	"fmt"
	"strings"
	"testing"

	"wladder/core/view"
)

// TestHostsByLabel picks hosts by a part of the name and by labels, page by page.
func TestHostsByLabel(t *testing.T) {
	s := open(t)
	var load []view.Host
	for n := range 25 {
		load = append(load, view.Host{Name: fmt.Sprintf("h%02d", n), Address: "127.0.0.1:1", Login: "root", Labels: map[string]string{"role": []string{"gauge", "entry"}[n%2], "site": []string{"delta", "coast", "100%"}[n%3]}})
	}
	if _, err := s.LoadHosts(t.Context(), "ada", load); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		filter HostFilter
		want   string
	}{
		{HostFilter{Limit: 3}, "h00 h01 h02"},
		{HostFilter{After: "h22", Limit: 9}, "h23 h24"},
		{HostFilter{Name: "1", Limit: 4}, "h01 h10 h11 h12"},
		{HostFilter{Name: "%", Limit: 4}, ""},
		{HostFilter{Labels: map[string]string{"role": "entry", "site": "100%"}, Limit: 9}, "h05 h11 h17 h23"},
		{HostFilter{Labels: map[string]string{"role": "entry", "site": "100%"}, After: "h05", Name: "1", Limit: 9}, "h11 h17"},
		{HostFilter{Labels: map[string]string{"role": ""}, Limit: 9}, ""},
	} {
		found, err := s.HostList(t.Context(), c.filter)
		var names []string
		for _, h := range found {
			names = append(names, h.Name)
		}
		if got := strings.Join(names, " "); err != nil || got != c.want {
			t.Errorf("%+v: %s, %v; want %s", c.filter, got, err, c.want)
		}
	}
	labels, err := s.Labels(t.Context())
	if got := fmt.Sprint(labels); err != nil || got != "[{role [{gauge 13} {entry 12}]} {site [{delta 9} {100% 8} {coast 8}]}]" {
		t.Errorf("labels: %s, %v", got, err)
	}
}
