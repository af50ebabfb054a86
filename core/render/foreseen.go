package render

import (
	"cmp"
	"errors"

	"wladder/core/change"
	"wladder/core/expr"
)

// ErrUnread is of what cannot be told of a host before its files are read.
var ErrUnread = errors.New("it asks what stands in the host's files, or for the instance, so that the rehearsal tells")

// Foresee tells, of a host whose files were not read, whether an edit is made there, and which value
// an edit whose value is not written out comes to: "secret NAME" of a secret, empty of all others.
func Foresee(spec *change.Spec, e change.Edit, host expr.Host) (value string, made bool, err error) {
	for _, source := range []string{e.Where, e.Compute, e.By} {
		if source == "" {
			continue
		}
		if err := readable(source); err != nil {
			return "", false, err
		}
	}
	values, err := foreseen(spec, e, host)
	if err != nil {
		return "", false, err
	}
	vars := (&known{host: host}).vars(values)
	if e.Where != "" {
		if made, err = expr.Holds(e.Where, expr.EditVars, vars); err != nil || !made {
			return "", false, err
		}
	}
	switch {
	case e.Compute != "":
		value, err = scalar(e.Compute, vars)
	case e.Values != nil:
		var s change.Scalar
		s, err = onHost(e.Table, vars)
		value = s.Joined()
	case e.Secret != "":
		value = "secret " + e.Secret
	case e.Secrets != nil:
		key, failed := scalar(e.By, vars)
		name, there := e.Secrets[key]
		if !there && e.Otherwise != nil {
			name, there = e.Otherwise.Text, true
		}
		if err = failed; err == nil && !there {
			err = errors.New("the table of secrets has nothing for " + key + ", and no otherwise")
		}
		value = "secret " + name
	}
	return value, true, err
}

// readable errs where an expression cannot be told without the host's files.
func readable(source string) error {
	var program *expr.Program
	var err error
	for _, kind := range []expr.Kind{expr.Scalar, expr.Bool} {
		if program, err = expr.Compile(source, expr.EditVars, kind); err == nil {
			break
		}
	}
	if err != nil {
		return err
	}
	if program.Uses("present") || program.Uses("instance") {
		return ErrUnread
	}
	return nil
}

// foreseen computes those of the change's values that an edit's expressions may speak of.
func foreseen(spec *change.Spec, e change.Edit, host expr.Host) (map[string]string, error) {
	values := map[string]string{}
	if e.Compute+e.By+e.Where == "" {
		return values, nil
	}
	for _, v := range spec.Values {
		if source := cmp.Or(v.Compute, v.By); source != "" {
			if err := readable(source); err != nil {
				return nil, err
			}
		}
	}
	values, findings := named(spec, func(string) *known { return &known{host: host} })
	if len(findings) > 0 {
		return nil, errors.New(findings[0].Text)
	}
	return values, nil
}
