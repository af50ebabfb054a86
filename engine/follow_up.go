package engine

import (
	"context"
	"fmt"
	"slices"

	"github.com/goccy/go-yaml"

	"wladder/core/change"
	"wladder/core/view"
	"wladder/store"
)

// FollowUp drafts a change with the same edits for the hosts that fit where and are not done
// with a change: those added since, not reached at its rehearsal, or changed meanwhile. It has
// a digest and an approval of its own.
func (e *Engine) FollowUp(ctx context.Context, actor string, changeID int64, because string) (int64, error) {
	d, err := e.Store.Change(ctx, changeID)
	if err != nil {
		return 0, err
	}
	if d.Climb == nil || d.State == change.Climbing || d.State == change.Countered {
		return 0, &store.Conflict{What: fmt.Sprintf("change %d is %s; a follow-up brings the edits of a change that has climbed to other hosts", changeID, d.State)}
	}
	spec, err := change.Stored(fmt.Sprintf("change %d", changeID), d.Names, []byte(d.Source))
	if err != nil {
		return 0, err
	}
	if spec.Prolongs != 0 {
		return 0, &store.Conflict{What: fmt.Sprintf("change %d prolongs change %d; follow that one up", changeID, spec.Prolongs)}
	}
	hosts, err := e.match(ctx, spec.Where)
	if err != nil {
		return 0, err
	}
	done, err := e.Store.DoneSince(ctx, changeID)
	if err != nil {
		return 0, err
	}
	left := slices.DeleteFunc(hosts, func(h view.Host) bool { return slices.Contains(done, h.ID) })
	if len(left) == 0 {
		return 0, &store.Conflict{What: fmt.Sprintf("every host where %s is done with change %d", spec.Where, changeID)}
	}
	text, err := followUp([]byte(d.Source), changeID, len(left), because)
	if err != nil {
		return 0, err
	}
	again, err := change.Parse("follow-up", text)
	if err == nil {
		err = e.Literals(ctx, again)
	}
	if err != nil {
		return 0, &store.Conflict{What: fmt.Sprintf("change %d cannot be followed up as it is written: %v. Draft one with follows: %d by hand", changeID, err, changeID)}
	}
	return e.Store.Draft(ctx, actor, 0, again)
}

// followUp writes the change anew, with what is different in a follow-up.
func followUp(source []byte, changeID int64, hosts int, because string) ([]byte, error) {
	var all yaml.MapSlice
	if err := yaml.Unmarshal(source, &all); err != nil {
		return nil, err
	}
	put := func(key string, value any) {
		for i := range all {
			if all[i].Key == key {
				all[i].Value = value
				return
			}
		}
		all = append(all, yaml.MapItem{Key: key, Value: value})
	}
	put("follows", changeID)
	put("count", fmt.Sprintf("1..%d", hosts))
	if because != "" {
		put("reason", because)
	}
	return yaml.Marshal(all)
}
