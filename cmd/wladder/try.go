package main

import (
	"context"
	"fmt"
	"strings"

	"wladder/core/view"
)

// try shows what a definition would find and run on a host.
func (t *terminal) try(ctx context.Context, source []byte, host string) error {
	tried, err := t.client().Try(ctx, source, host)
	if err != nil {
		return err
	}
	if ok, err := t.show(tried); ok {
		return err
	}
	fmt.Fprintf(t.out, "%s on %s, digest %.12s\n", plain(tried.Service), plain(tried.Host), tried.Digest)
	if !tried.Carries {
		fmt.Fprintln(t.out, "its where says that this host does not carry it")
	}
	if tried.Version != "" {
		fmt.Fprintf(t.out, "version %s of the software\n", plain(tried.Version))
	}
	if tried.Why != "" {
		fmt.Fprintln(t.out, plain(tried.Why))
	}
	for _, one := range tried.Instances {
		t.triedInstance(one, tried.ApprovedBy != "")
	}
	if tried.ApprovedBy == "" {
		fmt.Fprintf(t.out, "\nNothing was read, and nothing run. To see settings, checker and probes, load it; another admin then lets it be tried here:\n  wladder services-approve -digest %s -try %s %s\n", tried.Digest, plain(tried.Host), plain(tried.Service))
	} else {
		fmt.Fprintf(t.out, "\n%s lets it be tried here until %s\n", plain(tried.ApprovedBy), when(*tried.Until))
	}
	return nil
}

func (t *terminal) triedInstance(one view.TriedInstance, read bool) {
	if one.Name != "" {
		fmt.Fprintf(t.out, "\ninstance %s, unit %s\n", plain(one.Name), plain(one.Unit))
	} else {
		fmt.Fprintf(t.out, "\nunit %s\n", plain(one.Unit))
	}
	var rows [][]string
	for _, f := range one.Files {
		what := fmt.Sprintf("%s, %s", f.Kind, counted(int(f.Bytes), "byte"))
		switch {
		case f.Outside:
			what = "outside its roots: not looked at"
		case f.Problem != "":
			what = f.Problem
		case f.Missing:
			what = "not there"
		}
		owner := ""
		if f.Owner != "" {
			owner = f.Owner + ":" + f.Group
		}
		rows = append(rows, []string{f.Key, f.Path, what, owner, f.Mode})
	}
	t.table([]string{"FILE", "PATH", "WHAT", "OWNER", "MODE"}, rows)
	rows = nil
	for _, r := range one.Runs {
		rows = append(rows, []string{r.For, strings.Join(r.Words, " ")})
	}
	t.table([]string{"FOR", "WOULD RUN OR ASK"}, rows)
	if !read {
		return
	}
	fmt.Fprintf(t.out, "checker, on the files as they are: %s\n", plain(one.Checker))
	rows = nil
	for _, v := range one.Probes {
		rows = append(rows, []string{v.Probe, map[bool]string{true: "well", false: "not well"}[v.Well], v.Why})
	}
	if rows != nil {
		t.table([]string{"PROBE", "NOW", "WHY"}, rows)
	}
	rows = nil
	for _, s := range one.Settings {
		rows = append(rows, []string{fmt.Sprintf("%s:%d", s.File, s.Line), s.Address, s.Value})
	}
	if rows != nil {
		t.table([]string{"WHERE", "SETTING", "VALUE"}, rows)
	}
}
