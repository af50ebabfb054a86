package manual_test

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"wladder/manual"
)

func program() manual.Program {
	climb, show := flag.NewFlagSet("climb", flag.ContinueOnError), flag.NewFlagSet("show", flag.ContinueOnError)
	climb.Bool("follow", false, "follow it; it's not over $(touch /nowhere) before `id` 5")
	climb.String("because", "", "the `REASON`: one")
	return manual.Program{
		Name: "gauge", Section: 1, Version: "0.1", Summary: "reads gauges", About: []string{".no request\n'nor this", `a \fBbackslash`},
		Commands: []manual.Command{{"climb", "N", "start what's approved", climb}, {"show", "N", "show it", show}},
		Others:   []manual.Section{{"Exit status", []string{"0: well"}}},
	}
}

func Example() {
	p := program()
	p.Commands = p.Commands[1:]
	p.Bash(os.Stdout)
	// Output:
	// # bash completion for gauge
	// _gauge() {
	// 	local word=${COMP_WORDS[COMP_CWORD]} flags=
	// 	COMPREPLY=()
	// 	if [ "$COMP_CWORD" = 1 ]; then
	// 		COMPREPLY=($(compgen -W 'show help' -- "$word"))
	// 		return
	// 	fi
	// 	case ${COMP_WORDS[1]} in
	// 	help) COMPREPLY=($(compgen -W 'show help' -- "$word")); return ;;
	// 	show) flags='' ;;
	// 	esac
	// 	case $word in
	// 	-*) COMPREPLY=($(compgen -W "$flags" -- "$word")) ;;
	// 	*) compopt -o default 2>/dev/null ;;
	// 	esac
	// }
	// complete -F _gauge gauge
}

// TestCompletions has the real shells complete.
func TestCompletions(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct{ shell, form, script, want string }{
		{"bash", "bash", `. FILE; COMP_WORDS=(gauge cl); COMP_CWORD=1; _gauge; echo "${COMPREPLY[*]}"; COMP_WORDS=(gauge climb -f); COMP_CWORD=2; _gauge; echo "${COMPREPLY[*]}"`, "climb\n-follow\n"},
		{"zsh", "zsh", `compdef() { :; }; _describe() { print -l -- "${(@P)2}"; }; words=(gauge climb -); CURRENT=3; PREFIX=-; . FILE; words=(gauge c); CURRENT=2; _gauge`,
			"-because:the REASON: one\n-follow:follow it; it's not over $(touch /nowhere) before id 5\nclimb:start what's approved\nshow:show it\n"},
	} {
		shell, err := exec.LookPath(c.shell)
		if err != nil {
			t.Logf("SKIPPED: %s is not installed; its completion was not tried", c.shell)
			continue
		}
		file := filepath.Join(dir, c.form)
		out, _ := os.Create(file)
		if known, err := program().Write(out, c.form); !known || err != nil {
			t.Fatal(known, err)
		}
		out.Close()
		said, err := exec.Command(shell, "-c", strings.ReplaceAll(c.script, "FILE", file)).CombinedOutput()
		if err != nil || string(said) != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.shell, err, said, c.want)
		}
	}
}

// TestPage has troff find nothing to complain of, and take nothing of the text for its own.
func TestPage(t *testing.T) {
	groff, err := exec.LookPath("groff")
	if err != nil {
		t.Skip("SKIPPED: groff is not installed; the page was not set")
	}
	var page strings.Builder
	if err := program().Page(&page); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(groff, "-man", "-Tascii", "-ww", "-P-cbou")
	cmd.Stdin = strings.NewReader(page.String())
	var complaints strings.Builder
	cmd.Stderr = &complaints
	set, err := cmd.Output()
	if err != nil || complaints.Len() > 0 {
		t.Errorf("%v: %s", err, complaints.String())
	}
	for _, want := range []string{"gauge - reads gauges", ".no request", "'nor this", `a \fBbackslash`, "-because REASON", "$(touch /nowhere)", "EXIT STATUS"} {
		if !strings.Contains(string(set), want) {
			t.Errorf("it lacks %q:\n%s", want, set)
		}
	}
}
