package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"

	"wladder/core/change"
	"wladder/core/conf"
)

var retouch = command{"retouch", "FILE", "edit a local file, shown as a unified diff", func(f *flag.FlagSet) func(context.Context, *terminal, []string) error {
	var edits []conf.Edit // in the order given
	f.Func("set", "`ADDRESS=VALUE`: give an entry a value; may be repeated", func(text string) error {
		address, value, err := conf.SplitAssignment(text)
		edits = append(edits, conf.Edit{Do: conf.Set, Address: address, To: conf.Text(value)})
		return err
	})
	f.Func("remove", "`ADDRESS`: take an entry or block out; may be repeated", func(text string) error {
		edits = append(edits, conf.Edit{Do: conf.Remove, Address: text})
		return nil
	})
	f.Func("comment-out", "`ADDRESS`: put a comment mark before an entry or block; may be repeated", func(text string) error {
		edits = append(edits, conf.Edit{Do: conf.CommentOut, Address: text})
		return nil
	})
	var find string
	f.Func("replace", "`TEXT`: exact text to replace, in the format text; -with says by what", func(text string) error {
		find = text
		return nil
	})
	f.Func("with", "`TEXT`: what takes the place of the text that -replace named", func(text string) error {
		if find == "" {
			return fmt.Errorf("want -replace before it")
		}
		edits = append(edits, conf.Edit{Do: conf.Replace, Find: find, To: conf.Text(text)})
		find = ""
		return nil
	})
	format := f.String("format", "", conf.FormatNames()+"; guessed from the path without it")
	write := f.Bool("write", false, "write the file, not only the diff")
	return func(_ context.Context, t *terminal, args []string) error {
		if len(args) != 1 || len(edits) == 0 {
			return usagef("want -set, -remove, -comment-out or -replace, and one file")
		}
		before, err := t.parse(args[0], *format)
		if err != nil {
			return err
		}
		after, err := before.Apply(edits...)
		if err != nil {
			return err
		}
		text := change.Unified(args[0], before.Bytes(), after.Bytes())
		if ok, err := t.show(map[string]any{"file": args[0], "diff": text, "alterations": conf.Compare(before, after)}); ok && err != nil {
			return err
		} else if !ok {
			t.diff(text)
		}
		if text == "" {
			fmt.Fprintln(t.errs, "nothing to change")
			return nil
		}
		if *write {
			return replace(args[0], after.Bytes())
		}
		return nil
	}
}}

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
