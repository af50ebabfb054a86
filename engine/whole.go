package engine

import (
	"context"
	"fmt"
	"strings"

	"wladder/core/plan"
	"wladder/core/render"
	"wladder/core/secret"
	"wladder/core/view"
)

// Whole shows the files of one host as its leaf has them, before and after, with all of their
// lines: what a reviewer opens who does not trust the few lines of a diff. Secrets are covered
// as they are in diffs.
func (e *Engine) Whole(ctx context.Context, head plan.Head, leaf plan.Leaf) (view.WholeFiles, error) {
	out := view.WholeFiles{Host: leaf.Host, Files: []view.WholeFile{}}
	redactor := &secret.Redactor{}
	secrets, err := e.Store.SecretVersions(ctx, head.Secrets)
	if err != nil {
		return out, err
	}
	for _, v := range secrets {
		redactor.Add(v)
	}
	type text struct {
		path, why string
		masked    [2][]byte // before and after
	}
	var all []text
	for _, mine := range leaf.Parts {
		if mine.Part < 0 || mine.Part >= len(head.Parts) {
			return out, fmt.Errorf("the plan has %d services; the host's part speaks of number %d", len(head.Parts), mine.Part+1)
		}
		part := head.Parts[mine.Part]
		svc, err := e.service(ctx, part.Service, part.ServiceDigest)
		if err != nil {
			return out, err
		}
		for _, f := range mine.Files {
			one := text{path: f.Path}
			judge := svc.Secrets(f.Key)
			for i, ref := range []plan.CopyRef{f.Base, f.Candidate} {
				c, err := e.copy(ctx, ref)
				if err != nil {
					return out, err
				}
				one.masked[i], _, _ = masked(redactor, judge, f.Path, f.Format, c.Content)
				switch {
				case c.Sum != "" || c.Kind == plan.Made && c.Content == nil:
					one.why = "its content stays on the host"
				case c.Kind == plan.Symlink:
					one.why = "a link to " + c.Target
				}
			}
			all = append(all, one)
		}
	}
	for _, one := range all { // all secrets of the host are known by now
		file := view.WholeFile{Path: secret.Legible(one.path), Why: redactor.Clean(one.why)}
		if one.why == "" {
			var b strings.Builder
			for line := range strings.Lines(render.Whole(file.Path, one.masked[0], one.masked[1])) {
				b.WriteString(redactor.Clean(line))
			}
			if file.Diff = b.String(); len(file.Diff) > maxDiff {
				file.Why = fmt.Sprintf("it is too long to be shown whole: %d KiB", len(file.Diff)>>10)
				file.Diff = ""
			}
		}
		out.Files = append(out.Files, file)
	}
	return out, nil
}
