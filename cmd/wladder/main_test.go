package main

import (
	"flag"
	"io"
	"strings"
	"testing"
)

func TestFlagsStandBeforeAndBehindOperands(t *testing.T) {
	for args, want := range map[string]string{
		"-because x 5":       "5|x|false",
		"5 -because x":       "5|x|false",
		"5 -json -because x": "5|x|true",
		"a -because x b":     "a b|x|false",
		"- -json":            "-||true",
		"5 -- -because x":    "5 -because x||false",
		"-json -- -a":        "-a||true",
		"":                   "||false",
		"5 -becuse x":        "flag provided but not defined: -becuse",
		"5 -because":         "flag needs an argument: -because",
	} {
		flags := flag.NewFlagSet("stop", flag.ContinueOnError)
		flags.SetOutput(io.Discard)
		because, json := flags.String("because", "", ""), flags.Bool("json", false, "")
		operands, err := parsed(flags, strings.Fields(args))
		got := strings.Join(operands, " ") + "|" + *because + "|" + map[bool]string{true: "true", false: "false"}[*json]
		if err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%q: %q; want %q", args, got, want)
		}
	}
}
