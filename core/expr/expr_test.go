package expr

import (
	"strings"
	"testing"
)

func TestHostExpressions(t *testing.T) {
	h := Host{Name: "b1", Labels: map[string]string{"role": "bulletin", "odd": `$(x) "y"`}, Traits: Traits{Family: "debian", Cores: 6, Memory: 8 << 30}}
	for source, want := range map[string]bool{
		`labels.role == "bulletin" && cores >= 4`: true,
		`labels.site == "delta"`:                  false, // a label it has not
		`labels["odd"] == "$(x) \"y\""`:           true,
		`"site" in labels`:                        false,
		`memory > 4 * 1024 * 1024 * 1024`:         true,
		`name.startsWith("b")`:                    true,
	} {
		p, err := Compile(source, HostVars, Bool)
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		if got, err := p.Bool(h.Vars()); got != want || err != nil {
			t.Errorf("%s: got %v, %v; want %v", source, got, err, want)
		}
	}
	p, err := Compile("min(cores * 512, 2048)", HostVars, Scalar)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := p.Scalar(h.Vars()); got != "2048" || err != nil {
		t.Errorf("got %s, %v; want 2048", got, err)
	}
	for source, want := range map[string]string{
		"": "is empty", `cores == "4"`: "column 7", "corse > 1": "undeclared", "cores": "want true or false",
		"cores > ": "column",
	} {
		if _, err := Compile(source, HostVars, Bool); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: error is %v; want %q", source, err, want)
		}
	}
	bomb, err := Compile(strings.Repeat("[1,2,3,4,5,6,7,8,9].all(x, ", 6)+"true"+strings.Repeat(")", 6), HostVars, Bool)
	if err == nil {
		_, err = bomb.Bool(h.Vars())
	}
	if err == nil {
		t.Error("an expression of 9^6 steps was evaluated to the end")
	}
}
