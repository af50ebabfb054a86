package probe

import (
	"reflect"
	"strings"
	"testing"
)

func TestParseAsk(t *testing.T) {
	for line, want := range map[string]Ask{
		"http GET :8480/a?b=c host=x.vellmere.example": {Kind: HTTP, Method: "GET", Port: 8480, Path: "/a?b=c", Host: "x.vellmere.example"},
		"http :80":           {Kind: HTTP, Method: "GET", Port: 80, Path: "/"},
		"tcp :22":            {Kind: TCP, Port: 22},
		"unit nginx.service": {Kind: Unit, Name: "nginx.service"},
	} {
		want.With = map[string]string{}
		if got, err := ParseAsk(line); !reflect.DeepEqual(got, want) || err != nil {
			t.Errorf("%s: got %+v, %v", line, got, err)
		}
	}
	for line, want := range map[string]string{
		"http": "want http", "http POST :80/": "change nothing", "tcp :0": "not a port", "tcp 22": "not a port", "ping :1": "not known",
		"unit --all": "not a name", "http GET": "want http", "http :80/ x=y": "not known",
	} {
		if _, err := ParseAsk(line); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: error is %v; want %q", line, err, want)
		}
	}
}

func TestJudge(t *testing.T) {
	page := Probe{Name: "page", Ask: "http :80/", Expect: `status == 200 && !("x-build" in headers) && headers["x-none"] == ""`}
	if v := page.Judge(Later, Answer{Page: Page{Status: 200, Headers: map[string]string{"server": "nginx"}}}); !v.Well {
		t.Errorf("a good answer: %+v", v)
	}
	if v := page.Judge(Later, Answer{Page: Page{Status: 200, Headers: map[string]string{"x-build": "7"}}}); v.Well || !strings.Contains(v.Why, "status 200; want status == 200") {
		t.Errorf("a telling header: %+v", v)
	}
	if v := page.Judge(Later, Answer{Failure: "connection refused"}); v.Well || v.Why != "connection refused" {
		t.Errorf("no answer: %+v", v)
	}
	closed := Probe{Name: "old port is closed", Ask: "tcp :80", Expect: "!connected"}
	if v := closed.Judge(Later, Answer{Failure: "connection refused"}); !v.Well {
		t.Errorf("a port that should be closed: %+v", v)
	}
}

// TestNamesBelongToTheirKind has expectations speak of what a question does not
// answer.
func TestNamesBelongToTheirKind(t *testing.T) {
	for _, c := range []struct{ ask, expect, bad string }{
		{"http :80/", "status == 200", ""}, {"http :80/", "!connected", ""}, {"https :443/", "days_left > 7", ""}, {"http :80/", "days_left > 7", "days_left"},
		{"tcp :80", "status == 200", "status"}, {"unit a.service", `output == ""`, "output"}, {"command c", "exit == 0", ""}, {"http :80/", "statuss == 200", "statuss"},
		{"port 80", "connected", "connected"}, {"http :80/", `["a"].exists(x, x == body)`, ""},
	} {
		err := Probe{Name: "p", Ask: c.ask, Expect: c.expect}.Check()
		if (err != nil) != (c.bad != "") || err != nil && !strings.Contains(err.Error(), c.bad) {
			t.Errorf("%s, expect %s: %v", c.ask, c.expect, err)
		}
	}
	closed := Probe{Name: "closed", Ask: "http :80/", Expect: "!connected"}
	if v := closed.Judge(Later, Answer{Failure: "connection refused"}); !v.Well {
		t.Errorf("a page that should be gone: %+v", v)
	}
	other := Probe{Name: "other", Ask: "http :80/", Expect: "status != 200"}
	if v := other.Judge(Later, Answer{Failure: "connection refused"}); v.Well {
		t.Errorf("no page is not another page: %+v", v)
	}
}
