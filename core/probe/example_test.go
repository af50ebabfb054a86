package probe_test

import (
	"fmt"

	"wladder/core/probe"
)

func Example() {
	p := probe.Probe{Name: "no version", Ask: "http :8080/", Expect: `status == 200 && headers["server"] == "nginx"`}
	v := p.Judge(probe.Later, probe.Answer{Page: probe.Page{Status: 200, Headers: map[string]string{"server": "nginx/1.22"}}})
	fmt.Println(v.Well, v.Why)
	// Output: false status 200; want status == 200 && headers["server"] == "nginx"
}
