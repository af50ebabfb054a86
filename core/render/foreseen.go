package render

import (
	"errors"

	"wladder/core/change"
	"wladder/core/expr"
)

// ErrUnread is of what cannot be told of a host before its files are read.
var ErrUnread = errors.New("it asks what stands in the host's files, or for the instance, so that the rehearsal tells")

// Foresee tells, of a host whose files were not read, whether an edit is made there, and which value
// an edit whose value is not written out comes to: "secret NAME" of a secret, empty of all others.
func Foresee(spec *change.Spec, e change.Edit, host expr.Host) (value string, made bool, err error) {
	needs, err := unread(expr.Bool, e.Where)
	if err == nil {
		var more bool
		more, err = unread(expr.Scalar, e.Compute, e.By)
		needs = needs || more
	}
	var values map[string]string
	if err == nil && needs {
		values, err = foreseen(spec, host)
	}
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
		value, err = secretOnHost(e, vars)
		value = "secret " + value
	}
	return value, true, err
}

// unread errs where an expression cannot be told without the host's files, and says whether any asks
// for the change's named values. Empty ones ask for nothing.
func unread(kind expr.Kind, sources ...string) (values bool, err error) {
	for _, source := range sources {
		if source == "" {
			continue
		}
		program, err := expr.Compile(source, expr.EditVars, kind)
		if err != nil {
			return false, err
		}
		if program.Uses("present") || program.Uses("instance") {
			return false, ErrUnread
		}
		values = values || program.Uses("values")
	}
	return values, nil
}

// foreseen computes the change's named values on a host whose files were not read.
func foreseen(spec *change.Spec, host expr.Host) (map[string]string, error) {
	for _, v := range spec.Values {
		if _, err := unread(expr.Scalar, v.Compute, v.By); err != nil {
			return nil, err
		}
	}
	values, findings := named(spec, func(string) *known { return &known{host: host} })
	if len(findings) > 0 {
		return nil, errors.New(findings[0].Text)
	}
	return values, nil
}
