// Package manual writes what a packaged program brings along from the list of its commands: the
// manual page (man(7)) and completions for bash and zsh.
//
//	manual.Program{Name: "wladder", Section: 1, …}.Page(os.Stdout)
package manual

import (
	"flag"
	"fmt"
	"io"
	"strings"
)

// Program is what is told of one program.
type Program struct {
	Name     string
	Section  int // of the manual: 1 for everybody, 8 for who keeps the machine
	Version  string
	Summary  string    // a line, without a stop
	About    []string  // paragraphs
	Commands []Command // in the order of the page
	Others   []Section
}

// Command is one subcommand.
type Command struct {
	Name, Operands, Summary string
	Flags                   *flag.FlagSet
}

// Section is a further heading of the page, with its paragraphs.
type Section struct {
	Title string
	Text  []string
}

// Page writes the manual page.
func (p Program) Page(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, ".TH %s %d \"\" \"Wide Ladder %s\" \"Wide Ladder\"\n.SH NAME\n%s \\- %s\n", strings.ToUpper(p.Name), p.Section, text(p.Version), text(p.Name), text(p.Summary))
	fmt.Fprintf(&b, ".SH SYNOPSIS\n.B %s\n.I COMMAND\n[flags] [operands]\n.SH DESCRIPTION\n", text(p.Name))
	paragraphs(&b, p.About)
	b.WriteString(".SH COMMANDS\n")
	for _, c := range p.Commands {
		fmt.Fprintf(&b, ".SS %s\n%s.\n", text(strings.TrimSpace(p.Name+" "+c.Name+" "+c.Operands)), text(capital(c.Summary)))
		for _, o := range c.options() {
			fmt.Fprintf(&b, ".TP\n.B \\-%s", text(o.name))
			if o.value != "" {
				fmt.Fprintf(&b, " \\fI%s\\fR", text(o.value))
			}
			fmt.Fprintf(&b, "\n%s\n", text(o.told()))
		}
	}
	for _, s := range p.Others {
		fmt.Fprintf(&b, ".SH %s\n", text(strings.ToUpper(s.Title)))
		paragraphs(&b, s.Text)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func paragraphs(b *strings.Builder, all []string) {
	for i, one := range all {
		if i > 0 {
			b.WriteString(".PP\n")
		}
		b.WriteString(text(one) + "\n")
	}
}

// text keeps troff from reading requests and escapes in it, and a hyphen from becoming another
// character.
func text(s string) string {
	lines := strings.Split(strings.NewReplacer(`\`, `\e`, "-", `\-`, "…", "...").Replace(s), "\n")
	for i, line := range lines {
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			lines[i] = `\&` + line
		}
	}
	return strings.Join(lines, "\n")
}

func capital(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// names gives a command's flags, each with its hyphen.
func (c Command) names() (all []string) {
	c.Flags.VisitAll(func(f *flag.Flag) { all = append(all, "-"+f.Name) })
	return all
}

// Bash writes a completion for bash: commands, then their flags, else files.
func (p Program) Bash(w io.Writer) error {
	var commands []string
	var b strings.Builder
	for _, c := range p.Commands {
		commands = append(commands, c.Name)
	}
	fmt.Fprintf(&b, `# bash completion for %[1]s
_%[1]s() {
	local word=${COMP_WORDS[COMP_CWORD]} flags=
	COMPREPLY=()
	if [ "$COMP_CWORD" = 1 ]; then
		COMPREPLY=($(compgen -W '%[2]s' -- "$word"))
		return
	fi
	case ${COMP_WORDS[1]} in
	help) COMPREPLY=($(compgen -W '%[2]s' -- "$word")); return ;;
`, p.Name, strings.Join(append(commands, "help"), " "))
	for _, c := range p.Commands {
		fmt.Fprintf(&b, "	%s) flags='%s' ;;\n", c.Name, strings.Join(c.names(), " "))
	}
	fmt.Fprintf(&b, `	esac
	case $word in
	-*) COMPREPLY=($(compgen -W "$flags" -- "$word")) ;;
	*) compopt -o default 2>/dev/null ;;
	esac
}
complete -F _%[1]s %[1]s
`, p.Name)
	_, err := io.WriteString(w, b.String())
	return err
}

// Zsh writes a completion for zsh: commands with what they do, then their flags with theirs, else
// files.
func (p Program) Zsh(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "#compdef %[1]s\n_%[1]s() {\n\tlocal -a commands flags\n\tcommands=(\n", p.Name)
	for _, c := range p.Commands {
		fmt.Fprintf(&b, "\t\t%s\n", described(c.Name, c.Summary))
	}
	b.WriteString("\t)\n\tif (( CURRENT == 2 )); then\n\t\t_describe command commands\n\t\treturn\n\tfi\n\tcase $words[2] in\n\thelp) _describe command commands; return ;;\n")
	for _, c := range p.Commands {
		fmt.Fprintf(&b, "\t%s) flags=(\n", c.Name)
		c.Flags.VisitAll(func(f *flag.Flag) {
			value, about := flag.UnquoteUsage(f)
			fmt.Fprintf(&b, "\t\t%s\n", described("-"+f.Name, strings.TrimPrefix(about, value+": ")))
		})
		b.WriteString("\t\t) ;;\n")
	}
	fmt.Fprintf(&b, "\tesac\n\tif [[ $PREFIX == -* ]]; then\n\t\t_describe flag flags\n\telse\n\t\t_files\n\tfi\n}\n_%[1]s \"$@\"\n", p.Name)
	_, err := io.WriteString(w, b.String())
	return err
}

// described is an entry of zsh's _describe, quoted: a word, a colon, what it is.
func described(word, about string) string {
	about = strings.Join(strings.Fields(about), " ")
	return "'" + strings.ReplaceAll(strings.ReplaceAll(word, ":", `\:`)+":"+about, "'", `'\''`) + "'"
}

// Write writes one of page, bash and zsh; it tells whether there is such a form.
func (p Program) Write(w io.Writer, form string) (known bool, err error) {
	switch form {
	case "", "page":
		return true, p.Page(w)
	case "bash":
		return true, p.Bash(w)
	case "zsh":
		return true, p.Zsh(w)
	}
	return false, nil
}
