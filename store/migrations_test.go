package store

import (
	"io/fs"
	"regexp"
	"strings"
	"testing"
)

// contracting fits what takes away or narrows what servers of the version before may use.
var contracting = regexp.MustCompile(`(?i)\b(drop (table|column|function|trigger|schema)|rename (to|column)|alter column \w+ (type|set not null)|add (constraint|primary key)|set not null)\b`)

// TestMigrationsExpand holds migrations so that servers of the version before can work on beside
// a newer one. What nobody uses any more goes with a line that says since when.
func TestMigrationsExpand(t *testing.T) {
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if name < "migrations/00020" { // before servers were upgraded one by one
			continue
		}
		text, err := migrations.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		up, _, _ := strings.Cut(string(text), "-- +goose Down")
		if found := contracting.FindString(up); found != "" && !strings.Contains(up, "-- unused since ") {
			t.Errorf("%s: %q: servers of the version before may use it; add beside it, and take the old away a version later, with a line \"-- unused since VERSION\"", name, found)
		}
	}
	for text, bad := range map[string]bool{
		"alter table hosts add column x int": false, "create index on hosts (x)": false, "alter table hosts drop column x": true, "alter table hosts rename column x to y": true,
		"alter table hosts alter column x set not null": true, "alter table hosts add constraint c check (x > 0)": true, "alter table hosts alter column x type bigint": true,
	} {
		if contracting.MatchString(text) != bad {
			t.Errorf("%s: taken for narrowing: %v", text, !bad)
		}
	}
}
