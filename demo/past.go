package demo

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"wladder/client"
	"wladder/core/ladder"
	"wladder/core/view"
)

// As signs a person in.
func (o *Office) As(ctx context.Context, name string) (*client.Client, error) {
	out, err := client.New(o.URL, "").SignIn(ctx, view.SignIn{Name: name, Password: Password, Kind: "session", Label: "demo"})
	return client.New(o.URL, out.Token), err
}

// Set loads hosts and definitions.
func (o *Office) Set(ctx context.Context) error {
	ada, err := o.As(ctx, "ada")
	if err != nil {
		return err
	}
	ben, err := o.As(ctx, "ben")
	if err != nil {
		return err
	}
	if _, err := ada.LoadHosts(ctx, o.Load); err != nil {
		return err
	}
	if _, err := ada.Survey(ctx, ""); err != nil {
		return err
	}
	for _, name := range Services {
		s, err := ada.LoadService(ctx, File("services/"+name+".yaml"))
		if err != nil {
			return err
		}
		if err := ben.ApproveService(ctx, name, s.Digest); err != nil {
			return err
		}
	}
	return nil
}

// PastChange is a change of the scenario, and how far it comes: rehearsed, offered
// or climbed.
type PastChange struct{ File, UpTo string }

// PastChanges are those of the stand-in hosts.
var PastChanges = []PastChange{
	{"1-version", "climbed"}, {"2-poll", "climbed"}, {"3-tries", "climbed"}, {"4-tiles", "climbed"}, {"5-connections", "offered"}, {"6-range", "rehearsed"}, {"7-token", "offered"}, {"8-readings", "offered"},
}

// Past makes changes, whose texts fit alters first, and brings each to where it
// stands when people come.
func (o *Office) Past(ctx context.Context, changes []PastChange, fit *strings.Replacer) error {
	if err := o.Set(ctx); err != nil {
		return err
	}
	ines, err := o.As(ctx, "ines")
	if err != nil {
		return err
	}
	oda, err := o.As(ctx, "oda")
	if err != nil {
		return err
	}
	ada, err := o.As(ctx, "ada")
	if err != nil {
		return err
	}
	if _, err := ada.PutSecret(ctx, "upload-token", UploadToken, &view.Binding{Services: []string{"gauge-intake"}, Hosts: `labels.role == "gauge"`}); err != nil {
		return err
	}
	for _, c := range changes {
		id, d, err := Rehearsed(ctx, ines, []byte(fit.Replace(string(File("changes/"+c.File+".yaml")))))
		if err != nil {
			return fmt.Errorf("%s: %w", c.File, err)
		}
		if c.UpTo == "rehearsed" {
			continue
		}
		if err := ines.Offer(ctx, id); err != nil {
			return fmt.Errorf("%s: %w", c.File, err)
		}
		if c.UpTo == "offered" {
			continue
		}
		if err := oda.Approve(ctx, id, d.Rehearsal.Digest); err != nil {
			return err
		}
		if c.File == "4-tiles" { // somebody is quicker than the climb
			h := o.Hosts["bulletin-coast-04"]
			data, _ := h.Files.Read("/etc/nginx/nginx.conf")
			h.Files.Write("/etc/nginx/nginx.conf", append([]byte("# tam: watching the error log here tonight\n"), data...))
		}
		if err := Climbed(ctx, ines, id); err != nil {
			return err
		}
	}
	return nil
}

// Rehearsed drafts a change and rehearses it to the end.
func Rehearsed(ctx context.Context, author *client.Client, text []byte) (id int64, d view.ChangeDetail, err error) {
	if id, err = author.Draft(ctx, 0, text); err != nil {
		return id, d, err
	}
	if err := author.Rehearse(ctx, id); err != nil {
		return id, d, err
	}
	d, err = Until(ctx, author, id, func(d view.ChangeDetail) bool { return d.Rehearsal != nil && d.Rehearsal.EndedAt != nil })
	return id, d, err
}

// Climbed lets a change climb until it ends, pauses or waits.
func Climbed(ctx context.Context, operator *client.Client, id int64) error {
	if err := operator.Climb(ctx, id); err != nil {
		return err
	}
	_, err := Until(ctx, operator, id, func(d view.ChangeDetail) bool { return d.Climb.State != ladder.Running })
	return err
}

// Until waits for a change to be as wanted.
func Until(ctx context.Context, c *client.Client, id int64, f func(view.ChangeDetail) bool) (d view.ChangeDetail, err error) {
	enough := errors.New("enough")
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	err = c.Follow(ctx, id, func(client.Event) error {
		if d, err = c.Change(ctx, id); err != nil {
			return err
		}
		if f(d) {
			return enough
		}
		return nil
	})
	if errors.Is(err, enough) {
		err = nil
	}
	return d, err
}
