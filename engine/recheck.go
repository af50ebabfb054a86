package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wladder/core/ladder"
	"wladder/core/plan"
	"wladder/core/render"
	"wladder/host"
	"wladder/store"
)

// recheck reads the run's paths: they have to stand as they did at the rehearsal, or, on the way
// back, as we placed them.
func (r *hostRun) recheck(ctx context.Context) (result, error) {
	var paths []string
	for _, f := range r.paths {
		at := f.Path
		if f.Base.Sum != "" || f.Candidate.Kind == plan.Made && f.Base.Kind != plan.Regular {
			at = host.Closed + at
		}
		paths = append(paths, at)
	}
	found, err := r.conn.Collect(ctx, paths)
	if err != nil {
		return result{}, err
	}
	var wrong []string
	var edits []store.Edited
	for i, f := range found {
		leaf := r.paths[i]
		now := f.Copy()
		if leaf.Resolved == leaf.Path {
			now = f.Itself()
		}
		if text := r.barred(leaf, f); text != "" {
			wrong = append(wrong, f.Path+" "+text)
		} else if text := r.otherwise(ctx, leaf, f, now); text != "" {
			wrong = append(wrong, f.Path+" "+text)
			edits = append(edits, store.Edited{Path: leaf.Path, Stands: summed(now)})
		}
	}
	if len(wrong) == 0 {
		return done("%s as expected", counted(len(found), "path")), nil
	}
	switch {
	case r.RollsBack && len(edits) == len(wrong):
		r.edits = edits
		wrong = append(wrong, "nothing is trampled. A person decides: overwrite puts the old files over this, give-up leaves it so")
	case r.Returns:
		wrong = append(wrong, "nothing is trampled. Leave it so, or take by hand what is to go; nobody comes back to it")
	}
	return result{outcome: ladder.Overtaken, note: strings.Join(wrong, "; ")}, nil
}

// summed gives a copy by its sum alone: its content stays on the host.
func summed(c plan.Copy) plan.CopyRef {
	if c.Kind == plan.Regular && c.Sum == "" {
		c.Sum = host.Hash(c.Content)
	}
	return c.Ref(nil)
}

// barred says why a path cannot be replaced, whatever stands there.
func (r *hostRun) barred(leaf plan.LeafFile, f render.Found) string {
	if f.Resolved != leaf.Resolved && leaf.Resolved != leaf.Path || len(leaf.Links) > 0 && !slices.Equal(f.Links, leaf.Links) {
		return "leads to " + f.Resolved + " now; at the rehearsal it led to " + leaf.Resolved
	}
	if text := render.Blocked(f, leaf.Despite); text != "" && leaf.Base != leaf.Candidate {
		return "cannot be replaced now: " + text
	}
	return ""
}

// otherwise says how a path stands that is not as it was at the rehearsal, or as we left it.
func (r *hostRun) otherwise(ctx context.Context, leaf plan.LeafFile, f render.Found, now plan.Copy) string {
	was, since, then := leaf.Base, "since the rehearsal", "at the rehearsal it was"
	if r.Returns {
		since, then = "since we placed it", "we left it as"
	}
	switch {
	case now.Kind == plan.Absent && was.Kind != plan.Absent:
		return "is gone " + since
	case now.Kind != was.Kind:
		return fmt.Sprintf("is %s now; %s %s", now.Kind, then, was.Kind)
	case now.Target != was.Target || was.Kind == plan.Regular && (was.Sum == "" && r.Store.ContentID(now.Content) != was.Content || now.Sum != was.Sum):
		if r.Returns {
			return r.by(ctx, leaf, now) + r.edited(ctx, leaf, f)
		}
		return "was edited " + since + "; rehearse again to see what it says now"
	case was.Kind == plan.Regular && (now.Owner != was.Owner || now.Group != was.Group || now.Mode != was.Mode):
		return fmt.Sprintf("has owner %s, group %s, mode %s now; %s %s, %s, %s", now.Owner, now.Group, now.Mode, then, was.Owner, was.Group, was.Mode)
	}
	return ""
}

// by says whose what stands at a path is by now, instead of what we placed.
func (r *hostRun) by(ctx context.Context, leaf plan.LeafFile, now plan.Copy) string {
	placed, err := r.Store.Placed(ctx, []int64{r.HostID})
	if stood, known := placed[r.HostID][leaf.Resolved]; err == nil && known && stood.Change != r.Change && stood.Is(now.Ref(r.Store.ContentID)) {
		return fmt.Sprintf("was changed since we placed it, by change %d, which would be lost with it", stood.Change)
	}
	return "was edited since we placed it"
}

// edited shows what stands at a path beside what we placed there, by the lines that differ;
// secrets are covered. It is empty where one of them is not text of ours to read.
func (r *hostRun) edited(ctx context.Context, leaf plan.LeafFile, f render.Found) string {
	if leaf.Base.Kind != plan.Regular || leaf.Base.Sum != "" || f.Content == nil {
		return ""
	}
	placed, err := r.Store.Content(ctx, leaf.Base.Content)
	if err != nil {
		return ""
	}
	return differing(r.redactor, r.judges[leaf.Path], leaf.Path, leaf.Format, placed, f.Content)
}
