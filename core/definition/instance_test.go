package definition

import (
	"slices"
	"strings"
	"testing"

	"wladder/core/conf"
	"wladder/core/expr"
)

const clusters = `
service: clusters
title: Clusters of a database
where: labels.role == "database"
instances: {unit: "postgresql@*.service"}
packages: [postgresql-common]
unit: postgresql@{instance}.service
files:
  main:
    format: postgresql
    paths: {debian: "/etc/postgresql/{instance:path}/postgresql.conf"}
    versions: [{since: "300", paths: {debian: "/srv/{instance:1}/{instance:2}.conf"}}, {since: "270", paths: {debian: "/opt/{instance}.conf"}}]
acts: [{name: reload, command: [systemctl, reload, "postgresql@{instance}.service"]}]
settings:
  - {address: work_mem, type: size, since: "240", until: "400", synonyms: [sort_mem]}
`

// TestInstances finds instances by what a host has, and gives the definition for each.
func TestInstances(t *testing.T) {
	s, err := Parse("clusters.yaml", []byte(clusters))
	if err != nil {
		t.Fatal(err)
	}
	if w := s.Surveyed(); !slices.Equal(w.Units, []string{"postgresql@*.service", "postgresql@*.service"}) || !slices.Equal(w.And(Wants{}).Units, []string{"postgresql@*.service"}) {
		t.Errorf("a survey looks for %q", w.Units)
	}
	host := func(version string, units ...string) expr.Host {
		return expr.Host{Traits: expr.Traits{Family: "debian", Units: units, Packages: map[string]string{"postgresql-common": version}}}
	}
	for _, c := range []struct {
		units []string
		names string
	}{
		{nil, ""},
		{[]string{"postgresql.service", "nginx.service"}, ""},
		{[]string{"postgresql@15-main.service", "postgresql@15-tide.service", "postgresql@15-main.service"}, "15-main 15-tide"},
		{[]string{"postgresql@..service", "postgresql@a b.service", "postgresql@$(id).service", "postgresql@-x.service", "postgresql@a-.-b.service", "postgresql@a--b.service", "postgresql@../x.service"}, ""},
	} {
		if names := strings.Join(s.On(host("248", c.units...)), " "); names != c.names {
			t.Errorf("%q: instances %q, want %q", c.units, names, c.names)
		}
	}
	for version, want := range map[string]string{
		"": "/etc/postgresql/15/main/postgresql.conf", "248": "/etc/postgresql/15/main/postgresql.conf", "270": "/opt/15-main.conf", "271-1": "/opt/15-main.conf", "1:301": "/srv/15/main.conf",
	} {
		here, err := s.Here(host(version), "15-main")
		if err != nil {
			t.Fatal(err)
		}
		if at := here.Files["main"].Path("debian"); at != want || here.Unit != "postgresql@15-main.service" || here.Acts[0].Commands[0][2] != here.Unit || here.Digest != s.Digest {
			t.Errorf("version %q: %s, %s", version, at, here.Unit)
		}
	}
	if s.Files["main"].Path("debian") != "/etc/postgresql/{instance:path}/postgresql.conf" {
		t.Error("the definition itself was altered")
	}
	paths := Service{Name: "x", Instances: Instances{Paths: "/etc/postgresql/*/*"}}
	if names := paths.On(expr.Host{Traits: expr.Traits{Paths: []string{"/etc/postgresql/15/main", "/etc/postgresql/15/main/conf.d", "/etc/other/15/main"}}}); !slices.Equal(names, []string{"15-main"}) {
		t.Errorf("by paths: %q", names)
	}

	// What one survey did not look for stays known of an earlier one.
	earlier := expr.Traits{Units: []string{"a.service", "postgresql@14-old.service"}, Packages: map[string]string{"nginx": "1", "postgresql-common": "1"}}
	kept := s.Wants().Kept(expr.Traits{Units: []string{"postgresql@15-main.service"}}, earlier)
	if !slices.Equal(kept.Units, []string{"a.service", "postgresql@15-main.service"}) || len(kept.Packages) != 1 || kept.Packages["nginx"] != "1" {
		t.Errorf("kept: %+v", kept)
	}

	// Settings by version, and under other names.
	address, _ := conf.ParseAddress("work_mem")
	other, _ := conf.ParseAddress("sort_mem")
	rule := s.SettingOf("main", other)
	if rule == nil || !rule.OtherName(address, other) || rule.OtherName(address, address) {
		t.Errorf("its other name: %+v", rule)
	}
	for version, want := range map[string]string{"239": "is known since version 240, and this host has 239", "240": "", "399.9": "", "400": "is not known any more since version 400, and this host has 400"} {
		if got := rule.Suits(version); got != want {
			t.Errorf("%s: %q", version, got)
		}
	}
}

// TestWrongInstances says what is wrong about instances and versions, all of it.
func TestWrongInstances(t *testing.T) {
	for _, c := range []struct{ from, to, want string }{
		{`{unit: "postgresql@*.service"}`, `{unit: "postgresql@*.service", label: clusters}`, "instances: want one of label, unit and paths"},
		{`{unit: "postgresql@*.service"}`, `{unit: "postgresql@.service"}`, "want a unit with one *"},
		{`{unit: "postgresql@*.service"}`, `{paths: "etc/*"}`, "want an absolute path with a * in it"},
		{`{unit: "postgresql@*.service"}`, `{paths: "/etc/[a-c]*"}`, "want an absolute path with a * in it"},
		{`{unit: "postgresql@*.service"}`, `{paths: "/home/*/.ssh"}`, "lies outside roots"},
		{`instances: {unit: "postgresql@*.service"}`, ``, "say how instances are found"},
		{`unit: postgresql@{instance}.service`, `unit: postgresql@{instance}`, "is not a unit's name"},
		{`"/opt/{instance}.conf"`, `"opt/{instance}.conf"`, "is not a clean absolute path"},
		{`since: "270"`, `since: ""`, "each wants since and paths"},
		{`packages: [postgresql-common]`, ``, "since and until want packages"},
		{`packages: [postgresql-common]`, `packages: ["-x; id"]`, "is not a package's name"},
		{`until: "400"`, `until: "200"`, "is not before until"},
		{`synonyms: [sort_mem]`, `synonyms: ["["]`, "is not an address"},
	} {
		text := strings.Replace(clusters, c.from, c.to, 1)
		if _, err := Parse("c", []byte(text)); err == nil || text == clusters || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s → %s: %v; want %q", c.from, c.to, err, c.want)
		}
	}
	plain := strings.ReplaceAll(strings.ReplaceAll(clusters, "{instance}", "15-main"), "{instance:path}", "15/main")
	plain = strings.ReplaceAll(strings.ReplaceAll(plain, "{instance:1}", "15"), "{instance:2}", "main")
	if _, err := Parse("c", []byte(plain)); err == nil || !strings.Contains(err.Error(), "nothing speaks of {instance}") {
		t.Errorf("instances of which nothing speaks: %v", err)
	}
}
