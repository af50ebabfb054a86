package conf

import (
	"strings"
	"testing"
)

func TestReplaceExactText(t *testing.T) {
	const text = "<Engine a=\"1\">\r\n<!-- <Engine a=\"1\" b=\"2\"> -->\r\nport\r\nport"
	doc, err := Parse("server.xml", Plain, []byte(text))
	if err != nil || string(doc.Bytes()) != text {
		t.Fatalf("%q, %v", doc.Bytes(), err)
	}
	for _, c := range []struct {
		find, with string
		every      int
		want       string // the text, or what the error says
	}{
		{"<Engine a=\"1\">", "<Engine a=\"2\">", 0, strings.Replace(text, `a="1">`, `a="2">`, 1)},
		{"port", "$1 \\0 %s", 2, strings.ReplaceAll(text, "port", "$1 \\0 %s")},
		{"port", "x", 0, "stands here 2 times; want exactly 1"},
		{"port\n", "x", 0, "stands here 0 times"},
		{"", "x", 0, "is empty"},
		{"Engine", "\x00", 2, "NUL"},
	} {
		next, err := doc.Apply(Edit{Do: Replace, Find: c.find, To: Text(c.with), Every: c.every})
		if err != nil && !strings.Contains(err.Error(), c.want) || err == nil && string(next.Bytes()) != c.want {
			t.Errorf("%q by %q: got %v; want %q", c.find, c.with, err, c.want)
		}
	}
	if _, err := doc.Apply(Edit{Do: Set, Address: "a", To: Text("1")}); err == nil || !strings.Contains(err.Error(), "no addresses") {
		t.Errorf("setting in text: %v", err)
	}
	ini, _ := Parse("x.ini", INI, []byte("a = 1\n"))
	if _, err := ini.Apply(Edit{Do: Replace, Find: "1", To: Text("2")}); err == nil || !strings.Contains(err.Error(), "by its address") {
		t.Errorf("replacing in ini: %v", err)
	}
}
