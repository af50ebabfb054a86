package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"wladder/core/form"
	"wladder/core/plan"
	"wladder/core/view"
	"wladder/core/written"
)

// KeepForm keeps a form as its next version.
func (s *Store) KeepForm(ctx context.Context, actor, source string, f *form.Form) (v view.Form, err error) {
	err = s.tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `insert into forms (name, version, title, source, names, by) select $1, coalesce(max(version), 0) + 1, $2, $3, $4, $5 from forms where name = $1`, f.Name, f.Title, source, written.Names, actor); err != nil {
			return err
		}
		if v, err = s.form(ctx, tx, f.Name); err != nil {
			return err
		}
		return s.happened(ctx, tx, actor, "form.kept", 0, "form/"+f.Name, map[string]any{"version": v.Version, "digest": plan.DigestOf([]byte(source))})
	})
	return v, err
}

const formColumns = `select distinct on (name) name, version, title, source, names, by, at from forms `

// Forms lists the newest version of each form, by name.
func (s *Store) Forms(ctx context.Context) ([]view.Form, error) {
	all, err := lax[view.Form](ctx, s.pool, formColumns+`order by name, version desc`)
	return orEmpty(all), err
}

// Form gives the newest version of a form.
func (s *Store) Form(ctx context.Context, name string) (view.Form, error) {
	return s.form(ctx, s.pool, name)
}

func (s *Store) form(ctx context.Context, q querier, name string) (view.Form, error) {
	rows, err := lax[view.Form](ctx, q, formColumns+`where name = $1 order by name, version desc`, name)
	if err == nil && len(rows) == 0 {
		err = &NotFound{"form " + name}
	}
	if err != nil {
		return view.Form{}, err
	}
	return rows[0], nil
}
