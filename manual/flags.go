package manual

import (
	"flag"
	"fmt"
	"io"
	"regexp"
	"strings"

	"wladder/core/written"
)

// option is a flag as it is told.
type option struct {
	name, value, about string
	usual              string // its value by default, where that says something
}

// options gives the flags of a command as they are told, by name.
func (c Command) options() (all []option) {
	c.Flags.VisitAll(func(f *flag.Flag) {
		value, about := flag.UnquoteUsage(f)
		o := option{name: f.Name, value: value, about: strings.TrimPrefix(about, value+": "), usual: f.DefValue}
		switch value {
		case "string":
			o.value = "TEXT"
		case "int":
			o.value = "N"
		}
		switch f.DefValue {
		case "false", "0", "0s":
			o.usual = ""
		}
		all = append(all, o)
	})
	return all
}

// told is what an option is for, with its default.
func (o option) told() string {
	if o.usual == "" {
		return o.about
	}
	return fmt.Sprintf("%s (by default %s)", o.about, o.usual)
}

// Help writes what a command of a program does, and its flags, for a terminal of that width. wrap
// breaks text into lines.
func (c Command) Help(w io.Writer, program string, width int, wrap func(text string, width int) []string) {
	fmt.Fprintf(w, "%s\n%s\n\n", strings.TrimSpace(program+" "+c.Name+" [flags] "+c.Operands), strings.Join(wrap(capital(c.Summary)+".", width), "\n"))
	for _, o := range c.options() {
		fmt.Fprintf(w, "  %s\n      %s\n", strings.TrimSpace("-"+o.name+" "+o.value), strings.Join(wrap(o.told(), width-6), "\n      "))
	}
}

// What package flag says of a wrong flag.
var (
	notDefined = regexp.MustCompile(`^flag provided but not defined: -(.*)$`)
	noValue    = regexp.MustCompile(`^flag needs an argument: -(.*)$`)
	badValue   = regexp.MustCompile(`(?s)^invalid value "(.*)" for flag -([^ :]+): (.*)$`)
	badBoolean = regexp.MustCompile(`(?s)^invalid boolean value "(.*)" for -([^ :]+): (.*)$`)
)

// Mistake says plainly what package flag found wrong with the flags of a call.
func (c Command) Mistake(err error) error {
	text := err.Error()
	if m := notDefined.FindStringSubmatch(text); m != nil {
		var names []string
		c.Flags.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
		if near := written.Nearest(m[1], names); near != "" {
			return fmt.Errorf("-%s is not one of its flags, -%s is", m[1], near)
		}
		return fmt.Errorf("-%s is not one of its flags", m[1])
	}
	option := func(name string) option {
		for _, o := range c.options() {
			if o.name == name {
				return o
			}
		}
		return option{name: name}
	}
	if m := noValue.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("-%s wants a value behind it: %s", m[1], strings.TrimSpace("-"+m[1]+" "+option(m[1]).value))
	}
	m := badBoolean.FindStringSubmatch(text)
	if m != nil && m[3] == "parse error" {
		return fmt.Errorf("-%s=%s: want -%s alone, or -%s=false", m[2], m[1], m[2], m[2])
	}
	if m == nil {
		m = badValue.FindStringSubmatch(text)
	}
	switch {
	case m == nil:
		return err
	case m[3] == "parse error" && option(m[2]).value == "duration":
		return fmt.Errorf("-%s %s: want a length of time such as 15s, 10m or 720h", m[2], m[1])
	case m[3] == "parse error":
		return fmt.Errorf("-%s %s: want a whole number", m[2], m[1])
	case m[3] == "value out of range":
		return fmt.Errorf("-%s %s: the number is too large", m[2], m[1])
	}
	return fmt.Errorf("-%s %s: %s", m[2], m[1], m[3])
}
