package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"wladder/core/change"
	"wladder/core/conf"
	"wladder/core/render"
)

var retouch = command{"retouch", "FILE|DIRECTORY…", "edit local files, shown as a unified diff", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	edits := documentFlags(f)
	from := f.String("edits", "", "`FILE`: a list of edits as in a change, made behind those given as flags")
	like := f.String("like", "", "`FILE`: a copy of the one file that was edited by hand; prints the edits that give it, for -edits")
	format := f.String("format", "", conf.FormatNames()+"; guessed from path and content without it")
	write := f.Bool("write", false, "write the files, not only the diff")
	return func(_ context.Context, t *terminal, args []string) error {
		all := *edits
		if *from != "" {
			text, err := os.ReadFile(*from)
			if err != nil {
				return err
			}
			more, err := change.ParseEdits(*from, text)
			if err != nil {
				return err
			}
			all = append(all, more...)
		}
		switch {
		case *like != "" && (len(all) > 0 || len(args) != 1):
			return usagef("-like wants one file and no edits")
		case *like != "":
			return t.derive(args[0], *like, *format)
		case len(args) == 0 || len(all) == 0:
			return usagef("want -set, -add, -take, -remove, -comment-out, -uncomment, -insert, -move, -replace or -edits, and a file")
		}
		type result struct {
			File        string            `json:"file"`
			Diff        string            `json:"diff"`
			Alterations []conf.Alteration `json:"alterations"`
			Made        []conf.Made       `json:"made"`

			format conf.Format
		}
		var results []result
		var after []*conf.Document
		files, err := t.documents(args, *format)
		if err != nil {
			return err
		}
		byFile, err := shared(files.Documents, all)
		if err != nil {
			return err
		}
		for i, before := range files.Documents { // all of them, or none
			next, err := before.Apply(byFile[i]...)
			if err != nil {
				return err
			}
			after = append(after, next)
			results = append(results, result{before.Name, render.Unified(before.Name, before.Bytes(), next.Bytes()), conf.Compare(before, next), next.Made(), before.Format})
		}
		var shown any = results
		if len(results) == 1 {
			shown = results[0]
		}
		if ok, err := t.show(shown); ok && err != nil {
			return err
		} else if !ok {
			for _, r := range results {
				t.diff(r.Diff)
				for _, m := range r.Made {
					fmt.Fprintf(t.errs, "%s: %s\n", r.File, m.Words())
				}
				for _, a := range r.Alterations {
					if lost := a.CommentLost(r.format); lost != "" {
						fmt.Fprintf(t.errs, "%s: %s: %q goes with the old value; if the program takes it for a comment, say the new value with it\n", r.File, a.Address, lost)
					}
				}
				if len(r.Alterations) == 1 && r.Alterations[0].Kind == "comments" {
					fmt.Fprintf(t.errs, "%s: %s\n", r.File, r.Alterations[0].Words())
				}
			}
		}
		for _, r := range results {
			if info, err := os.Stat(r.File); *write && r.Diff != "" && err == nil && names(info) > 1 {
				return fmt.Errorf("%s: has %d hard links; writing this name would leave the others old, so nothing is written. Make it a file of its own (cp -p to another name, then mv over this one), or a symbolic link", r.File, names(info))
			}
		}
		changed := false
		for i, r := range results {
			if r.Diff == "" {
				continue
			}
			changed = true
			if *write {
				if err := replace(r.File, after[i].Bytes()); err != nil {
					return err
				}
			}
		}
		if !changed {
			fmt.Fprintln(t.errs, "nothing to change")
		}
		return nil
	}
}}

// shared gives each file its edits: all, where there is one file; of several,
// each edit goes to the files that have its address, and makes nothing anew.
func shared(files []*conf.Document, edits []conf.Edit) ([][]conf.Edit, error) {
	byFile := make([][]conf.Edit, len(files))
	if len(files) == 1 {
		return [][]conf.Edit{edits}, nil
	}
	for _, e := range edits {
		found := false
		for i, d := range files {
			if d.Reaches(e) {
				found = true
				byFile[i] = append(byFile[i], e)
			}
		}
		if !found {
			return nil, fmt.Errorf("%s %s: is in none of these %d files; what does not exist is made in a file named alone", e.Do, e.Address, len(files))
		}
	}
	return byFile, nil
}

// derive prints the edits that turn a file into a copy edited by hand.
func (t *terminal) derive(name, like, format string) error {
	before, err := t.parse(name, format)
	t.guesses()
	if err != nil {
		return err
	}
	copied, err := os.ReadFile(like)
	if err != nil {
		return err
	}
	after, err := conf.Parse(like, before.Format, copied)
	if err != nil {
		return err
	}
	edits, err := conf.Derive(before, after)
	if err != nil {
		return err
	}
	if len(edits) == 0 {
		fmt.Fprintln(t.errs, "nothing to change")
		return nil
	}
	text, err := change.WriteEdits(edits)
	if err != nil {
		return err
	}
	fmt.Fprint(t.out, string(text))
	return nil
}

// documentFlags adds a flag per edit within a file; the edits keep the order in
// which they are given.
func documentFlags(f *flag.FlagSet) *[]conf.Edit {
	var edits []conf.Edit
	address := func(name, help string, do conf.Action) {
		f.Func(name, "`ADDRESS`: "+help+"; may be repeated", func(text string) error {
			edits = append(edits, conf.Edit{Do: do, Address: text})
			return nil
		})
	}
	assignment := func(name, form, help string, do conf.Action) {
		f.Func(name, "`"+form+"`: "+help+"; may be repeated", func(text string) error {
			address, value, err := conf.SplitAssignment(text)
			edits = append(edits, conf.Edit{Do: do, Address: address, To: conf.Text(value)})
			return err
		})
	}
	assignment("set", "ADDRESS=VALUE", "give an entry a value", conf.Set)
	assignment("add", "ADDRESS=MEMBER", "put a member into a list", conf.Add)
	assignment("take", "ADDRESS=MEMBER", "take a member out of a list", conf.Take)
	address("remove", "take an entry or block out", conf.Remove)
	address("comment-out", "make comments of an entry or block", conf.CommentOut)
	address("uncomment", "bring an entry or block back that is commented out", conf.Uncomment)

	address("move", "put an entry or block elsewhere in its file; -into, -above or -below says where", conf.Move)

	var find string
	f.Func("insert", "`TEXT`: lines in the file's own syntax; -into, -above or -below says where", func(s string) error {
		edits = append(edits, conf.Edit{Do: conf.Insert, Text: s})
		return nil
	})
	place := func(name, help string, where conf.Place) {
		f.Func(name, "`ADDRESS`: "+help, func(s string) error {
			k := len(edits) - 1
			switch {
			case k >= 0 && edits[k].Do == conf.Insert && edits[k].Where == "":
				edits[k].Address, edits[k].Where = s, where
			case k >= 0 && edits[k].Do == conf.Move && edits[k].Where == "":
				edits[k].Beside, edits[k].Where = s, where
			case k >= 0 && edits[k].Do == conf.Add && edits[k].Where == "" && where != conf.Into:
				edits[k].Beside, edits[k].Where = s, where
			case where == conf.Into:
				return fmt.Errorf("want -insert or -move before it")
			default:
				return fmt.Errorf("want -insert, -move or -add before it")
			}
			return nil
		})
	}
	place("into", "the inserted or moved text becomes the last of this block; '' is the file's global part", conf.Into)
	place("above", "the inserted or moved text goes above this; behind -add, the member before this one", conf.Above)
	place("below", "the inserted or moved text goes below this; behind -add, the member behind this one", conf.Below)
	f.Func("instead-of", "`ADDRESS`: the inserted text takes the place of this", func(s string) error {
		k := len(edits) - 1
		if k < 0 || edits[k].Do != conf.Insert || edits[k].Where != "" {
			return fmt.Errorf("want -insert before it")
		}
		edits[k].Address, edits[k].Where = s, conf.InsteadOf
		return nil
	})
	region := func(e conf.Edit) bool {
		return e.Do == conf.Remove || e.Do == conf.CommentOut || e.Where == conf.InsteadOf
	}
	f.Func("through", "`ADDRESS`: the edit before it, -remove, -comment-out or -instead-of, is of all up to this", func(s string) error {
		if len(edits) == 0 || !region(edits[len(edits)-1]) {
			return fmt.Errorf("want -remove, -comment-out or -instead-of before it")
		}
		edits[len(edits)-1].Through = s
		return nil
	})
	f.BoolFunc("lines", "the edit before it names lines of the file by their text, not addresses", func(string) error {
		if len(edits) == 0 || !region(edits[len(edits)-1]) {
			return fmt.Errorf("want -remove, -comment-out or -instead-of before it")
		}
		edits[len(edits)-1].Lines = true
		return nil
	})
	f.Func("replace", "`TEXT`: exact text to replace, in the format text; -with says by what", func(s string) error {
		find = s
		return nil
	})
	f.Func("with", "`TEXT`: what takes the place of the text that -replace named", func(s string) error {
		if find == "" {
			return fmt.Errorf("want -replace before it")
		}
		edits = append(edits, conf.Edit{Do: conf.Replace, Find: find, To: conf.Text(s)})
		find = ""
		return nil
	})
	last := func(name, help string, apply func(*conf.Edit, string) error) {
		f.Func(name, help, func(s string) error {
			if len(edits) == 0 {
				return fmt.Errorf("want the edit before it")
			}
			return apply(&edits[len(edits)-1], s)
		})
	}
	last("every", "`N`: the edit before it is meant for exactly N places, which stand already, or for MIN..MAX", func(e *conf.Edit, s string) error {
		every, err := change.ParseEvery(s)
		e.Every, e.Spare = every.Most, every.Most-every.Least
		return err
	})
	f.BoolFunc("new-block", "the edit before it, a set, makes the block as well where that does not exist", func(string) error {
		if len(edits) == 0 || edits[len(edits)-1].Do != conf.Set {
			return fmt.Errorf("want -set before it")
		}
		edits[len(edits)-1].NewBlock = true
		return nil
	})
	last("each", "`ITEM`: makes the edit before it for this item, which {each} stands for in it; may be repeated", func(e *conf.Edit, s string) error {
		if !strings.Contains(e.Address+e.To.Text+e.Text, conf.Item) {
			return fmt.Errorf("the edit before it has no {each}")
		}
		e.Each = append(e.Each, s)
		return nil
	})
	return &edits
}

// replace writes beside the file and renames, keeping owner and mode.
func replace(name string, data []byte) error {
	name, err := filepath.EvalSymlinks(name)
	if err != nil {
		return err
	}
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	beside, err := os.CreateTemp(filepath.Dir(name), ".wladder-*")
	if err != nil {
		return err
	}
	defer os.Remove(beside.Name()) // gone already where all went well
	if _, err := beside.Write(data); err != nil {
		return err
	}
	if err := beside.Chmod(info.Mode().Perm()); err != nil {
		return err
	}
	if err := keepOwner(beside, info); err != nil {
		return err
	}
	if err := beside.Sync(); err != nil {
		return err
	}
	if err := beside.Close(); err != nil {
		return err
	}
	return os.Rename(beside.Name(), name)
}
