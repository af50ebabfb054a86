package chaos

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

var plants = flag.Bool("plants", false, "plant faults into the server, one at a time, for a quarter of an hour; else it is seen that each can be planted")

// plant is a fault that the checker has to find: a text of the product's sources, and what stands
// there instead.
type plant struct {
	name, file, text, instead string
	finds                     string  // a part of what the checker says
	also                      []plant // where the same is held twice
}

var planted = []plant{
	{"a guard that is left armed", "core/ladder/run.go", "	case step == Confirm:\n		return Position{Done, \"\"}\n	}\n", "	case step == Confirm || step == Soak:\n		return Position{Done, \"\"}\n	}\n", "guard is still armed", nil},
	{"more at once than the ladder says", "core/ladder/policy.go", "		return min(p.AtOnce, p.Stages[stage].AtOnce)\n	}\n	return p.AtOnce\n", "		return min(p.AtOnce, p.Stages[stage].AtOnce)\n	}\n	return p.AtOnce + 2\n", "at_once is", nil},
	{"pools are not kept", "core/ladder/pick.go", "case pool.Keep == 0 || well > pool.Keep:", "case true:", "are kept", []plant{{file: "engine/kept.go", text: "if well < of.Keep {", instead: "if false {"}}},
	{"stages are not awaited", "store/starts.go", "where climb = $1 and stage = $2 and state = 'queued' and coalesce(not_before, '-infinity') <= now()", "where climb = $1 and stage >= $2 and state = 'queued' and coalesce(not_before, '-infinity') <= now()", "was through", nil},
	{"nothing is put back", "engine/run.go", "undone, err := r.conn.Restore(ctx, r.claim, r.files)", "undone, err := false, error(nil)", "is told restored", nil},
	{"not acted on again", "engine/run.go", "	case ladder.ActAgain:\n		return r.act(ctx, ask)\n", "	case ladder.ActAgain:\n		return done(\"acted on\"), nil\n", "is told restored", nil},
	{"a failed host is left as it is", "core/ladder/run.go", "	case outcome != OK && touched(step):\n		return Position{Restoring, Restore}\n", "	case outcome != OK && touched(step):\n		return Position{PassedOver, \"\"}\n", "is told passed-over", nil},
	{"a look that sees what it hopes", "engine/run.go", "		sight.Act = r.at().mine.Act.Name\n", "		sight.Files, sight.Process = ladder.FilesNew, ladder.ProcessNew\n", "is told", nil},
	{"what is lost counts as done", "engine/run.go", "	case errors.As(err, &lost), errors.As(err, &fired):\n		outcome = ladder.Lost\n", "	case errors.As(err, &lost), errors.As(err, &fired):\n		outcome = ladder.OK\n", "is told", nil},
	{"confirmed though the guard has fired", "engine/run.go", "counted(len(r.paths), \"path\")), r.conn.Confirm(ctx, r.claim, r.files)", "counted(len(r.paths), \"path\")), func() error { r.conn.Confirm(ctx, r.claim, r.files); return nil }()", "is told done", nil},
	{"fences are not compared", "host/scripts/prelude.sh", "	if [ \"$1\" -lt \"$seen\" ]; then\n", "	if [ \"$1\" -lt 0 ]; then\n", "under fence", nil},
	{"the record does not tell of what is done", "store/runs.go", "	told := r.State != c.Run.State\n", "	told := r.State != c.Run.State && r.State != ladder.Done\n", "the record does not tell", nil},
	{"not out of the way", "engine/away.go", "return s.Drain != nil && s.acting.Act.Interrupts()", "return false", "without being out of the way", nil},
	{"out of the way for good", "engine/away.go", "if !s.drains() || len(s.Drain.Readmit) == 0 {", "if true {", "is still out of the way", nil},
}

// TestPlantedFaults plants faults into the server, one at a time, and lets climbs go through
// trouble: the checker finds each.
func TestPlantedFaults(t *testing.T) {
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	for i, p := range planted {
		t.Run(p.name, func(t *testing.T) {
			overlay := map[string]string{}
			for _, one := range append([]plant{p}, p.also...) {
				source := filepath.Join(root, one.file)
				text, err := os.ReadFile(source)
				if err != nil || strings.Count(string(text), one.text) != 1 {
					t.Fatalf("%s does not hold just once what is to be replaced: %v", one.file, err)
				}
				overlay[source] = filepath.Join(t.TempDir(), filepath.Base(source))
				if err := os.WriteFile(overlay[source], []byte(strings.Replace(string(text), one.text, one.instead, 1)), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			if !*plants {
				return
			}
			begun := time.Now()
			wrong, count := through(t, build(t, overlay), 2+i, 12, 240, 5, true)
			for _, what := range wrong {
				if strings.Contains(what, p.finds) {
					t.Logf("found after %d climbs, %s: %s", count.count["climbs"], time.Since(begun).Round(time.Second), what)
					return
				}
			}
			t.Errorf("not found in %d climbs; it found %q", count.count["climbs"], wrong)
		})
	}
}
