package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"wladder/core/plan"
)

// Edited is how a path stands that a roll-back was to put back, and that somebody edited since.
type Edited struct {
	Path   string       `json:"path"`
	Stands plan.CopyRef `json:"stands"` // by its sum; its content stays on the host
}

// hostOverwritten is the entry of a person who has the old files put over what somebody edited.
const hostOverwritten = "host.overwritten"

// overwriting is its body, beside what every order on a host says.
type overwriting struct {
	Run    int64  `json:"run"`
	Edited string `json:"edited"` // fingerprint of what is overwritten
}

func editedName(run int64) string { return fmt.Sprintf("edits on host run %d", run) }

func (s *Store) sealEdited(run int64, edited []Edited) ([]byte, error) {
	if len(edited) == 0 {
		return nil, nil
	}
	data, err := json.Marshal(edited)
	return s.key().pack(editedName(run), data), err
}

// editsOn says which edits a person was shown on a host run, with their fingerprint.
func (s *Store) editsOn(run int64, sealed []byte) (edited []Edited, print string, err error) {
	data, err := s.unpack(editedName(run), sealed)
	if err == nil {
		err = json.Unmarshal(data, &edited)
	}
	return edited, s.fingerprint("edits", run, string(data)), err
}

// Overwrite has a roll-back put the old files of one host over what somebody edited since, as it
// was found there and shown. The host keeps the edit in the run's snapshot, and what is edited
// once more meanwhile is asked about again.
func (s *Store) Overwrite(ctx context.Context, actor string, changeID int64, host, because string) error {
	return s.steerHost(ctx, actor, changeID, host, because, hostOverwritten, func(tx pgx.Tx, _ climbRow, run steeredRun, told map[string]any) error {
		if !run.waits() {
			return conflict("%s does not wait for that: only a host that was to be rolled back, and whose file somebody edited since, is overwritten", host)
		}
		_, print, err := s.editsOn(run.ID, run.Edited)
		if err != nil {
			return err
		}
		told["run"], told["edited"] = run.ID, print
		return queuedAgain(ctx, tx, run.ID, run.Stage, "over what somebody edited, by "+actor+": "+because)
	})
}

// Overwritten says over which edits a person has a host run put the old files, as the record tells;
// over none where nobody said so, or something else stands there by now.
func (s *Store) Overwritten(ctx context.Context, c *Claimed) ([]Edited, error) {
	sealed, err := one[struct{ Edited []byte }](ctx, s.pool, "host run", `select edited from host_runs where id = $1`, c.ID)
	if err != nil || sealed.Edited == nil {
		return nil, err
	}
	edited, print, err := s.editsOn(c.ID, sealed.Edited)
	if err != nil {
		return nil, err
	}
	said, err := s.entriesOf(ctx, s.pool, `change = $1 and kind = $2 and subject = $3`, ``, ``, c.Change, hostOverwritten, "host/"+c.Host)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(said, func(e sealedEntry) bool {
		var o overwriting
		return json.Unmarshal(e.Body, &o) == nil && o == overwriting{c.ID, print}
	}) {
		return edited, nil
	}
	return nil, nil
}
